//! The files of a source. What they look like from outside is known at once; their contents are only
//! read where somebody needs them.

use content::digest::{Hasher, Sha256};
use content::store::{FileMemo, Signature, Store};
use content::{InputDigest, TreeDigest};
use model::error::SurveyError;
use model::{Error, PathFacts, Result};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// One file or link of a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TreeFile {
    /// What it is.
    pub kind: TreeKind,
    /// What the file system says of it.
    pub signature: Signature,
}

/// What a file of a source is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TreeKind {
    /// A regular file.
    File {
        /// Length in bytes.
        size: u64,
        /// Whether its owner may run it.
        executable: bool,
    },
    /// A symbolic link to somewhere else in the source.
    Link {
        /// The target as written.
        target: String,
    },
}

/// The files of a source by their paths; the only view of it that buildpacks get.
pub struct SourceTree {
    root: PathBuf,
    files: BTreeMap<String, TreeFile>,
    member: Option<String>,
}

/// Buildpacks read manifests and lockfiles; nothing larger (in bytes) is one.
const LARGEST_READ: u64 = 64 << 20;

impl SourceTree {
    /// A tree of these files under `root`.
    pub fn new(root: PathBuf, files: BTreeMap<String, TreeFile>) -> Self {
        Self { root, files, member: None }
    }

    /// The folder that the files are in.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// All files in the order of their paths.
    pub fn files(&self) -> &BTreeMap<String, TreeFile> {
        &self.files
    }

    /// The part of the tree that lies in the folder `path`.
    pub fn below(&self, path: &str) -> Self {
        let inside = format!("{path}/");
        let files = self
            .files
            .iter()
            .filter_map(|(file, what)| Some((file.strip_prefix(&inside)?.to_owned(), what.clone())));
        Self { root: self.root.join(path), files: files.collect(), member: None }
    }

    /// The member of the workspace that is the app: its folder. Everything else is there for it.
    pub fn member(&self) -> Option<&str> {
        self.member.as_deref()
    }

    /// The source of one member, without the files in the folders `others`.
    pub fn of_member(mut self, folder: &str, others: &[String]) -> Self {
        let is_in = |path: &str, other: &String| {
            path.strip_prefix(other.as_str()).is_some_and(|rest| rest.starts_with('/'))
        };
        self.files.retain(|path, _| !others.iter().any(|other| is_in(path, other)));
        Self { member: Some(folder.to_owned()), ..self }
    }

    /// Whether there is a file or link at `path`.
    pub fn has(&self, path: &str) -> bool {
        self.files.contains_key(path)
    }

    /// The text of a file; `None` when there is no such file.
    pub fn read(&self, path: &str) -> Result<Option<String>> {
        if !self.has(path) {
            return Ok(None);
        }
        let full = self.root.join(path);
        let mut file = std::fs::File::open(&full).facts(&full)?;
        let malformed = |detail: &str| {
            Error::Survey(SurveyError::Malformed {
                place: model::Place::new(path, None),
                detail: detail.to_owned(),
            })
        };
        let bytes = content::store::read_limited(&mut file, LARGEST_READ).facts(&full)?;
        let bytes = bytes.ok_or_else(|| malformed("larger than 64 MiB"))?;
        String::from_utf8(bytes).map(Some).map_err(|_| malformed("not UTF-8"))
    }

    /// The same, without a word on a file that is no text; one that cannot be read is an error.
    pub fn read_text(&self, path: &str) -> Result<Option<String>> {
        match self.read(path) {
            Err(Error::Survey(SurveyError::Malformed { .. })) => Ok(None),
            read => read,
        }
    }

    /// Stands for what the file system says of all files; the same as long as nobody touches one.
    /// `None` when one was touched so shortly before `now` (in nanoseconds since 1970) that it may
    /// change again without looking so.
    pub fn appearance(&self, now: i64) -> Option<Sha256> {
        let mut hasher = Hasher::new();
        hasher.update(self.root.as_os_str().as_encoded_bytes());
        for (path, file) in &self.files {
            if !file.signature.is_settled(now) {
                return None;
            }
            hasher.update(path.as_bytes());
            hasher.update(&file.signature.to_bytes());
        }
        Some(hasher.finish())
    }

    /// The digests of all files; those of unchanged ones come from the store's memory. `now` is in
    /// nanoseconds since 1970.
    pub fn digests(&self, store: &Store, now: i64) -> Result<TreeDigests> {
        let whole = match self.files.keys().next() {
            Some(only) if self.files.len() == 1 => self.root.join(only),
            _ => self.root.clone(),
        };
        let memo = format!("files-{}.json", Sha256::of(whole.as_os_str().as_encoded_bytes()).hex());
        let mut known = FileMemo::load(store, &memo);
        let mut digests = BTreeMap::new();
        for (path, file) in &self.files {
            let digest = match &file.kind {
                TreeKind::Link { target } => InputDigest::of(format!("link {target}").as_bytes()),
                TreeKind::File { executable, .. } => {
                    let content = known.digest(path, &self.root.join(path), file.signature, now)?;
                    let text = format!("{} {content}", if *executable { "run" } else { "file" });
                    InputDigest::of(text.as_bytes())
                }
            };
            digests.insert(path.clone(), digest);
        }
        known.save(store, &memo)?;
        Ok(TreeDigests(digests))
    }

    /// Bytes of all regular files together.
    pub fn size(&self) -> u64 {
        self.files
            .values()
            .map(|f| match f.kind {
                TreeKind::File { size, .. } => size,
                TreeKind::Link { .. } => 0,
            })
            .sum()
    }
}

/// The digest of kind, mode and content of every file, by path.
pub struct TreeDigests(pub BTreeMap<String, InputDigest>);

impl TreeDigests {
    /// Merkle digest: every path with the digest of what is there.
    pub fn tree(&self) -> TreeDigest {
        let mut hasher = Hasher::new();
        for (path, digest) in &self.0 {
            hasher.update(path.as_bytes());
            hasher.update(b"\0");
            hasher.update(digest.0.bytes());
        }
        TreeDigest(hasher.finish())
    }
}
