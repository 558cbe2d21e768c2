//! Which packages a set of packages needs to run.

use crate::debian::suites::is_among;
use remote::packages::debian::{Alternative, Index, Package, Relation};
use std::collections::{BTreeMap, VecDeque};

/// A package that was chosen, with the number of the archive that has it.
pub type Chosen = BTreeMap<String, (Package, usize)>;

/// Something that is needed and that nothing provides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unmet {
    /// What is needed, as the package says it.
    pub wanted: String,
    /// Who needs it: the package that was asked for first, then each that led to the next.
    pub chain: Vec<String>,
}

/// Every package that `wanted` needs, directly or not, apart from those in `present`. Of
/// alternatives the first that is there or can be had is taken. What is in `without` is not needed.
pub(crate) fn closure(
    index: &Index,
    wanted: &[&str],
    present: &Chosen,
    without: &[&str],
) -> Result<Chosen, Unmet> {
    let mut chosen = Chosen::new();
    let mut pending: VecDeque<(Relation, Vec<String>)> = VecDeque::new();
    for name in wanted {
        pending.push_back((vec![Alternative { name: (*name).to_owned(), version: None }], Vec::new()));
    }
    while let Some((relation, chain)) = pending.pop_front() {
        let is_met = |alternative: &Alternative| {
            let mut there = present.values().chain(chosen.values());
            there.any(|(package, _)| meets(package, alternative))
        };
        let is_left_out = |a: &Alternative| is_among(without, &a.name) && !chain.is_empty();
        if relation.iter().any(is_met) || relation.iter().any(is_left_out) {
            continue;
        }
        let mut candidates = relation.iter().filter_map(|a| candidate(index, a));
        let Some(first) = candidates.next() else {
            return Err(Unmet { wanted: shown(&relation), chain });
        };
        // The first that goes together with what is there; if none does, that is reported at the end.
        let fits = |(package, _): &(Package, usize)| {
            let mut there = present.values().chain(chosen.values());
            !there.any(|(other, _)| excludes(package, other) || excludes(other, package))
        };
        let (package, archive) = match fits(&first) {
            true => first,
            false => candidates.find(fits).unwrap_or(first),
        };
        let chain: Vec<String> = chain.into_iter().chain([package.name.clone()]).collect();
        pending.extend(package.depends.iter().map(|relation| (relation.clone(), chain.clone())));
        chosen.insert(package.name.clone(), (package, archive));
    }
    Ok(chosen)
}

/// Two packages that cannot be together (Debian Policy Manual, sections 7.3 and 7.4).
pub fn conflict<'p>(packages: &[&'p Package]) -> Option<(&'p str, &'p str)> {
    let excluding = |one: &&&'p Package| {
        let other = packages.iter().find(|other| excludes(one, other))?;
        Some((one.name.as_str(), other.name.as_str()))
    };
    packages.iter().filter(|p| !p.conflicts.is_empty()).find_map(|one| excluding(&one))
}

/// Whether `one` cannot be together with `other`. No package excludes itself.
fn excludes(one: &Package, other: &Package) -> bool {
    one.name != other.name && one.conflicts.iter().flatten().any(|excluded| meets(other, excluded))
}

fn candidate(index: &Index, alternative: &Alternative) -> Option<(Package, usize)> {
    let named = index.package(&alternative.name).filter(|(package, _)| alternative.accepts(&package.version));
    named.or_else(|| {
        let mut providers = index.providers(&alternative.name).iter().filter_map(|name| index.package(name));
        providers.find(|(package, _)| meets(package, alternative))
    })
}

/// Whether the package is what `wanted` names, or stands for it. Only a name with a version meets a
/// wish for a version (Debian Policy Manual, section 7.5).
fn meets(package: &Package, wanted: &Alternative) -> bool {
    let provides = |provided: &Alternative| {
        provided.name == wanted.name
            && match (&wanted.version, &provided.version) {
                (None, _) => true,
                (Some(_), Some((_, version))) => wanted.accepts(version),
                (Some(_), None) => false,
            }
    };
    package.name == wanted.name && wanted.accepts(&package.version)
        || package.provides.iter().flatten().any(provides)
}

fn shown(relation: &Relation) -> String {
    let one = |a: &Alternative| match &a.version {
        None => a.name.clone(),
        Some((sense, version)) => format!("{} ({} {version})", a.name, sense.sign()),
    };
    relation.iter().map(one).collect::<Vec<_>>().join(" | ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn index(packages: &[(&str, &str, &str)]) -> Index {
        let paragraph = |(name, version, more): &(&str, &str, &str)| {
            format!("Package: {name}\nVersion: {version}\nArchitecture: all\nSize: 1\n{more}\n")
        };
        let mut index = Index::default();
        index.add(packages.iter().map(paragraph).collect::<Vec<_>>().join("\n"), 0);
        index
    }

    fn names(found: &Result<Chosen, Unmet>) -> Vec<&str> {
        found.as_ref().unwrap().keys().map(String::as_str).collect()
    }

    #[test]
    fn alternatives_virtual_packages_and_cycles_are_followed() {
        let index = index(&[
            ("ferry", "1", "Depends: libhull (>= 2), horn | bell, crew"),
            ("libhull", "2.1", "Pre-Depends: ferry"),
            ("bell", "1", ""),
            ("horn", "1", "Depends: missing-in-action"),
            ("mate", "3", "Provides: crew (= 2)"),
            ("dpkg", "1", ""),
        ]);
        let found = closure(&index, &["ferry"], &Chosen::new(), &["missing-*"]);
        assert_eq!(names(&found), ["ferry", "horn", "libhull", "mate"]);

        let present = closure(&index, &["bell"], &Chosen::new(), &[]).unwrap();
        let found = closure(&index, &["ferry"], &present, &[]);
        assert_eq!(names(&found), ["ferry", "libhull", "mate"], "the bell is there already");
    }

    #[test]
    fn packages_that_exclude_each_other_are_avoided_or_told() {
        let index = index(&[
            ("ferry", "1", "Depends: bell | horn"),
            ("raft", "1", "Conflicts: bell\nBreaks: lamp (<< 2)\nProvides: bell"),
            ("bell", "1", ""),
            ("horn", "1", ""),
            ("lamp", "2", ""),
            ("oar", "1", "Depends: bell (>= 1)"),
        ]);
        let chosen = |wanted: &[&str]| closure(&index, wanted, &Chosen::new(), &[]).unwrap();
        let told = |chosen: &Chosen| {
            let packages: Vec<&Package> = chosen.values().map(|(package, _)| package).collect();
            conflict(&packages).map(|(one, other)| format!("{one} {other}"))
        };
        let avoided = chosen(&["raft", "ferry", "lamp"]);
        assert_eq!(names(&Ok(avoided.clone())), ["ferry", "lamp", "raft"], "the raft stands for a bell");
        assert_eq!(told(&avoided), None);
        assert_eq!(told(&chosen(&["raft", "oar"])).as_deref(), Some("raft bell"));
    }

    #[test]
    fn what_is_missing_is_named_with_who_needs_it() {
        let index = index(&[
            ("ferry", "1", "Depends: libhull"),
            ("libhull", "2.1", "Depends: keel (>= 3) | crew (>= 9)"),
            ("keel", "2", ""),
            ("mate", "3", "Provides: crew"),
        ]);
        let unmet = closure(&index, &["ferry"], &Chosen::new(), &[]).unwrap_err();
        assert_eq!(unmet.wanted, "keel (>= 3) | crew (>= 9)");
        assert_eq!(unmet.chain, ["ferry", "libhull"]);
        let unmet = closure(&index, &["fery"], &Chosen::new(), &[]).unwrap_err();
        assert_eq!((unmet.wanted.as_str(), unmet.chain.len()), ("fery", 0));
    }
}
