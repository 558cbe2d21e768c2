//! What is in a layer of an image, as far as it is looked at after a build: read once, and remembered with the layer.

use crate::linkage::Linkage;
use content::layer::WrittenLayer;
use content::store::Store;
use crc32fast::Hasher;
use model::{PathFacts, Result, Role};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::PathBuf;

/// Larger files are no libraries that people load, in bytes.
const LARGEST: u64 = 256 << 20;
/// Version of what is remembered of a layer.
const VERSION: u32 = 3;
/// How much of a program is read for the name of its interpreter, in bytes.
const FIRST_LINE: usize = 256;
const MAGIC: &[u8; 4] = b"\x7fELF";
/// Where packages link their commands to.
const LINKED: &str = "/node_modules/.bin/";
/// Packages below have a folder each, so that they never meet.
const APART: &str = "/node_modules/";

/// A layer of an image.
#[derive(Clone, Copy)]
pub struct Layer<'a> {
    /// What it is for.
    pub role: Role,
    /// The layer.
    pub written: &'a WrittenLayer,
}

/// What is in a layer of packages under the same names as elsewhere.
#[derive(Default, Serialize, Deserialize)]
pub(crate) struct Contents {
    /// Commands, and files of packages that share folders, with the checksum of the first of each name.
    pub(crate) files: BTreeMap<String, u32>,
    /// Files of which it has several under one name, which are not the same.
    pub(crate) twice: BTreeSet<String>,
}

/// The files in a layer for a `platform` as in `linux/amd64`.
pub(crate) fn of(store: &Store, layer: &Layer<'_>, platform: &str) -> Result<Contents> {
    let known = store.read_document(&memory(store, "contents", layer, platform)).whole();
    known.map_or_else(|| Ok(scan(store, layer, platform)?.0), Ok)
}

/// What a layer for a `platform` has and needs of others.
pub fn linkage(store: &Store, layer: &Layer<'_>, platform: &str) -> Result<Linkage> {
    let known = store.read_document(&memory(store, "linkage", layer, platform)).whole();
    known.map_or_else(|| Ok(scan(store, layer, platform)?.1), Ok)
}

/// Whether it is known already what a layer has and needs.
pub fn is_known(store: &Store, layer: &Layer<'_>, platform: &str) -> bool {
    memory(store, "linkage", layer, platform).exists()
}

/// Where it is kept what is known of a layer.
fn memory(store: &Store, kind: &str, layer: &Layer<'_>, platform: &str) -> PathBuf {
    let architecture = platform.rsplit('/').next().unwrap_or_default();
    store.tree_path(&format!("{kind}-{VERSION}-{architecture}-{}.json", layer.written.diff_id.hex()))
}

/// Reads a layer, and keeps what is found.
fn scan(store: &Store, layer: &Layer<'_>, platform: &str) -> Result<(Contents, Linkage)> {
    let architecture = platform.rsplit('/').next().unwrap_or_default();
    let mut found = Scan::default();
    let path = store.blob_path(layer.written.digest);
    let blob = BufReader::new(File::open(&path).facts(&path)?);
    let mut archive = tar::Archive::new(layer.written.codec.layer_reader(blob)?);
    for entry in archive.entries()? {
        found.add(&mut entry?, layer.role, architecture)?;
    }
    let Scan { contents, linkage } = found;
    store.write_cache(&memory(store, "contents", layer, platform), &contents)?;
    store.write_cache(&memory(store, "linkage", layer, platform), &linkage)?;
    Ok((contents, linkage))
}

#[derive(Default)]
struct Scan {
    contents: Contents,
    linkage: Linkage,
}

impl Scan {
    fn add(&mut self, entry: &mut tar::Entry<'_, impl Read>, role: Role, architecture: &str) -> Result<()> {
        let path = entry.path()?.to_string_lossy().into_owned();
        let name = path.rsplit('/').next().unwrap_or(&path);
        let (contents, linkage) = (&mut self.contents, &mut self.linkage);
        if name.contains(".so") {
            linkage.libraries.insert(name.to_owned());
        }
        if role == Role::Dependencies && path.contains(LINKED) {
            contents.files.insert(path.clone(), 0);
        }
        let kind = entry.header().entry_type();
        if kind.is_symlink() || kind.is_hard_link() {
            let target = entry.link_name()?.map(|target| target.to_string_lossy().into_owned());
            linkage
                .needs_programs
                .extend(target.filter(|target| kind.is_symlink() && target.starts_with('/')));
            linkage.programs.insert(path);
            return Ok(());
        }
        if !kind.is_file() || entry.size() > LARGEST {
            return Ok(());
        }
        let is_executable = entry.header().mode()? & 0o111 != 0;
        if is_executable {
            linkage.programs.insert(path.clone());
        }
        let shares = role == Role::Dependencies && !path.contains(APART);
        let may_need = name.contains(".so") || name.ends_with(".node") || is_executable;
        if !shares && !may_need {
            return Ok(());
        }
        let beginning = if may_need { FIRST_LINE } else { MAGIC.len() };
        let mut bytes = vec![0; beginning.min(usize::try_from(entry.size()).unwrap_or_default())];
        entry.read_exact(&mut bytes)?;
        let is_program = may_need && bytes.starts_with(MAGIC);
        if is_executable && !is_program {
            linkage.add_script(&bytes);
        }
        if shares || is_program {
            entry.read_to_end(&mut bytes)?;
        }
        if is_program {
            linkage.add_elf(&bytes, architecture, &path);
        }
        if shares {
            let mut sum = Hasher::new();
            sum.update(&bytes);
            let sum = sum.finalize();
            if *contents.files.entry(path.clone()).or_insert(sum) != sum {
                contents.twice.insert(path);
            }
        }
        Ok(())
    }
}
