//! Shared libraries that a program needs, found as the dynamic loader would find them.

use crate::host::Host;
use content::store::{Signature, Store};
use goblin::elf::Elf;
use goblin::elf::header::{EM_AARCH64, EM_X86_64};
use model::error::BaseError;
use model::{Error, PathFacts, Result};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};

/// What one ELF file says of what it needs.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(super) struct Needs {
    /// The program interpreter (dynamic loader).
    pub(super) interpreter: Option<PathBuf>,
    libraries: Vec<String>,
    /// `DT_RPATH`, which only counts without the other; its libraries' needs use it too.
    rpath: Vec<String>,
    /// `DT_RUNPATH`.
    runpath: Vec<String>,
}

/// Libraries by name with their path on this machine.
pub(super) type Libraries = BTreeMap<String, PathBuf>;

/// Finds libraries as the dynamic loader would. What files need is remembered between runs.
pub(super) struct Linker<'h> {
    host: &'h Host,
    system: Vec<PathBuf>,
    known: BTreeMap<PathBuf, (Signature, Option<Needs>)>,
    changed: bool,
}

/// The name in the store under which the needs of files are remembered.
const MEMORY: &str = "elf-needs.json";

impl<'h> Linker<'h> {
    pub(super) fn new(host: &'h Host, store: &Store) -> Self {
        let known = store.read_document(&store.tree_path(MEMORY)).whole().unwrap_or_default();
        Self { host, system: system_folders(host), known, changed: false }
    }

    /// Writes back what was learned.
    pub(super) fn save(&self, store: &Store) -> Result<()> {
        if self.changed {
            store.write_cache(&store.tree_path(MEMORY), &self.known)?;
        }
        Ok(())
    }

    /// The needs of the file at `path`; `None` when it is not an ELF file.
    pub(super) fn needs(&mut self, path: &Path) -> Result<Option<Needs>> {
        let signature = Signature::of(&fs::metadata(path).facts(path)?);
        if let Some((known, needs)) = self.known.get(path)
            && *known == signature
        {
            return Ok(needs.clone());
        }
        let needs = read_needs(path)?;
        self.known.insert(path.to_owned(), (signature, needs.clone()));
        self.changed = true;
        Ok(needs)
    }

    /// The library of this name, where the loader looks for those that nobody says a place of.
    pub(super) fn find(&self, name: &str) -> Option<PathBuf> {
        self.system.iter().map(|folder| folder.join(name)).find(|path| fits_processor(path))
    }

    /// Follows `DT_NEEDED` from `starts`; gives every library, and those that were not found with
    /// the file that wants each.
    pub(super) fn closure(&mut self, starts: &[PathBuf]) -> Result<(Libraries, Libraries)> {
        let (mut found, mut missing) = (Libraries::new(), Libraries::new());
        let mut pending: Vec<(PathBuf, Vec<PathBuf>)> =
            starts.iter().map(|s| (s.clone(), Vec::new())).collect();
        let mut seen = BTreeSet::new();
        while let Some((path, inherited)) = pending.pop() {
            if !seen.insert(path.clone()) {
                continue;
            }
            let Some(needs) = self.needs(&path)? else { continue };
            let folder = path.canonicalize().facts(&path)?.parent().map(Path::to_owned).unwrap_or_default();
            let own = |entries: &[String]| {
                entries.iter().map(|e| expand(self.host, e, &folder)).collect::<Vec<_>>()
            };
            let mut rpath = own(&needs.rpath);
            rpath.extend(inherited);
            let first = if needs.runpath.is_empty() { rpath.clone() } else { own(&needs.runpath) };
            for name in needs.libraries.iter().filter(|n| !n.starts_with("linux-vdso")) {
                if found.contains_key(name) {
                    continue;
                }
                let folders = first.iter().chain(&self.system);
                match folders.map(|f| f.join(name)).find(|p| fits_processor(p)) {
                    Some(library) => {
                        pending.push((library.clone(), rpath.clone()));
                        found.insert(name.clone(), library);
                    }
                    None => drop(missing.insert(name.clone(), path.clone())),
                }
            }
        }
        Ok((found, missing))
    }
}

fn read_needs(path: &Path) -> Result<Option<Needs>> {
    let mut magic = [0; 4];
    let mut file = File::open(path).facts(path)?;
    if file.read_exact(&mut magic).is_err() || magic != *b"\x7fELF" {
        return Ok(None);
    }
    let bytes = fs::read(path).facts(path)?;
    let elf = Elf::parse(&bytes)
        .map_err(|e| Error::Base(BaseError::Capture { path: path.to_owned(), detail: e.to_string() }))?;
    let split = |paths: &[&str]| paths.iter().flat_map(|p| p.split(':')).map(str::to_owned).collect();
    Ok(Some(Needs {
        interpreter: elf.interpreter.map(PathBuf::from),
        libraries: elf.libraries.iter().map(|l| (*l).to_owned()).collect(),
        rpath: split(&elf.rpaths),
        runpath: split(&elf.runpaths),
    }))
}

/// Whether the file is ELF for the processor that this program runs on.
pub(super) fn fits_processor(path: &Path) -> bool {
    let wanted = match std::env::consts::ARCH {
        "aarch64" => EM_AARCH64,
        _ => EM_X86_64,
    };
    let mut head = [0; 20];
    let read = File::open(path).and_then(|mut f| f.read_exact(&mut head));
    read.is_ok() && head.starts_with(b"\x7fELF") && u16::from_le_bytes([head[18], head[19]]) == wanted
}

/// `$ORIGIN` is the folder of the file that names it.
fn expand(host: &Host, entry: &str, folder: &Path) -> PathBuf {
    let origin = folder.to_string_lossy();
    if entry.contains("$ORIGIN") || entry.contains("${ORIGIN}") {
        return PathBuf::from(entry.replace("${ORIGIN}", &origin).replace("$ORIGIN", &origin));
    }
    host.real(Path::new(entry))
}

/// Folders of `ld.so.conf`, then the loader's own.
fn system_folders(host: &Host) -> Vec<PathBuf> {
    let mut folders = Vec::new();
    read_loader_configuration(host, &host.real(Path::new("/etc/ld.so.conf")), &mut folders, 0);
    let triple = format!("{}-linux-gnu", std::env::consts::ARCH);
    for folder in ["/lib", "/usr/lib"] {
        folders.push(PathBuf::from(format!("{folder}/{triple}")));
    }
    folders.extend(["/lib64", "/usr/lib64", "/lib", "/usr/lib"].map(PathBuf::from));
    folders.into_iter().map(|f| host.real(&f)).collect()
}

fn read_loader_configuration(host: &Host, file: &Path, folders: &mut Vec<PathBuf>, depth: u32) {
    let Ok(text) = fs::read_to_string(file) else { return };
    for line in text.lines().map(|l| l.split('#').next().unwrap_or_default().trim()) {
        let Some(pattern) = line.strip_prefix("include ") else {
            folders.extend((!line.is_empty()).then(|| PathBuf::from(line)));
            continue;
        };
        // In practice always "FOLDER/*.conf".
        let Some((folder, _)) = pattern.trim().rsplit_once('/') else { continue };
        let entries = fs::read_dir(host.real(Path::new(folder))).into_iter().flatten().flatten();
        let mut files: Vec<_> =
            entries.map(|e| e.path()).filter(|p| p.extension().is_some_and(|x| x == "conf")).collect();
        files.sort();
        for file in files.iter().filter(|_| depth < 4) {
            read_loader_configuration(host, file, folders, depth + 1);
        }
    }
}
