//! Shared libraries that files of an image need and that nothing in it has: known for certain once its layers are
//! there, and remembered for the next check.

use crate::layer_contents::{self, Layer};
use crate::linkage::{Linkage, Needs};
use content::store::Store;
use model::dev_packages::library_packages;
use model::{Result, Role};
use std::collections::{BTreeMap, BTreeSet};

/// Version of what is remembered of an app.
const VERSION: u32 = 1;

/// Libraries by name, with the first file that needs each.
pub(crate) type Missing = BTreeMap<String, String>;

/// What files of the layers need and none of the layers has, for a `platform` as in `linux/amd64`.
pub(crate) fn missing(store: &Store, layers: &[Layer<'_>], platform: &str) -> Result<Missing> {
    let (mut has, mut needs) = (BTreeSet::new(), Missing::new());
    // What distributions and runtimes bring fits together; their own layers are only asked where something is open.
    let is_own = |layer: &&Layer<'_>| !matches!(layer.role, Role::Base | Role::Runtime);
    for layer in layers.iter().filter(is_own) {
        let found = layer_contents::linkage(store, layer, platform)?;
        has.extend(found.libraries);
        for (name, by) in found.needs {
            needs.entry(name).or_insert(by);
        }
    }
    needs.retain(|name, _| !has.contains(name));
    if !needs.is_empty() {
        for layer in layers.iter().filter(|layer| !is_own(layer)) {
            let found = layer_contents::linkage(store, layer, platform)?;
            needs.retain(|name, _| !found.libraries.contains(name));
        }
    }
    Ok(needs)
}

/// What the layers of the app need of the base and the runtimes.
pub(crate) fn needs(store: &Store, layers: &[Layer<'_>], platform: &str) -> Result<Needs> {
    let own = layers.iter().filter(|layer| !matches!(layer.role, Role::Base | Role::Runtime));
    let own: Vec<Linkage> =
        own.map(|layer| layer_contents::linkage(store, layer, platform)).collect::<Result<_>>()?;
    Ok(Needs::of(&own))
}

/// A file for another processor than that of `platform` among those that the app's own build made, for people.
pub(crate) fn foreign(store: &Store, layers: &[Layer<'_>], platform: &str) -> Result<Option<String>> {
    for layer in layers.iter().filter(|layer| layer.role == Role::Built) {
        if let Some(file) = layer_contents::linkage(store, layer, platform)?.foreign {
            return Ok(Some(format!(
                "the build command produced {file} for another processor than {platform}"
            )));
        }
    }
    Ok(None)
}

/// Where it is remembered what an app lacks.
fn memory(store: &Store, name: &str) -> std::path::PathBuf {
    store.tree_path(&format!("missing-libraries-{VERSION}-{name}.json"))
}

/// Remembers what the image of an app lacks.
pub(crate) fn remember(store: &Store, app: &str, missing: &Missing) -> Result<()> {
    Ok(store.write_document(&memory(store, app), missing)?)
}

/// What the last image of an app lacks, as far as that is known.
pub(crate) fn remembered(store: &Store, app: &str) -> Missing {
    store.read_document(&memory(store, app)).whole().unwrap_or_default()
}

/// The packages of Debian that have libraries, where that is known.
fn packages_with<'l>(libraries: impl Iterator<Item = &'l String>) -> BTreeSet<&'static str> {
    libraries.flat_map(|library| library_packages(library)).collect()
}

/// What adds the packages that have the missing libraries, where all are known.
pub(crate) fn advice(missing: &Missing) -> Option<String> {
    let packages = packages_with(missing.keys());
    let all_known = missing.keys().all(|library| !library_packages(library).is_empty());
    let line =
        || format!("in shtetl.toml, under [base]: packages = {:?}", packages.iter().collect::<Vec<_>>());
    all_known.then(line)
}

/// What is missing, for people: the libraries, and the first file that needs one.
pub(crate) fn told(missing: &Missing) -> Option<String> {
    let (first, by) = missing.iter().next()?;
    let others: Vec<&str> = missing.keys().skip(1).map(String::as_str).collect();
    let rest =
        if others.is_empty() { String::new() } else { format!("; also missing: {}", others.join(", ")) };
    Some(format!("{by} needs {first}, which the image does not have{rest}"))
}
