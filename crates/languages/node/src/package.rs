//! One package: where its files come from, which platforms it is for, and what of it goes into the image.

use crate::patch::Patch;
use remote::Integrity;
use std::collections::{BTreeMap, BTreeSet};

/// Where a package's files come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Origin {
    /// A registry; with the URL, where the file says one.
    Registry(Option<String>),
    /// An archive in the source.
    Archive(String),
    /// A folder of the source, which is linked to.
    Link(String),
    /// The package above it, which carries it.
    Bundled,
    /// A commit (in full) of a repository.
    Commit { url: String, id: String },
    /// Something that this version cannot get.
    Other(String),
}

impl Default for Origin {
    fn default() -> Self {
        Self::Registry(None)
    }
}

/// The platforms that a package is for, as its manifest lists them; nothing means all.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Fits {
    pub(super) os: Vec<String>,
    pub(super) cpu: Vec<String>,
    pub(super) libc: Vec<String>,
}

impl Fits {
    /// Whether `platform`, as in `linux/amd64`, is one of them. Every base here has the GNU C library.
    pub(super) fn platform(&self, platform: &str) -> bool {
        let (os, processor) = platform.split_once('/').unwrap_or((platform, ""));
        let cpu = if processor == "amd64" { "x64" } else { processor };
        allows(&self.os, os) && allows(&self.cpu, cpu) && allows(&self.libc, "glibc")
    }
}

/// `["linux", "darwin"]` or `["!win32"]`.
fn allows(rules: &[String], here: &str) -> bool {
    let refused = rules.iter().any(|r| r.strip_prefix('!') == Some(here));
    let chosen = rules.iter().all(|r| r.starts_with('!')) || rules.iter().any(|r| r == here || r == "any");
    !refused && chosen
}

/// One package that goes into the image.
#[derive(Debug, Clone)]
pub(super) struct LockedPackage {
    /// Where it is put, from the root of the app: `node_modules/…`.
    pub(super) path: String,
    /// Its name in the registry.
    pub(super) name: String,
    pub(super) version: String,
    pub(super) origin: Origin,
    pub(super) integrity: Option<Integrity>,
    /// Command name and file within the package.
    pub(super) bin: BTreeMap<String, String>,
    pub(super) licence: Option<String>,
    pub(super) deprecated: Option<String>,
    pub(super) has_install_script: bool,
    /// Changes that the app makes to it.
    pub(super) patches: Vec<Patch>,
    /// Files of packages that it carries and that are commands.
    pub(super) carried_commands: BTreeSet<String>,
    /// Whether everything that wants it can do without.
    pub(super) optional: bool,
    /// The packages that led to it, the nearest first.
    pub(super) wanted_by: Vec<String>,
}

impl LockedPackage {
    /// Name and version, for people.
    pub(super) fn label(&self) -> String {
        format!("{} {}", self.name, self.version)
    }

    /// Name and version, and who wants it.
    pub(super) fn wanted(&self) -> String {
        planning::wanted(&self.label(), &self.wanted_by)
    }

    /// Whether files of its own are put down for it.
    pub(super) fn has_files(&self) -> bool {
        !matches!(self.origin, Origin::Link(_) | Origin::Bundled)
    }

    /// Whether its name says that it is for another system, and the app can do without it: it need not be
    /// fetched to learn that.
    pub(super) fn is_for_elsewhere(&self) -> bool {
        const ELSEWHERE: [&str; 9] =
            ["darwin", "win32", "android", "freebsd", "openbsd", "netbsd", "sunos", "aix", "wasm32"];
        self.optional && self.name.split(['-', '/', '.', '_']).any(|word| ELSEWHERE.contains(&word))
    }
}
