//! The files of a source, and the one digest that stands for all of them.

use crate::error::{BuildError, PathFacts, Result};
use content::digest::{Hasher, Sha256};
use content::{InputDigest, TreeDigest};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// One file or link of a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TreeFile {
    /// What it is.
    pub kind: TreeKind,
    /// Digest of kind, mode and content.
    pub digest: InputDigest,
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
}

/// Buildpacks read manifests and lockfiles; nothing larger (in bytes) is one.
const LARGEST_READ: u64 = 64 << 20;

impl SourceTree {
    /// A tree of these files under `root`.
    pub fn new(root: PathBuf, files: BTreeMap<String, TreeFile>) -> Self {
        Self { root, files }
    }

    /// The folder that the files are in.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// All files in the order of their paths.
    pub fn files(&self) -> &BTreeMap<String, TreeFile> {
        &self.files
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
        let malformed = |detail: &str| BuildError::Malformed {
            place: crate::Place::new(path, None),
            detail: detail.to_owned(),
        };
        let bytes = content::store::read_limited(&mut file, LARGEST_READ).facts(&full)?;
        let bytes = bytes.ok_or_else(|| malformed("larger than 64 MiB"))?;
        String::from_utf8(bytes).map(Some).map_err(|_| malformed("not UTF-8"))
    }

    /// Merkle digest: every path with the digest of what is there.
    pub fn digest(&self) -> TreeDigest {
        let mut hasher = Hasher::new();
        for (path, file) in &self.files {
            hasher.update(path.as_bytes());
            hasher.update(b"\0");
            hasher.update(file.digest.0.bytes());
        }
        TreeDigest(hasher.finish())
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

impl TreeFile {
    /// A regular file with this content.
    pub fn file(content: InputDigest, size: u64, executable: bool) -> Self {
        let text = format!("{} {content}", if executable { "run" } else { "file" });
        Self { kind: TreeKind::File { size, executable }, digest: InputDigest(Sha256::of(text.as_bytes())) }
    }

    /// A symbolic link.
    pub fn link(target: String) -> Self {
        let digest = InputDigest::of(format!("link {target}").as_bytes());
        Self { kind: TreeKind::Link { target }, digest }
    }
}
