//! The documents of an image on its new base: everything else stays as it was.

use super::bases::NewBase;
use super::is_replaced;
use content::BlobDigest;
use content::image::{Descriptor, History, Index, Manifest, media, to_json};
use content::store::Store;
use model::{PackageFact, Result, RuntimeInUse, labels};
use std::collections::BTreeMap;
use workshop::inspect::OpenImage;
use workshop::record::{BuiltOn, LayerRecord, Record, StepRecord};

/// The variable with the folders of programs.
const PATH: &str = "PATH";

/// The record of an image on its new base.
pub(super) fn record(image: &OpenImage, new: &NewBase) -> Record {
    let old = &image.record;
    // By role, what is new below what stays.
    let of_base = new.layers_for(old).into_iter();
    let of_base = of_base.map(|layer| (layer.record.clone(), layer.packages.clone()));
    let kept = old.layers.iter().enumerate().filter(|(_, layer)| !is_replaced(old, layer));
    let kept = kept.map(|(number, layer)| {
        let packages = old.packages.iter().filter(|package| package.layer == Some(number)).cloned();
        (layer.clone(), packages.collect())
    });
    let mut layers: Vec<(LayerRecord, Vec<PackageFact>)> = of_base.chain(kept).collect();
    layers.sort_by_key(|(layer, _)| layer.role);
    let numbered = |(number, (_, packages)): (usize, &(LayerRecord, Vec<PackageFact>))| {
        let numbered =
            packages.iter().map(move |package| PackageFact { layer: Some(number), ..package.clone() });
        numbered.collect::<Vec<_>>()
    };
    let step_of = |layer: &LayerRecord| -> Option<StepRecord> {
        let new = new.layers.iter().map(|new| &new.step).find(|step| step.name == layer.step);
        new.or_else(|| old.steps.iter().find(|step| step.name == layer.step)).cloned()
    };
    let runtime = |runtime: &RuntimeInUse| {
        let new = new.runtimes.iter().find(|new| new.name == runtime.name && runtime.origin == old.base);
        new.unwrap_or(runtime).clone()
    };
    let first = BuiltOn { base: old.base.clone(), image: image.digest };
    Record {
        base: new.name.clone(),
        composition: new.composition.clone(),
        base_env: new.env.clone(),
        built_on: Some(old.built_on.clone().unwrap_or(first)),
        runtimes: old.runtimes.iter().map(runtime).collect(),
        packages: layers.iter().enumerate().flat_map(numbered).collect(),
        steps: layers.iter().filter_map(|(layer, _)| step_of(layer)).collect(),
        layers: layers.into_iter().map(|(layer, _)| layer).collect(),
        ..old.clone()
    }
}

/// By the digest of an old manifest, the one that takes its place.
pub(super) type NewManifests = BTreeMap<BlobDigest, Descriptor>;

/// Writes the documents of an image on its new base, but for the index.
pub(super) fn documents(
    image: &OpenImage,
    record: Record,
    new: &NewBase,
    store: &Store,
) -> Result<NewManifests> {
    let label = String::from_utf8_lossy(&to_json(&record)?).into_owned();
    let mut manifests = NewManifests::new();
    for variant in &image.variants {
        let mut config = variant.config.clone();
        config.config.labels.insert(labels::RECORD.to_owned(), label.clone());
        config.config.env = env(&config.config.env, &image.record.base_env, &new.env);
        config.rootfs.diff_ids = record.layers.iter().map(|layer| layer.diff_id).collect();
        let history = |layer: &LayerRecord| History {
            created: config.created.clone(),
            created_by: format!("shtetl: {}", layer.step),
        };
        config.history = record.layers.iter().map(history).collect();
        let config = to_json(&config)?;
        store.put_blob(&config)?;
        let manifest = Manifest {
            config: Descriptor::of(media::CONFIG, &config),
            layers: record.layers.iter().map(LayerRecord::descriptor).collect(),
            ..variant.manifest.clone()
        };
        let manifest = to_json(&manifest)?;
        store.put_blob(&manifest)?;
        manifests.insert(variant.digest, Descriptor::of(media::MANIFEST, &manifest));
    }
    Ok(manifests)
}

/// Writes the index of an image with new manifests; gives its digest.
pub(super) fn index(image: &OpenImage, manifests: &NewManifests, store: &Store) -> Result<BlobDigest> {
    let mut index: Index = image.index.clone();
    for listed in &mut index.manifests {
        if let Some(Descriptor { digest, size, .. }) = manifests.get(&listed.digest) {
            (listed.digest, listed.size) = (*digest, *size);
        }
    }
    Ok(store.put_blob(&to_json(&index)?)?)
}

/// The environment of a process with that of the new base in place of the old one's.
fn env(all: &[String], old: &BTreeMap<String, String>, new: &BTreeMap<String, String>) -> Vec<String> {
    let pair = |line: &String| line.split_once('=').map(|(name, value)| (name.to_owned(), value.to_owned()));
    let mut env: BTreeMap<String, String> = all.iter().filter_map(pair).collect();
    let folders = |env: &BTreeMap<String, String>| -> Vec<String> {
        env.get(PATH).iter().flat_map(|path| path.split(':')).map(str::to_owned).collect()
    };
    let (of_old, of_new) = (folders(old), folders(new));
    let mut path: Vec<String> = folders(&env).into_iter().filter(|folder| !of_old.contains(folder)).collect();
    path.extend(of_new.into_iter().filter(|folder| !path.contains(folder)).collect::<Vec<_>>());
    env.retain(|name, value| old.get(name) != Some(value));
    for (name, value) in new {
        env.entry(name.clone()).or_insert_with(|| value.clone());
    }
    env.insert(PATH.to_owned(), path.join(":"));
    env.into_iter().map(|(name, value)| format!("{name}={value}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn variables_of_the_old_base_go_and_those_of_the_app_stay() {
        let map = |pairs: &[(&str, &str)]| -> BTreeMap<String, String> {
            pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
        };
        let lines = |text: &str| text.lines().map(str::to_owned).collect::<Vec<_>>();
        let old = map(&[("PATH", "/usr/local/bin:/usr/bin"), ("LANG", "C"), ("HORN", "1.0")]);
        let new = map(&[("PATH", "/opt/bin:/usr/bin"), ("HORN", "1.1"), ("LANG", "C.UTF-8")]);
        let all = lines("HOME=/home/app\nHORN=1.0\nLANG=de\nPATH=/opt/venv/bin:/usr/local/bin:/usr/bin");
        assert_eq!(
            env(&all, &old, &new),
            lines("HOME=/home/app\nHORN=1.1\nLANG=de\nPATH=/opt/venv/bin:/opt/bin:/usr/bin")
        );
        let composed = lines("PATH=/usr/bin:/bin");
        assert_eq!(env(&composed, &BTreeMap::new(), &BTreeMap::new()), composed);
    }
}
