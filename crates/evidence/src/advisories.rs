//! Advisories, and the packages of an image that they are about.

use crate::acceptance::{Acceptance, Accepted};
use crate::affected::{Affected, Severity};
use crate::affected_versions::is_affected;
use crate::cvss::base_score;
use crate::osv::{About, Advisory};
use config::AcceptedAdvisory;
use model::PackageFact;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// Kinds of package URLs with the ecosystem of the schema that has them.
const ECOSYSTEMS: [(&str, &str); 7] = [
    ("composer", "Packagist"),
    ("deb", "Debian"),
    ("gem", "RubyGems"),
    ("golang", "Go"),
    ("maven", "Maven"),
    ("npm", "npm"),
    ("pypi", "PyPI"),
];

/// What was found, and what was not looked at.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Found {
    /// The worst first.
    pub affected: Vec<Affected>,
    /// Those that are accepted for now, each with the reason.
    pub accepted: Vec<Accepted>,
    /// How many advisories were read.
    pub advisories: usize,
    /// How many packages were compared with them.
    pub compared: usize,
    /// Kinds of packages that are not compared, with how many there are.
    pub passed_over: BTreeMap<String, usize>,
}

/// Advisories with what they say of one package.
type Abouts<'a> = Vec<(&'a Advisory, &'a About)>;

/// The packages that advisories are about. Those that were withdrawn are passed over.
pub fn find(packages: &[PackageFact], advisories: &[Advisory], acceptance: &Acceptance<'_>) -> Found {
    let mut by_package: BTreeMap<(&str, &str, String), Abouts<'_>> = BTreeMap::new();
    for advisory in advisories.iter().filter(|advisory| advisory.withdrawn.is_none()) {
        for about in &advisory.affected {
            let Some(package) = &about.package else { continue };
            let (ecosystem, release) = split_release(&package.ecosystem);
            let key = (ecosystem, release, canonical(ecosystem, &package.name));
            by_package.entry(key).or_default().push((advisory, about));
        }
    }
    let mut found = Found { advisories: advisories.len(), ..Found::default() };
    let mut seen = BTreeSet::new();
    for package in packages {
        let kind =
            package.purl.strip_prefix("pkg:").and_then(|rest| rest.split('/').next()).unwrap_or_default();
        let Some((_, ecosystem)) = ECOSYSTEMS.iter().find(|(own, _)| *own == kind) else {
            *found.passed_over.entry(kind.to_owned()).or_default() += 1;
            continue;
        };
        found.compared += 1;
        // Those of distributions are about packages of sources, and some about every release.
        let source = package.source.as_ref().map(|source| (source.name.as_str(), source.version.as_str()));
        let (name, version) = source.unwrap_or((&package.name, &package.version));
        let name = canonical(ecosystem, name);
        let releases: BTreeSet<&str> = BTreeSet::from(["", release_of(package)]);
        let known =
            releases.iter().filter_map(|release| by_package.get(&(*ecosystem, release, name.clone())));
        for (advisory, about) in known.flatten() {
            if is_affected(kind, version, about) && seen.insert((&advisory.id, &package.purl)) {
                let affected = affected(advisory, about, package);
                match acceptance.of(&affected) {
                    None => found.affected.push(affected),
                    Some(AcceptedAdvisory { reason, until }) => {
                        found.accepted.push(Accepted {
                            affected,
                            reason: reason.clone(),
                            until: until.to_string(),
                        });
                    }
                }
            }
        }
    }
    found.affected.sort_by(|a, b| (b.severity, &a.name, &a.id).cmp(&(a.severity, &b.name, &b.id)));
    found
}

fn affected(advisory: &Advisory, about: &About, package: &PackageFact) -> Affected {
    let fixed = about.ranges.iter().flat_map(|range| &range.events).filter_map(|event| event.fixed.clone());
    let first_line = advisory.details.lines().next().unwrap_or_default();
    Affected {
        id: advisory.id.clone(),
        aliases: advisory.aliases.clone(),
        summary: if advisory.summary.is_empty() { first_line.to_owned() } else { advisory.summary.clone() },
        severity: severity(advisory, about),
        purl: package.purl.clone(),
        name: package.name.clone(),
        version: package.version.clone(),
        fixed: fixed.collect(),
    }
}

/// By the score where there is one that can be read, else by the publisher's own rating.
fn severity(advisory: &Advisory, about: &About) -> Severity {
    let scores = about.severity.iter().chain(&advisory.severity).filter_map(|one| base_score(&one.score));
    if let Some(score) = scores.reduce(f64::max) {
        return match score {
            score if score >= 9.0 => Severity::Critical,
            score if score >= 7.0 => Severity::High,
            score if score >= 4.0 => Severity::Medium,
            _ => Severity::Low,
        };
    }
    match advisory.database_specific["severity"].as_str().map(str::to_lowercase).as_deref() {
        Some("critical") => Severity::Critical,
        Some("high") => Severity::High,
        Some("moderate" | "medium") => Severity::Medium,
        Some("low") => Severity::Low,
        _ => Severity::Unknown,
    }
}

/// `Debian` and `13` of `Debian:13`.
fn split_release(ecosystem: &str) -> (&str, &str) {
    ecosystem.split_once(':').unwrap_or((ecosystem, ""))
}

/// The release of the distribution that a package is of, as in the qualifier `distro=debian-13`.
fn release_of(package: &PackageFact) -> &str {
    let qualifiers = package.purl.split_once('?').map_or("", |(_, rest)| rest);
    let distro = qualifiers.split('&').find_map(|one| one.strip_prefix("distro="));
    distro.and_then(|distro| distro.split_once('-')).map_or("", |(_, release)| release)
}

/// A name as its ecosystem compares names.
fn canonical(ecosystem: &str, name: &str) -> String {
    match ecosystem {
        "PyPI" => remote::packages::pypi::canonical_name(name),
        "Packagist" => name.to_lowercase(),
        _ => name.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::SourcePackage;
    use serde_json::{Value, json};

    fn nothing() -> Acceptance<'static> {
        static NONE: BTreeMap<String, AcceptedAdvisory> = BTreeMap::new();
        Acceptance { accepted: &NONE, today: "2026-11-27".parse().unwrap() }
    }

    #[test]
    fn an_accepted_advisory_counts_again_when_its_time_is_over() {
        let advisory: Advisory = serde_json::from_value(json!({
            "id": "HARBOUR-1", "aliases": ["CVE-2026-1"],
            "affected": [{ "package": { "ecosystem": "npm", "name": "hull" }, "versions": ["1.0.0"] }],
        }))
        .unwrap();
        let until =
            |day: &str| AcceptedAdvisory { reason: "not reached".to_owned(), until: day.parse().unwrap() };
        for (name, day, expected) in [
            ("CVE-2026-1", "2026-11-27", (0, 1)),
            ("HARBOUR-1", "2027-01-01", (0, 1)),
            ("HARBOUR-1", "2026-11-26", (1, 0)),
            ("HARBOUR-2", "2027-01-01", (1, 0)),
        ] {
            let accepted = BTreeMap::from([(name.to_owned(), until(day))]);
            let acceptance = Acceptance { accepted: &accepted, ..nothing() };
            let found =
                find(&[package("npm", "hull", "1.0.0")], std::slice::from_ref(&advisory), &acceptance);
            assert_eq!((found.affected.len(), found.accepted.len()), expected, "{name} {day}");
        }
    }

    #[test]
    fn those_of_a_distribution_are_about_sources_and_a_release() {
        let advisory = |ecosystem: &str| -> Advisory {
            serde_json::from_value(json!({
                "id": "HARBOUR-2",
                "affected": [{ "package": { "ecosystem": ecosystem, "name": "openhull" }, "ranges": [
                    { "type": "ECOSYSTEM", "events": [{ "introduced": "0" }, { "fixed": "3.5.1-1+deb13u2" }] },
                ] }],
            }))
            .unwrap()
        };
        let library = |version: &str| PackageFact {
            purl: "pkg:deb/debian/libhull3@1?arch=amd64&distro=debian-13".to_owned(),
            source: Some(SourcePackage { name: "openhull".to_owned(), version: version.to_owned() }),
            ..package("deb", "libhull3", "1")
        };
        for (ecosystem, version, expected) in [
            ("Debian:13", "3.5.1-1+deb13u1", 1),
            ("Debian", "3.5.1-1~rc1", 1),
            ("Debian:13", "3.5.1-1+deb13u2", 0),
            ("Debian:12", "3.5.1-1", 0),
        ] {
            let found = find(&[library(version)], &[advisory(ecosystem)], &nothing());
            assert_eq!(found.affected.len(), expected, "{ecosystem} {version}");
        }
    }

    fn package(kind: &str, name: &str, version: &str) -> PackageFact {
        PackageFact::new(name, version, format!("pkg:{kind}/{name}@{version}"), "")
    }

    fn advisory(ecosystem: &str, name: &str, events: Value) -> Advisory {
        serde_json::from_value(json!({
            "id": "FERRY-1", "summary": "a hole below the water line",
            "severity": [{ "type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:H" }],
            "affected": [{
                "package": { "ecosystem": ecosystem, "name": name }, "ranges": [{ "type": "ECOSYSTEM", "events": events }],
            }],
        }))
        .unwrap()
    }

    #[test]
    fn versions_within_a_range_are_affected_and_no_others() {
        let range = json!([{ "introduced": "1.0.0" }, { "fixed": "1.2.3" }, { "introduced": "2.0.0" }, { "last_affected": "2.4.0" }]);
        for (kind, ecosystem, cases) in [
            (
                "npm",
                "npm",
                &[
                    ("0.9.0", false),
                    ("1.0.0-rc.1", false),
                    ("1.0.0", true),
                    ("1.2.3", false),
                    ("1.2.3-beta", true),
                    ("2.4.0", true),
                    ("2.4.1", false),
                ][..],
            ),
            ("pypi", "PyPI", &[("1.0.0rc1", false), ("1.2.2.post1", true), ("1.2.3", false), ("2.0", true)]),
            ("gem", "RubyGems", &[("1.2.2", true), ("1.10.0", false)]),
            ("composer", "Packagist", &[("v1.2.2", true), ("v1.2.3", false)]),
            ("maven", "Maven", &[("1.2.2", true), ("1.2.3-SNAPSHOT", true), ("1.2.3", false)]),
            ("golang", "Go", &[("v1.2.2", true), ("v2.4.1", false)]),
        ] {
            let all = [advisory(ecosystem, "hull", range.clone())];
            for (version, expected) in cases {
                let found = find(&[package(kind, "hull", version)], &all, &nothing());
                assert_eq!(!found.affected.is_empty(), *expected, "{kind} {version}");
            }
        }
    }

    #[test]
    fn what_is_found_says_how_bad_it_is_and_where_it_is_fixed() {
        let all = [advisory("PyPI", "Fog.Horn", json!([{ "introduced": "0" }, { "fixed": "2.0" }]))];
        let packages = [package("pypi", "fog-horn", "1.0"), package("cargo", "oar", "2.41")];
        let found = find(&packages, &all, &nothing());
        let [one] = &found.affected[..] else { panic!("{found:?}") };
        assert_eq!((one.severity, one.fixed[0].as_str()), (Severity::High, "2.0"));
        assert_eq!(found.passed_over, BTreeMap::from([("cargo".to_owned(), 1)]));
        let withdrawn = Advisory {
            withdrawn: Some("2026-01-01T00:00:00Z".to_owned()),
            ..all.into_iter().next().unwrap()
        };
        assert!(find(&packages, &[withdrawn], &nothing()).affected.is_empty());
    }
}
