//! What is in a layer of an image, as far as it is looked at after a build: read once, and remembered with the layer.

use content::layer::WrittenLayer;
use content::store::Store;
use crc32fast::Hasher;
use goblin::elf::Elf;
use goblin::elf::header::{EM_AARCH64, EM_X86_64};
use model::{PathFacts, Result, Role};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read};

/// Larger files are no libraries that people load, in bytes.
const LARGEST: u64 = 256 << 20;
/// Version of what is remembered of a layer.
const VERSION: u32 = 2;
const MAGIC: &[u8; 4] = b"\x7fELF";
/// Where packages link their commands to.
const LINKED: &str = "/node_modules/.bin/";
/// Packages below have a folder each, so that they never meet.
const APART: &str = "/node_modules/";

/// A layer of an image.
#[derive(Clone, Copy)]
pub(crate) struct Layer<'a> {
    pub(crate) role: Role,
    pub(crate) written: &'a WrittenLayer,
}

/// What a layer has and needs.
#[derive(Default, Serialize, Deserialize)]
pub(crate) struct Contents {
    /// Names of files and links that are called like libraries.
    pub(crate) libraries: BTreeSet<String>,
    /// Libraries that files need, with the first file that needs each.
    pub(crate) needs: BTreeMap<String, String>,
    /// Of a layer of packages: their commands, and files of those that share folders, with the checksum of the first of
    /// each name.
    pub(crate) files: BTreeMap<String, u32>,
    /// Files of which it has several under one name, which are not the same.
    pub(crate) twice: BTreeSet<String>,
}

/// Looks into a layer for a `platform` as in `linux/amd64`.
pub(crate) fn of(store: &Store, layer: &Layer<'_>, platform: &str) -> Result<Contents> {
    let architecture = platform.rsplit('/').next().unwrap_or_default();
    let name = format!("contents-{VERSION}-{architecture}-{}.json", layer.written.diff_id.hex());
    let memory = store.tree_path(&name);
    if let Some(known) = store.read_document(&memory).whole() {
        return Ok(known);
    }
    let mut found = Contents::default();
    let path = store.blob_path(layer.written.digest);
    let blob = BufReader::new(File::open(&path).facts(&path)?);
    let mut archive = tar::Archive::new(layer.written.codec.layer_reader(blob)?);
    for entry in archive.entries()? {
        found.add(&mut entry?, layer.role, architecture)?;
    }
    store.write_document(&memory, &found)?;
    Ok(found)
}

impl Contents {
    fn add(&mut self, entry: &mut tar::Entry<'_, impl Read>, role: Role, architecture: &str) -> Result<()> {
        let path = entry.path()?.to_string_lossy().into_owned();
        let name = path.rsplit('/').next().unwrap_or(&path);
        if name.contains(".so") {
            self.libraries.insert(name.to_owned());
        }
        if role == Role::Dependencies && path.contains(LINKED) {
            self.files.insert(path.clone(), 0);
        }
        if !entry.header().entry_type().is_file() || entry.size() > LARGEST {
            return Ok(());
        }
        let shares = role == Role::Dependencies && !path.contains(APART);
        let may_need = name.contains(".so") || name.ends_with(".node") || entry.header().mode()? & 0o111 != 0;
        if !shares && !may_need {
            return Ok(());
        }
        let mut bytes = vec![0; MAGIC.len().min(usize::try_from(entry.size()).unwrap_or_default())];
        entry.read_exact(&mut bytes)?;
        let is_program = may_need && bytes == MAGIC;
        if shares || is_program {
            entry.read_to_end(&mut bytes)?;
        }
        if is_program {
            for library in needs(&bytes, architecture) {
                self.needs.entry(library).or_insert_with(|| path.clone());
            }
        }
        if shares {
            let mut sum = Hasher::new();
            sum.update(&bytes);
            let sum = sum.finalize();
            if *self.files.entry(path.clone()).or_insert(sum) != sum {
                self.twice.insert(path);
            }
        }
        Ok(())
    }
}

/// The libraries that an ELF file for this processor needs; none where it is for another machine or C library.
pub(crate) fn needs(bytes: &[u8], architecture: &str) -> Vec<String> {
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
