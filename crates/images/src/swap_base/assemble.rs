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
    let of_base = of_base.map(|layer| (layer.record.clone(), Packages::New(&layer.packages)));
    let kept = old.layers.iter().enumerate().filter(|(_, layer)| !is_replaced(old, layer));
    let kept = kept.map(|(number, layer)| (layer.clone(), Packages::Kept(number)));
    let mut layers: Vec<(LayerRecord, Packages<'_>)> = of_base.chain(kept).collect();
    layers.sort_by_key(|(layer, _)| layer.role);
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
        packages: packages(&layers, &old.packages),
        steps: layers.iter().filter_map(|(layer, _)| step_of(layer)).collect(),
        layers: layers.into_iter().map(|(layer, _)| layer).collect(),
        ..old.clone()
    }
}

/// The packages of a layer.
enum Packages<'a> {
    /// Of a new one; what they need is counted from the first of them.
    New(&'a [PackageFact]),
    /// Those of the layer of this number in the old image.
    Kept(usize),
}

/// The packages of all layers: each knows the number of its layer, and the new places of what it needs.
fn packages(layers: &[(LayerRecord, Packages<'_>)], old: &[PackageFact]) -> Vec<PackageFact> {
    let (mut all, mut moved, mut kept) = (Vec::<PackageFact>::new(), BTreeMap::new(), Vec::new());
    for (number, (_, packages)) in layers.iter().enumerate() {
        let first = all.len();
        match packages {
            Packages::New(packages) => all.extend(packages.iter().map(|package| PackageFact {
                layer: Some(number),
                needs: package.needs.iter().map(|place| place + first).collect(),
                ..package.clone()
            })),
            Packages::Kept(before) => {
                for (place, package) in old.iter().enumerate().filter(|(_, one)| one.layer == Some(*before)) {
                    moved.insert(place, all.len());
                    kept.push(all.len());
                    all.push(PackageFact { layer: Some(number), ..package.clone() });
                }
            }
        }
    }
    for place in kept {
        // What was in the old base is another package now.
        all[place].needs = all[place].needs.iter().filter_map(|need| moved.get(need).copied()).collect();
    }
    all
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
    fn what_packages_need_is_counted_anew() {
        let fact = |name: &str, layer: usize, needs: &[usize]| PackageFact {
            layer: Some(layer),
            needs: needs.to_vec(),
            ..PackageFact::new(name, "1", format!("pkg:npm/{name}@1"), "")
        };
        let layer = |step: &str| {
            let digest = BlobDigest::of(step.as_bytes());
            LayerRecord {
                role: model::Role::Base,
                step: step.to_owned(),
                digest,
                diff_id: content::DiffId(digest.0),
                size: 1,
                raw_size: 1,
                codec: content::layer::Codec::default(),
            }
        };
        // The old base has two packages, the new one three; the app has two, of which one needs the other.
        let old = [fact("libc", 0, &[]), fact("ssl", 0, &[0]), fact("bell", 1, &[3]), fact("rope", 1, &[0])];
        let base = [fact("gcc", 9, &[]), fact("libc", 9, &[0]), fact("ssl", 9, &[1])];
        let layers = [(layer("base"), Packages::New(&base)), (layer("packages"), Packages::Kept(1))];
        let new = packages(&layers, &old);
        let told: Vec<(&str, Option<usize>, &[usize])> =
            new.iter().map(|one| (one.name.as_str(), one.layer, &one.needs[..])).collect();
        assert_eq!(
            told,
            [
                ("gcc", Some(0), &[][..]),
                ("libc", Some(0), &[0]),
                ("ssl", Some(0), &[1]),
                ("bell", Some(1), &[4]),
                ("rope", Some(1), &[]),
            ]
        );
    }

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
