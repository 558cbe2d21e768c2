//! Minimal version selection (the Go modules reference, "Minimal version selection"): of each module the highest version
//! that any module needs at least.

use crate::go_mod::ModuleVersion;
use crate::proxy::AT_ONCE;
use engine::run_indexed;
use model::Result;
use semver::Version;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, PoisonError};

/// What modules require.
pub(super) trait Requirements {
    /// What the app's own modules require.
    fn of_mains(&self) -> Vec<ModuleVersion>;
    /// What a module requires.
    fn of(&self, module: &ModuleVersion) -> Result<Vec<ModuleVersion>>;
    /// Whether the app refuses this version.
    fn is_excluded(&self, module: &ModuleVersion) -> bool;
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Selection {
    /// The modules that are selected, in order.
    pub(super) selected: Vec<ModuleVersion>,
    /// All modules whose `go.mod` was read: selecting again needs them, too.
    pub(super) read: BTreeSet<ModuleVersion>,
}

/// Selects a version of each module.
pub(super) fn select(requirements: &(dyn Requirements + Sync)) -> Result<Selection> {
    let mut highest: BTreeMap<String, String> = BTreeMap::new();
    let mut seen: BTreeSet<ModuleVersion> = BTreeSet::new();
    let mut pending = requirements.of_mains();
    while !pending.is_empty() {
        let is_new = |module: &ModuleVersion| !requirements.is_excluded(module) && !seen.contains(module);
        let round: BTreeSet<ModuleVersion> = pending.into_iter().filter(is_new).collect();
        pending = all_of(&round.iter().collect::<Vec<_>>(), requirements)?;
        for module in &round {
            let known = highest.entry(module.path.clone()).or_insert_with(|| module.version.clone());
            if compare(&module.version, known) == Ordering::Greater {
                known.clone_from(&module.version);
            }
        }
        seen.extend(round);
    }
    let selected = highest.into_iter().map(|(path, version)| ModuleVersion { path, version }).collect();
    Ok(Selection { selected, read: seen })
}

/// What several modules require; most of the time goes into waiting for answers.
fn all_of(
    modules: &[&ModuleVersion],
    requirements: &(dyn Requirements + Sync),
) -> Result<Vec<ModuleVersion>> {
    let found: Vec<Mutex<Result<Vec<ModuleVersion>>>> =
        modules.iter().map(|_| Mutex::new(Ok(Vec::new()))).collect();
    run_indexed(modules.len(), AT_ONCE, |at| {
        *found[at].lock().unwrap_or_else(PoisonError::into_inner) = requirements.of(modules[at]);
    });
    let mut all = Vec::new();
    for required in found {
        all.extend(required.into_inner().unwrap_or_else(PoisonError::into_inner)?);
    }
    Ok(all)
}

/// The order of versions with a `v` in front; one that is none is below all others.
fn compare(a: &str, b: &str) -> Ordering {
    let parsed = |text: &str| Version::parse(text.strip_prefix('v').unwrap_or(text)).ok();
    match (parsed(a), parsed(b)) {
        (Some(a), Some(b)) => a.cmp_precedence(&b),
        (a, b) => a.is_some().cmp(&b.is_some()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Requirements by module, each `path version`.
    struct Given(&'static [(&'static str, &'static [&'static str])], &'static [&'static str]);

    fn module(text: &str) -> ModuleVersion {
        let (path, version) = text.split_once(' ').unwrap();
        ModuleVersion { path: path.to_owned(), version: version.to_owned() }
    }

    impl Requirements for Given {
        fn of_mains(&self) -> Vec<ModuleVersion> {
            self.0[0].1.iter().map(|text| module(text)).collect()
        }
        fn of(&self, wanted: &ModuleVersion) -> Result<Vec<ModuleVersion>> {
            let own = self.0[1..].iter().find(|(name, _)| module(name) == *wanted);
            Ok(own.map_or_else(Vec::new, |(_, all)| all.iter().map(|text| module(text)).collect()))
        }
        fn is_excluded(&self, wanted: &ModuleVersion) -> bool {
            self.1.iter().any(|text| module(text) == *wanted)
        }
    }

    fn selected(given: &Given) -> Vec<String> {
        select(given).unwrap().selected.into_iter().map(|m| format!("{} {}", m.path, m.version)).collect()
    }

    #[test]
    fn the_highest_version_that_is_needed_anywhere_is_taken() {
        let given = Given(
            &[
                ("app", &["a v1.1.0", "b v1.2.0"]),
                ("a v1.1.0", &["c v1.3.0"]),
                ("b v1.2.0", &["c v1.4.0-rc.1", "d v0.0.0-20200101000000-abcdefabcdef"]),
                // It is not selected, but its requirements count.
                ("c v1.3.0", &["e v1.9.0"]),
                ("c v1.4.0-rc.1", &["a v1.0.0", "e v1.2.0"]),
            ],
            &[],
        );
        let expected =
            ["a v1.1.0", "b v1.2.0", "c v1.4.0-rc.1", "d v0.0.0-20200101000000-abcdefabcdef", "e v1.9.0"];
        assert_eq!(selected(&given), expected);
    }

    #[test]
    fn an_excluded_version_is_passed_over() {
        let given = Given(&[("app", &["a v1.0.0", "b v1.0.0"]), ("b v1.0.0", &["a v1.5.0"])], &["a v1.5.0"]);
        assert_eq!(selected(&given), ["a v1.0.0", "b v1.0.0"]);
    }
}
