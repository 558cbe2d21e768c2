//! What a base has to have for an app that was built on another one.

use super::bases::NewBase;
use super::{FetchLayers, is_replaced};
use content::store::Store;
use model::error::Misfit;
use model::{Result, Role};
use workshop::inspect::OpenImage;
use workshop::layer_contents::{self, Layer};
use workshop::linkage::{Linkage, Needs};
use workshop::record::{LayerRecord, Record};

/// What the app needs, has on its old base, and would not have on the new one.
pub(super) fn misfits(
    image: &OpenImage,
    needs: &Needs,
    replaced: &[&LayerRecord],
    new: &NewBase,
    store: &Store,
    fetch: &FetchLayers<'_>,
) -> Result<Vec<Misfit>> {
    let record = &image.record;
    // Runtimes from elsewhere stay, and need something of the base, too.
    let is_kept_below = |layer: &&LayerRecord| {
        matches!(layer.role, Role::Base | Role::Runtime) && !is_replaced(record, layer)
    };
    let kept: Vec<&LayerRecord> = record.layers.iter().filter(is_kept_below).collect();
    let old = linkage(replaced, record, store, fetch)?;
    let kept = linkage(&kept, record, store, fetch)?;
    let mut all = Needs::of([&kept]);
    all.libraries.extend(needs.libraries.iter().cloned());
    all.programs.extend(needs.programs.iter().cloned());
    for (library, versions) in &needs.versions {
        all.versions.entry(library.clone()).or_default().extend(versions.iter().cloned());
    }
    let commands = image.variants.iter().filter_map(|variant| variant.config.config.entrypoint.first());
    all.programs.extend(commands.cloned());
    let mut misfits = runtimes(record, new);
    misfits.extend(missing(&all, &old, &kept, &new.linkage));
    Ok(misfits)
}

fn linkage(
    layers: &[&LayerRecord],
    record: &Record,
    store: &Store,
    fetch: &FetchLayers<'_>,
) -> Result<Linkage> {
    let mut all = Linkage::default();
    for layer in layers {
        let written = layer.written();
        let looked_into = Layer { role: layer.role, written: &written };
        if !layer_contents::is_known(store, &looked_into, &record.platform)
            && store.blob_size(layer.digest).is_none()
        {
            fetch(&[layer])?;
        }
        all.extend(layer_contents::linkage(store, &looked_into, &record.platform)?);
    }
    Ok(all)
}

/// Runtimes of the old base that the new one does not have, or not in a version that takes the same packages.
fn runtimes(record: &Record, new: &NewBase) -> Vec<Misfit> {
    let mut misfits = Vec::new();
    for runtime in record.runtimes.iter().filter(|runtime| runtime.origin == record.base) {
        let after = new.runtimes.iter().find(|one| one.name == runtime.name).map(|one| one.version.clone());
        if !after.as_ref().is_some_and(|after| fits(&runtime.name, &runtime.version, after)) {
            let (name, before) = (runtime.name.clone(), runtime.version.clone());
            misfits.push(Misfit::Runtime { name, before, after });
        }
    }
    misfits
}

/// Whether what was installed for one version of a runtime runs on another one: its packages and compiled files are made
/// for a major version of Node, for major and minor version of the others; newer releases of Java run what older ones do.
fn fits(runtime: &str, before: &str, after: &str) -> bool {
    let parts =
        |version: &str| -> Vec<u32> { version.split('.').map_while(|part| part.parse().ok()).collect() };
    let (before, after) = (parts(before), parts(after));
    match runtime {
        "node" => before.first() == after.first(),
        "java" => before.first() <= after.first(),
        _ => before.get(..2) == after.get(..2),
    }
}

/// What is needed and the old base has, and the new one has not. What runtimes that stay bring along is there all the same.
fn missing(needs: &Needs, old: &Linkage, kept: &Linkage, new: &Linkage) -> Vec<Misfit> {
    let mut misfits = Vec::new();
    let has = |base: &Linkage, name: &String| base.libraries.contains(name) || kept.libraries.contains(name);
    for name in needs.libraries.iter().filter(|name| has(old, name) && !has(new, name)) {
        misfits.push(Misfit::Library { name: name.clone() });
    }
    for (library, versions) in &needs.versions {
        let (Some(had), Some(has)) = (old.versions.get(library), new.versions.get(library)) else { continue };
        for version in versions.iter().filter(|version| had.contains(*version) && !has.contains(*version)) {
            misfits.push(Misfit::SymbolVersion { library: library.clone(), version: version.clone() });
        }
    }
    for path in needs.programs.iter().filter(|path| old.has_program(path) && !new.has_program(path)) {
        misfits.push(Misfit::Program { path: path.clone() });
    }
    misfits
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::{BTreeMap, BTreeSet};

    #[test]
    fn a_runtime_fits_where_what_was_installed_for_it_still_runs() {
        assert!(fits("node", "20.19.2", "20.9.0") && !fits("node", "20.19.2", "22.1.0"));
        assert!(fits("python", "3.13.5", "3.13.9") && !fits("python", "3.13.5", "3.14.0"));
        assert!(fits("java", "17.0.1", "21.0.2") && !fits("java", "21.0.2", "17.0.1"));
        assert!(fits("ruby", "3.3.8", "3.3.9") && !fits("ruby", "3.3.8", "3.4.0"));
    }

    #[test]
    fn only_what_the_old_base_has_can_be_missing_in_the_new_one() {
        let set = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<BTreeSet<String>>();
        let versions = |all: &[&str]| BTreeMap::from([("libc.so.6".to_owned(), set(all))]);
        let needs = Needs {
            libraries: set(&["libc.so.6", "libhorn.so.1", "libfog.so.2"]),
            versions: versions(&["GLIBC_2.38"]),
            programs: set(&["/usr/bin/python3", "deno"]),
        };
        let old = Linkage {
            libraries: set(&["libc.so.6", "libhorn.so.1"]),
            versions: versions(&["GLIBC_2.17", "GLIBC_2.38"]),
            programs: set(&["usr/bin/python3"]),
            ..Linkage::default()
        };
        let new = Linkage {
            libraries: set(&["libc.so.6"]),
            versions: versions(&["GLIBC_2.17", "GLIBC_2.34"]),
            programs: set(&["usr/local/bin/python3"]),
            ..Linkage::default()
        };
        let none = Linkage::default();
        assert_eq!(missing(&needs, &old, &none, &old), []);
        assert_eq!(
            missing(&needs, &old, &none, &new),
            [
                Misfit::Library { name: "libhorn.so.1".into() },
                Misfit::SymbolVersion { library: "libc.so.6".into(), version: "GLIBC_2.38".into() },
                Misfit::Program { path: "/usr/bin/python3".into() },
            ]
        );
    }
}
