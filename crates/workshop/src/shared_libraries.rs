//! Shared libraries that files of an image need and that nothing in it has: known for certain once its layers are
//! there, and remembered for the next check.

use content::layer::WrittenLayer;
use content::store::Store;
use goblin::elf::Elf;
use goblin::elf::header::{EM_AARCH64, EM_X86_64};
use model::dev_packages::library_packages;
use model::{PathFacts, Result, Role};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read};

/// Larger files are no libraries that people load, in bytes.
const LARGEST: u64 = 256 << 20;
/// Version of what is remembered of a layer.
const VERSION: u32 = 1;
const MAGIC: &[u8; 4] = b"\x7fELF";

/// Libraries by name, with the first file that needs each.
pub(crate) type Missing = BTreeMap<String, String>;

/// A layer of an image.
pub(crate) struct Layer<'a> {
    pub(crate) role: Role,
    pub(crate) written: &'a WrittenLayer,
}

/// What a layer has and needs.
#[derive(Default, Serialize, Deserialize)]
struct Libraries {
    /// Names of files and links that are called like libraries.
    has: BTreeSet<String>,
    needs: Missing,
}

/// What files of the layers need and none of the layers has, for a `platform` as in `linux/amd64`.
pub(crate) fn missing(store: &Store, layers: &[Layer<'_>], platform: &str) -> Result<Missing> {
    let (mut has, mut needs) = (BTreeSet::new(), Missing::new());
    // What distributions and runtimes bring fits together; their own layers are only asked where something is open.
    let is_own = |layer: &&Layer<'_>| !matches!(layer.role, Role::Base | Role::Runtime);
    for layer in layers.iter().filter(is_own) {
        let found = libraries(store, layer.written, platform)?;
        has.extend(found.has);
        for (name, by) in found.needs {
            needs.entry(name).or_insert(by);
        }
    }
    needs.retain(|name, _| !has.contains(name));
    if !needs.is_empty() {
        for layer in layers.iter().filter(|layer| !is_own(layer)) {
            let found = libraries(store, layer.written, platform)?;
            needs.retain(|name, _| !found.has.contains(name));
        }
    }
    Ok(needs)
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
pub(crate) fn packages_with<'l>(libraries: impl Iterator<Item = &'l String>) -> BTreeSet<&'static str> {
    libraries.flat_map(|library| library_packages(library)).collect()
}

/// What is missing, for people: the libraries, and the first file that needs one.
pub(crate) fn told(missing: &Missing) -> Option<String> {
    let (first, by) = missing.iter().next()?;
    let others: Vec<&str> = missing.keys().skip(1).map(String::as_str).collect();
    let rest =
        if others.is_empty() { String::new() } else { format!("; also missing: {}", others.join(", ")) };
    Some(format!("{by} needs {first}, which the image does not have{rest}"))
}

fn libraries(store: &Store, layer: &WrittenLayer, platform: &str) -> Result<Libraries> {
    let architecture = platform.rsplit('/').next().unwrap_or_default();
    let memory = store.tree_path(&format!("libraries-{VERSION}-{architecture}-{}.json", layer.diff_id.hex()));
    if let Some(known) = store.read_document(&memory).whole() {
        return Ok(known);
    }
    let mut found = Libraries::default();
    let path = store.blob_path(layer.digest);
    let blob = BufReader::new(File::open(&path).facts(&path)?);
    let mut archive = tar::Archive::new(layer.codec.layer_reader(blob)?);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let path = entry.path()?.to_string_lossy().into_owned();
        let name = path.rsplit('/').next().unwrap_or(&path);
        if name.contains(".so") {
            found.has.insert(name.to_owned());
        }
        let may_need = name.contains(".so") || name.ends_with(".node") || entry.header().mode()? & 0o111 != 0;
        if !entry.header().entry_type().is_file() || !may_need || entry.size() > LARGEST {
            continue;
        }
        let mut start = [0; 4];
        if entry.read_exact(&mut start).is_err() || start != *MAGIC {
            continue;
        }
        let mut bytes = start.to_vec();
        entry.read_to_end(&mut bytes)?;
        for library in needs(&bytes, architecture) {
            found.needs.entry(library).or_insert_with(|| path.clone());
        }
    }
    store.write_document(&memory, &found)?;
    Ok(found)
}

/// The libraries that an ELF file for this processor needs; none where it is for another machine or C library.
fn needs(bytes: &[u8], architecture: &str) -> Vec<String> {
    // What cannot be read is no library that could be loaded.
    let Ok(elf) = Elf::parse(bytes) else { return Vec::new() };
    let machine = if architecture == "arm64" { EM_AARCH64 } else { EM_X86_64 };
    let is_own = |name: &&&str| !name.starts_with("ld-linux") && !name.starts_with("linux-vdso");
    let is_musl = elf.libraries.iter().any(|name| name.contains("musl"));
    match elf.header.e_machine == machine && !is_musl {
        true => elf.libraries.iter().filter(is_own).map(|name| (*name).to_owned()).collect(),
        false => Vec::new(),
    }
}
