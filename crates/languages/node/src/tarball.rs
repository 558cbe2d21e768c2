//! One package's tarball as fragments, put down the way npm does.

use crate::package::{Fits, LockedPackage};
use crate::patch::Changeable;
use crate::placing::below;
use content::digest::Sha256;
use content::layer::{Codec, Entry, FragmentWriter, Kind};
use content::store::Store;
use engine::download_buffer::{rewind, spool_unpacked};
use model::error::PackageError;
use model::{Error, Result};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use source::{Gunzip, UnpackLimit};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Component;
use tempfile::SpooledTempFile;

/// The largest package that is unpacked, in bytes.
const LARGEST: u64 = 2 << 30;
/// The largest file that is read as a whole, in bytes.
const LARGEST_TEXT: u64 = 16 << 20;

/// What a package says of itself.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub(super) struct Facts {
    /// The hash of its archive, where the lockfile has none.
    pub(super) found: Option<String>,
    pub(super) bin: BTreeMap<String, String>,
    pub(super) licence: Option<String>,
    pub(super) os: Vec<String>,
    pub(super) cpu: Vec<String>,
    pub(super) libc: Vec<String>,
    /// What it wants to run when it is installed.
    pub(super) install: Option<String>,
    /// The systems that it brings a native part for, as in `linux-x64`.
    pub(super) prebuilt: BTreeSet<String>,
}

impl Facts {
    /// Whether it brings what its script would build for `platform`, as in `linux/amd64`.
    pub(super) fn is_prebuilt_for(&self, platform: &str) -> bool {
        let system = platform.replace("/amd64", "-x64").replace('/', "-");
        self.prebuilt.contains(&system)
    }

    pub(super) fn fits(&self) -> Fits {
        Fits { os: self.os.clone(), cpu: self.cpu.clone(), libc: self.libc.clone() }
    }

    /// What `package.json` says; `compiles` when there is a `binding.gyp`, which means a compilation.
    fn of_manifest(text: &str, compiles: bool) -> io::Result<Self> {
        // Some manifests begin with a mark of their encoding, which is no JSON.
        let manifest: Value = serde_json::from_str(text.trim_start_matches('\u{feff}'))
            .map_err(|error| io::Error::other(format!("package.json: {error}")))?;
        let texts = |key: &str| match &manifest[key] {
            Value::String(one) => vec![one.clone()],
            Value::Array(all) => all.iter().filter_map(|v| v.as_str().map(str::to_owned)).collect(),
            _ => Vec::new(),
        };
        let said = super::INSTALL_SCRIPTS
            .iter()
            .find_map(|name| manifest["scripts"][name].as_str().map(str::to_owned));
        Ok(Self {
            found: None,
            bin: commands(manifest["name"].as_str().unwrap_or_default(), &manifest["bin"]),
            licence: manifest["license"].as_str().or(manifest["license"]["type"].as_str()).map(str::to_owned),
            os: texts("os"),
            cpu: texts("cpu"),
            libc: texts("libc"),
            install: said.or_else(|| compiles.then(|| "node-gyp rebuild".to_owned())),
            prebuilt: BTreeSet::new(),
        })
    }
}

/// The system that a file is a native part for: several tools put those in `prebuilds/SYSTEM/`. Those for
/// another C library do not count.
fn prebuilt_for(path: &str) -> Option<&str> {
    let (system, file) = path.strip_prefix("prebuilds/")?.split_once('/')?;
    (file.ends_with(".node") && !file.contains("musl")).then_some(system)
}

/// The commands of a manifest: one under the package's own name, or several.
pub(super) fn commands(name: &str, bin: &Value) -> BTreeMap<String, String> {
    match bin {
        Value::String(file) => {
            BTreeMap::from([(name.rsplit('/').next().unwrap_or(name).to_owned(), file.clone())])
        }
        Value::Object(several) => several
            .iter()
            .filter_map(|(name, file)| Some((name.clone(), file.as_str()?.to_owned())))
            .collect(),
        _ => BTreeMap::new(),
    }
}

/// A file within the unpacked archive.
struct Member {
    at: u64,
    size: u64,
    mode: u32,
}

/// An unpacked archive: its bytes, and its files by path.
struct Opened {
    raw: SpooledTempFile,
    members: BTreeMap<String, Member>,
}

impl Opened {
    fn of(mut tarball: impl Read + Seek, store: &Store) -> Result<Self, String> {
        let length = tarball.seek(SeekFrom::End(0)).and_then(|length| tarball.rewind().map(|()| length));
        let allowed = UnpackLimit::of(length.map_err(|e| e.to_string())?, LARGEST);
        let mut raw = spool_unpacked(store);
        let unpacked = Gunzip::new(io::BufReader::new(tarball)).take(allowed.bytes + 1);
        if io::copy(&mut { unpacked }, &mut raw).map_err(|e| e.to_string())? > allowed.bytes {
            return Err(allowed.to_string());
        }
        rewind(&mut raw).map_err(|e| e.to_string())?;
        let members = members_of(&mut raw)?;
        Ok(Self { raw, members })
    }

    fn facts(&mut self) -> io::Result<Facts> {
        let manifest = match self.members.contains_key("package.json") {
            true => self.text("package.json").map_err(io::Error::other)?,
            false => "{}".to_owned(),
        };
        let compiles = self.members.contains_key("binding.gyp");
        let prebuilt = self.members.keys().filter_map(|path| prebuilt_for(path)).map(str::to_owned).collect();
        Ok(Facts { prebuilt, ..Facts::of_manifest(&manifest, compiles)? })
    }
}

impl Changeable for Opened {
    fn text(&mut self, path: &str) -> Result<String, String> {
        let member = self.members.get(path).filter(|m| m.size <= LARGEST_TEXT);
        let (at, size) = member
            .map(|m| (m.at, m.size))
            .ok_or("the package does not contain the text that the patch replaces")?;
        self.raw.seek(SeekFrom::Start(at)).map_err(|e| e.to_string())?;
        let mut text = String::new();
        (&mut self.raw).take(size).read_to_string(&mut text).map_err(|e| e.to_string())?;
        Ok(text)
    }

    fn put(&mut self, path: &str, content: &[u8], executable: Option<bool>) -> io::Result<()> {
        let at = self.raw.seek(SeekFrom::End(0))?;
        self.raw.write_all(content)?;
        let before = self.members.get(path).map_or(0o644, |member| member.mode);
        let mode = executable.map_or(before, |executable| if executable { 0o755 } else { 0o644 });
        self.members.insert(path.to_owned(), Member { at, size: content.len() as u64, mode });
        Ok(())
    }

    fn remove(&mut self, path: &str) -> io::Result<()> {
        self.members.remove(path);
        Ok(())
    }
}

/// What the package called `label` at `tarball` says of itself.
pub(super) fn facts_of(tarball: impl Read + Seek, label: &str, store: &Store) -> Result<Facts> {
    let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.to_owned(), detail });
    Opened::of(tarball, store).map_err(bad)?.facts().map_err(|e| bad(e.to_string()))
}

/// Writes the fragments of all places below `root` that the package at `tarball` is put to, with their keys.
pub(super) fn write_fragments(
    (store, codec): (&Store, Codec),
    root: &str,
    places: &[(&LockedPackage, Sha256)],
    tarball: impl Read + Seek,
) -> Result<Facts> {
    let Some((first, _)) = places.first() else { return Ok(Facts::default()) };
    let bad = |detail: String| Error::Package(PackageError::Damaged { package: first.label(), detail });
    let mut opened = Opened::of(tarball, store).map_err(bad)?;
    first.patches.iter().try_for_each(|patch| patch.apply(&mut opened)).map_err(bad)?;
    let facts = opened.facts().map_err(|e| bad(e.to_string()))?;
    let Opened { mut raw, mut members } = opened;
    let said = places.iter().flat_map(|(p, _)| p.bin.values().chain(&p.carried_commands));
    for file in facts.bin.values().chain(said) {
        if let Some(member) = members.get_mut(file.trim_start_matches("./")) {
            member.mode |= 0o111;
        }
    }
    for (package, key) in places {
        let folder = below(root, &package.path);
        let mut fragment = FragmentWriter::new(store, codec, *key, 1)?;
        let mut folders = BTreeSet::new();
        for (path, member) in &members {
            for (at, _) in path.match_indices('/') {
                if folders.insert(&path[..at]) {
                    fragment.tar().entry(&Entry::folder(format!("{folder}/{}", &path[..at])))?;
                }
            }
            let entry = Entry {
                mode: member.mode,
                kind: Kind::File { size: member.size },
                ..Entry::folder(format!("{folder}/{path}"))
            };
            raw.seek(SeekFrom::Start(member.at))?;
            fragment.tar().file(&entry, &mut (&mut raw).take(member.size))?;
        }
        fragment.finish()?;
    }
    Ok(facts)
}

/// The regular files of an archive by path, without its first folder. Links are left out, as npm does; what
/// would leave the package is an error; of two of one name, the later counts.
fn members_of(raw: &mut (impl Read + Seek)) -> Result<BTreeMap<String, Member>, String> {
    let mut archive = tar::Archive::new(raw);
    let mut members = BTreeMap::new();
    for entry in archive.entries_with_seek().map_err(|e| e.to_string())? {
        let entry = entry.map_err(|e| e.to_string())?;
        let path = entry.path().map_err(|e| e.to_string())?.into_owned();
        let shown = path.display().to_string();
        let mut parts = Vec::new();
        for part in path.components() {
            match part {
                Component::Normal(name) => {
                    parts.push(name.to_str().ok_or_else(|| format!("{shown:?} is not UTF-8"))?.to_owned());
                }
                Component::CurDir => {}
                _ => return Err(format!("the entry {shown:?} points outside the package's folder")),
            }
        }
        if !entry.header().entry_type().is_file() || parts.len() < 2 {
            continue;
        }
        let mode = entry.header().mode().map_err(|e| e.to_string())?;
        // Readable by everyone, writable only by the owner.
        let mode = (mode & 0o777 | 0o666) & !0o022;
        let member = Member { at: entry.raw_file_position(), size: entry.size(), mode };
        let mut path = parts[1..].join("/");
        // As npm does: rules of one kind are rules of the other, unless that has its own.
        if let Some(folder) = path.strip_suffix(".gitignore").filter(|f| f.is_empty() || f.ends_with('/')) {
            path = format!("{folder}.npmignore");
            if members.contains_key(&path) {
                continue;
            }
        }
        members.insert(path, member);
    }
    if members.is_empty() {
        return Err("the archive holds no files".to_owned());
    }
    // A path that is a file and a folder at once cannot be put down.
    let clash = members.keys().find(|p| p.match_indices('/').any(|(at, _)| members.contains_key(&p[..at])));
    match clash {
        Some(path) => Err(format!("{path:?} is inside a file")),
        None => Ok(members),
    }
}
