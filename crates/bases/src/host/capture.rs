//! A set of captured files, and the step that writes them into a layer.

use crate::host::Host;
use content::layer::{Entry, LayerWriter, Owner};
use content::store::{FileMemo, Signature, Store};
use engine::{Action, StepContext};
use engine::{Fingerprint, Recipe};
use model::error::SourceError;
use model::{Error, PackageFact, PathFacts, Result};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// Files for one layer by their paths in the image.
#[derive(Clone)]
pub struct Captured {
    entries: BTreeMap<String, Source>,
    /// Things that were looked for and not found.
    pub notes: Vec<String>,
}

#[derive(Clone)]
enum Source {
    Folder { mode: u32, owner: Owner },
    Link { target: String },
    Text { content: String },
    File { host: PathBuf, size: u64, executable: bool, digest: String },
}

/// Collects files; digests of unchanged ones come from the store's memory.
pub(super) struct Collector<'s> {
    captured: Captured,
    store: &'s Store,
    memo: FileMemo,
    memo_name: String,
    now: i64,
}

impl<'s> Collector<'s> {
    /// Starts a collection for the layer `what`; `now` is in nanoseconds since 1970.
    pub(super) fn new(host: &Host, what: &str, store: &'s Store, now: i64) -> Self {
        let root = content::digest::Sha256::of(host.root.as_os_str().as_encoded_bytes()).hex();
        let memo_name = format!("host-{what}-{}.json", &root[..16]);
        let memo = FileMemo::load(store, &memo_name);
        let captured = Captured { entries: BTreeMap::new(), notes: Vec::new() };
        Self { captured, store, memo, memo_name, now }
    }

    pub(super) fn folder(&mut self, path: &str, mode: u32, owner: Owner) {
        self.parents(path);
        self.captured.entries.insert(path.to_owned(), Source::Folder { mode, owner });
    }

    pub(super) fn link(&mut self, path: &str, target: &str) {
        self.parents(path);
        self.captured.entries.insert(path.to_owned(), Source::Link { target: target.to_owned() });
    }

    pub(super) fn text(&mut self, path: &str, content: impl Into<String>) {
        self.parents(path);
        self.captured.entries.insert(path.to_owned(), Source::Text { content: content.into() });
    }

    /// A file of the host; links are followed.
    pub(super) fn file(&mut self, path: &str, host: &Path) -> Result<()> {
        self.parents(path);
        let metadata = fs::metadata(host).facts(host)?;
        let digest = self.memo.digest(path, host, Signature::of(&metadata), self.now)?.to_string();
        let executable = metadata.permissions().mode() & 0o111 != 0;
        let source = Source::File { host: host.to_owned(), size: metadata.len(), executable, digest };
        self.captured.entries.insert(path.to_owned(), source);
        Ok(())
    }

    /// A folder of the host with everything in it that `keep` keeps (asked with the path from that
    /// folder); links to files are followed. Unreadable parts are an error.
    pub(super) fn tree(&mut self, path: &str, host: &Path, keep: &dyn Fn(&str) -> bool) -> Result<()> {
        let mut pending = vec![String::new()];
        while let Some(inside) = pending.pop() {
            let folder = host.join(&inside);
            for entry in fs::read_dir(&folder).facts(&folder)? {
                let entry = entry.facts(&folder)?;
                let name = entry.file_name();
                let name = name
                    .to_str()
                    .ok_or_else(|| Error::Source(SourceError::FileName { path: entry.path() }))?;
                let inner = if inside.is_empty() { name.to_owned() } else { format!("{inside}/{name}") };
                if !keep(&inner) {
                    continue;
                }
                // Metadata of what a link leads to; a link that leads nowhere is of no use inside either.
                let Ok(metadata) = fs::metadata(entry.path()) else { continue };
                if metadata.is_dir() && entry.file_type().is_ok_and(|t| t.is_dir()) {
                    pending.push(inner);
                } else if metadata.is_file() {
                    self.file(&format!("{path}/{inner}"), &entry.path())?;
                }
            }
        }
        Ok(())
    }

    pub(super) fn note(&mut self, note: impl Into<String>) {
        self.captured.notes.push(note.into());
    }

    pub(super) fn finish(self) -> Result<Captured> {
        self.memo.save(self.store, &self.memo_name)?;
        Ok(self.captured)
    }

    /// Folders above, with plain modes, unless stated otherwise.
    fn parents(&mut self, path: &str) {
        for (at, _) in path.match_indices('/') {
            let plain = Source::Folder { mode: 0o755, owner: Owner::ROOT };
            self.captured.entries.entry(path[..at].to_owned()).or_insert(plain);
        }
    }
}

impl Captured {
    /// Everything captured, by its path in the image.
    fn parts(&self) -> BTreeMap<String, String> {
        let part = |(path, source): (&String, &Source)| {
            let value = match source {
                Source::Folder { mode, owner } => format!("folder {mode:o} {}:{}", owner.uid, owner.gid),
                Source::Link { target } => format!("link {target}"),
                Source::Text { content } => format!("text {}", content::InputDigest::of(content.as_bytes())),
                Source::File { executable, digest, .. } => {
                    format!("{} {digest}", if *executable { "run" } else { "file" })
                }
            };
            (path.clone(), value)
        };
        self.entries.iter().map(part).collect()
    }
}

impl Action for Captured {
    fn fingerprint(&self) -> Fingerprint {
        let Self { entries: _, notes: _ } = self;
        Fingerprint::of(Recipe::new("captured files", 1)).input("host files", self.parts())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let total = self.entries.len();
        layer.part::<Error>(|tar| {
            for (done, (path, source)) in self.entries.iter().enumerate() {
                cx.check_cancelled()?;
                match source {
                    Source::Folder { mode, owner } => {
                        let entry = Entry { mode: *mode, owner: *owner, ..Entry::folder(path) };
                        tar.entry(&entry)?;
                    }
                    Source::Link { target } => tar.entry(&Entry::link(path, target))?,
                    Source::Text { content } => {
                        let entry = Entry::file(path, content.len() as u64, false);
                        tar.file(&entry, &mut content.as_bytes())?;
                    }
                    Source::File { host, size, executable, .. } => {
                        let mut file = File::open(host).facts(host)?;
                        tar.file(&Entry::file(path, *size, *executable), &mut file)?;
                    }
                }
                (cx.progress)(done + 1, total);
            }
            Ok(())
        })?;
        Ok(Vec::new())
    }
}
