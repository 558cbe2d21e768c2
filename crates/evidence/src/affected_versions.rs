//! Which versions advisories are about, as the OSV schema evaluates them, and versions compared as their ecosystems do.

use crate::osv::{About, Range};
use images::compare::compare_versions;
use semver::Version as SemanticVersion;
use std::cmp::Ordering;
use std::str::FromStr;

/// The schema's own way ("Evaluation"): named versions, or within one of the ranges.
pub(crate) fn is_affected(kind: &str, version: &str, about: &About) -> bool {
    let is_named = about.versions.iter().any(|one| compare(kind, one, version).is_eq());
    is_named
        || about
            .ranges
            .iter()
            .filter(|range| range.kind != "GIT")
            .any(|range| is_within(kind, version, range))
}

fn is_within(kind: &str, version: &str, range: &Range) -> bool {
    let mut events: Vec<(&str, bool, bool)> = Vec::new();
    for event in &range.events {
        // What it is of, whether it begins there, and whether that version itself is still affected.
        events.extend(event.introduced.as_deref().map(|at| (at, true, true)));
        events.extend(event.fixed.as_deref().map(|at| (at, false, false)));
        events.extend(event.last_affected.as_deref().map(|at| (at, false, true)));
    }
    let order = |at: &str| if at == "0" { Ordering::Greater } else { compare(kind, version, at) };
    events.sort_by(|a, b| match (a.0, b.0) {
        ("0", "0") => Ordering::Equal,
        ("0", _) => Ordering::Less,
        (_, "0") => Ordering::Greater,
        (a, b) => compare(kind, a, b),
    });
    let mut is_affected = false;
    for (at, begins, includes) in events {
        match (begins, order(at)) {
            (true, order) if order.is_ge() => is_affected = true,
            (false, Ordering::Greater) => is_affected = false,
            (false, Ordering::Equal) if !includes => is_affected = false,
            _ => {}
        }
    }
    is_affected
}

/// Compares versions as their ecosystem does, as far as both are versions to it; `kind` is that of the package URL.
pub fn compare(kind: &str, a: &str, b: &str) -> Ordering {
    let plain = |text: &str| text.trim_start_matches('v').to_owned();
    let exact = match kind {
        "npm" | "golang" => {
            let read = |text: &str| SemanticVersion::parse(&plain(text)).ok();
            read(a).zip(read(b)).map(|(a, b)| a.cmp_precedence(&b))
        }
        "deb" => Some(remote::packages::debian::compare(a, b)),
        "pypi" => {
            let read = |text: &str| pep440_rs::Version::from_str(text).ok();
            read(a).zip(read(b)).map(|(a, b)| a.cmp(&b))
        }
        _ => None,
    };
    exact.unwrap_or_else(|| compare_versions(a, b))
}
