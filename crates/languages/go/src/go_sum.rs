//! `go.sum`: module hashes, and of their `go.mod` (the Go modules reference, "go.sum files").

use crate::go_mod::ModuleVersion;
use std::collections::BTreeMap;

/// How a version is written where the hash is that of the `go.mod` alone.
pub(super) const OF_MANIFEST: &str = "/go.mod";

/// Hashes by module and version.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct GoSum(BTreeMap<ModuleVersion, String>);

impl GoSum {
    /// Reads all lines that are of a known kind.
    pub(super) fn parse(text: &str) -> Self {
        let line = |line: &str| {
            let mut words = line.split_whitespace();
            let module = ModuleVersion { path: words.next()?.to_owned(), version: words.next()?.to_owned() };
            Some((module, words.next().filter(|hash| hash.starts_with("h1:"))?.to_owned()))
        };
        Self(text.lines().filter_map(line).collect())
    }

    pub(super) fn extend(&mut self, more: Self) {
        self.0.extend(more.0);
    }

    pub(super) fn insert(&mut self, module: ModuleVersion, hash: String) {
        self.0.insert(module, hash);
    }

    /// The hash of a module's archive.
    pub(super) fn archive(&self, module: &ModuleVersion) -> Option<&str> {
        self.0.get(module).map(String::as_str)
    }

    /// The hash of a module's `go.mod`.
    pub(super) fn manifest(&self, module: &ModuleVersion) -> Option<&str> {
        self.0.get(&of_manifest(module)).map(String::as_str)
    }

    /// The modules with a hash of their archive or their `go.mod`, each once, in order.
    pub(super) fn modules(&self) -> Vec<ModuleVersion> {
        let plain = |module: &ModuleVersion| ModuleVersion {
            path: module.path.clone(),
            version: module.version.trim_end_matches(OF_MANIFEST).to_owned(),
        };
        let mut modules: Vec<_> = self.0.keys().map(plain).collect();
        modules.dedup();
        modules
    }

    /// The text of the file.
    pub(super) fn text(&self) -> String {
        let line = |(module, hash): (&ModuleVersion, &String)| {
            format!("{} {} {hash}\n", module.path, module.version)
        };
        self.0.iter().map(line).collect()
    }
}

/// How the `go.mod` of a module is named.
pub(super) fn of_manifest(module: &ModuleVersion) -> ModuleVersion {
    ModuleVersion { path: module.path.clone(), version: format!("{}{OF_MANIFEST}", module.version) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hashes_are_found_by_module_and_version_and_written_again() {
        let text = "buoy.example/a v1.0.0 h1:AAAA=\nbuoy.example/a v1.0.0/go.mod h1:BBBB=\nbuoy.example/b v0.1.0/go.mod h1:CCCC=\n";
        let sums = GoSum::parse(&format!("{text}a line that is none\n"));
        let [a, b] = &sums.modules()[..] else { panic!("{sums:?}") };
        assert_eq!((sums.archive(a), sums.manifest(a)), (Some("h1:AAAA="), Some("h1:BBBB=")));
        assert_eq!((sums.archive(b), sums.manifest(b)), (None, Some("h1:CCCC=")));
        assert_eq!(sums.text(), text);
    }
}
