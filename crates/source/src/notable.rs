//! Content that hardly anybody means to have in an image.

use crate::tree::{SourceTree, TreeKind};
use serde::Serialize;
use std::collections::BTreeMap;

/// Something that is packed and probably should not be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Notable {
    /// The file or folder, from the root of the source.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// What it is.
    pub what: Unexpected,
}

/// What unexpected content is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Unexpected {
    /// Installed packages that no manifest beside them explains.
    Packages,
    /// The contents of a database.
    Database,
    /// A packed copy of other files.
    Archive,
    /// A large file of any other kind.
    Large,
}

impl Unexpected {
    /// What it is, and why it should not be there.
    pub fn told(self) -> &'static str {
        match self {
            Self::Packages => "installed packages; no manifest beside them says which",
            Self::Database => "the contents of a database",
            Self::Archive => "a packed copy of other files",
            Self::Large => "a large file",
        }
    }
}

/// Smaller files are not worth a word, in bytes.
const SMALL: u64 = 1 << 20;
/// Larger files are reported, in bytes.
const LARGE: u64 = 32 << 20;

const DATABASES: [&str; 9] =
    [".sql", ".sql.gz", ".dump", ".bak", ".sqlite", ".sqlite3", ".db", ".rdb", ".mdb"];
const ARCHIVES: [&str; 8] = [".zip", ".tar", ".tar.gz", ".tgz", ".tar.zst", ".7z", ".iso", ".tar.xz"];

/// What of a source is unexpected, largest first.
pub(super) fn notable(tree: &SourceTree) -> Vec<Notable> {
    let mut packages: BTreeMap<&str, u64> = BTreeMap::new();
    let mut found = Vec::new();
    for (path, file) in tree.files() {
        let TreeKind::File { size, .. } = file.kind else { continue };
        if let Some(folder) = packages_folder(path) {
            *packages.entry(folder).or_default() += size;
            continue;
        }
        let ends = |endings: &[&str]| endings.iter().any(|e| path.to_ascii_lowercase().ends_with(e));
        let what = match size {
            0..SMALL => continue,
            _ if ends(&DATABASES) => Unexpected::Database,
            _ if ends(&ARCHIVES) => Unexpected::Archive,
            LARGE.. => Unexpected::Large,
            _ => continue,
        };
        found.push(Notable { path: path.clone(), size, what });
    }
    let whole =
        |(folder, size): (&str, u64)| Notable { path: folder.to_owned(), size, what: Unexpected::Packages };
    found.extend(packages.into_iter().map(whole));
    found.sort_by(|a, b| b.size.cmp(&a.size).then_with(|| a.path.cmp(&b.path)));
    found
}

/// The folder of installed packages that a file lies in.
fn packages_folder(path: &str) -> Option<&str> {
    let folders = ["node_modules/", "site-packages/", "bower_components/"];
    folders.iter().find_map(|name| {
        let begins = if path.starts_with(name) { 0 } else { path.find(&format!("/{name}"))? + 1 };
        Some(&path[..begins + name.len() - 1])
    })
}
