use super::*;
use remote::packages::composer::Repository;
use remote::{Address, Fetcher, Network};
use serde_json::{Value, json};
use std::fs;

/// A repository's package: its version, what it requires, and what else it says.
type Entry<'a> = (&'a str, &'a str, Value, Value);

fn resolved(manifest: Value, entries: &[Entry<'_>], before: &[(&str, &str)]) -> Result<Vec<String>> {
    let mut packages = json!({});
    for (name, version, require, more) in entries {
        let mut entry = json!({ "name": name, "version": version, "require": require });
        entry.as_object_mut().unwrap().extend(more.as_object().cloned().unwrap_or_default());
        packages[*name][*version] = entry;
    }
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("packages.json"), json!({ "packages": packages }).to_string()).unwrap();
    let manifest: Manifest = serde_json::from_value(manifest).unwrap();
    let fetcher = Fetcher::new(Network::Forbidden);
    let repository = Repository::open(&fetcher, &Address::Folder(folder.path().to_owned())).unwrap();
    let before = before.iter().map(|(name, version)| ((*name).to_owned(), (*version).to_owned())).collect();
    let offers = Offers::new(&manifest, vec![repository], &fetcher, "8.4.0", before);
    Ok(resolve(&manifest, &offers)?.iter().map(Offer::label).collect())
}

fn facts(manifest: Value, entries: &[Entry<'_>]) -> Vec<String> {
    match resolved(manifest, entries, &[]) {
        Err(Error::Package(PackageError::NoSolution { facts })) => facts,
        other => panic!("{other:?}"),
    }
}

#[test]
fn the_newest_settled_versions_for_the_runtime_are_taken_and_those_from_before_stay() {
    let tides = [
        ("ferry/tide", "1.0.0", json!({}), json!({})),
        ("ferry/tide", "v1.2.0", json!({ "ferry/moon": "^1.0" }), json!({})),
        ("ferry/tide", "1.3.0", json!({ "php": "^7.4" }), json!({})),
        ("ferry/tide", "1.4.0-beta1", json!({}), json!({})),
        ("ferry/moon", "1.1.0", json!({ "php": ">=8.0", "ext-json": "*" }), json!({})),
    ];
    let wanted = json!({ "require": { "php": "^8.1", "ferry/tide": "^1.0" } });
    assert_eq!(resolved(wanted.clone(), &tides, &[]).unwrap(), ["ferry/moon 1.1.0", "ferry/tide v1.2.0"]);
    assert_eq!(resolved(wanted, &tides, &[("ferry/tide", "1.0.0")]).unwrap(), ["ferry/tide 1.0.0"]);
    let early = json!({ "require": { "ferry/tide": "^1.0@beta" } });
    assert_eq!(resolved(early, &tides, &[]).unwrap(), ["ferry/tide 1.4.0-beta1"]);
    let settled =
        json!({ "require": { "ferry/tide": "^1.0" }, "minimum-stability": "dev", "prefer-stable": true });
    assert_eq!(resolved(settled, &tides, &[]).unwrap(), ["ferry/moon 1.1.0", "ferry/tide v1.2.0"]);
}

#[test]
fn a_branch_counts_as_the_version_that_it_stands_for() {
    let of_branch = json!({ "extra": { "branch-alias": { "dev-main": "2.x-dev" } } });
    let entries =
        [("ferry/tide", "dev-main", json!({}), of_branch), ("ferry/tide", "1.0.0", json!({}), json!({}))];
    let app = |requirement: &str| json!({ "require": { "ferry/tide": requirement } });
    assert_eq!(resolved(app("^2.0@dev"), &entries, &[]).unwrap(), ["ferry/tide dev-main"]);
    assert_eq!(resolved(app("*"), &entries, &[]).unwrap(), ["ferry/tide 1.0.0"]);
}

#[test]
fn packages_stand_for_others() {
    let entries = [
        ("harbour/whole", "3.0", json!({}), json!({ "replace": { "harbour/quay": "self.version" } })),
        ("harbour/quay", "3.0", json!({}), json!({})),
        ("ferry/needs-quay", "1.0", json!({ "harbour/quay": "^3.0" }), json!({})),
        ("ferry/needs-log", "1.0", json!({ "psr/log-implementation": "^1.0" }), json!({})),
        ("ferry/log", "1.0", json!({}), json!({ "provide": { "psr/log-implementation": "1.0" } })),
    ];
    let wanted = json!({ "require": { "harbour/whole": "^3.0", "ferry/needs-quay": "*" } });
    assert_eq!(resolved(wanted, &entries, &[]).unwrap(), ["ferry/needs-quay 1.0", "harbour/whole 3.0"]);
    let wanted = json!({ "require": { "ferry/needs-log": "*", "ferry/log": "*" } });
    assert_eq!(resolved(wanted, &entries, &[]).unwrap(), ["ferry/log 1.0", "ferry/needs-log 1.0"]);
    let wanted =
        json!({ "require": { "ferry/needs-log": "*" }, "replace": { "psr/log-implementation": "*" } });
    assert_eq!(resolved(wanted, &entries, &[]).unwrap(), ["ferry/needs-log 1.0"]);
    assert_eq!(
        facts(json!({ "require": { "ferry/needs-log": "*" } }), &entries),
        ["ferry/needs-log 1.0 requires psr/log-implementation ^1.0, which no package of the app provides"]
    );
}

#[test]
fn what_excludes_each_other_is_not_taken_together() {
    let entries = [
        ("ferry/tide", "1.0", json!({}), json!({ "conflict": { "ferry/moon": ">=2.0" } })),
        ("ferry/moon", "1.5", json!({}), json!({})),
        ("ferry/moon", "2.0", json!({}), json!({})),
    ];
    let wanted = json!({ "require": { "ferry/tide": "*", "ferry/moon": "*" } });
    assert_eq!(resolved(wanted, &entries, &[]).unwrap(), ["ferry/moon 1.5", "ferry/tide 1.0"]);
}

#[test]
fn an_older_version_is_taken_where_the_newest_needs_what_is_not_there() {
    let entries = [
        ("ferry/tide", "2.0", json!({ "psr/log-implementation": "*" }), json!({})),
        ("ferry/tide", "1.0", json!({}), json!({})),
    ];
    assert_eq!(
        resolved(json!({ "require": { "ferry/tide": "*" } }), &entries, &[]).unwrap(),
        ["ferry/tide 1.0"]
    );
}

#[test]
fn requirements_that_cannot_be_met_are_told_with_what_is_there() {
    let entries = [
        ("ferry/tide", "1.0", json!({ "ferry/moon": "^2.0" }), json!({})),
        ("ferry/moon", "1.5", json!({}), json!({})),
        ("ferry/old", "1.0", json!({ "php": "^7.0" }), json!({})),
    ];
    assert_eq!(
        facts(json!({ "require": { "ferry/tide": "^1.0" } }), &entries),
        [
            "the app requires ferry/tide >=1.0.0, <2.0.0",
            "ferry/tide 1.0.0 requires ferry/moon >=2.0.0, <3.0.0",
            "ferry/moon is available for PHP 8.4.0 in 1.5.0",
        ]
    );
    let told = facts(json!({ "require": { "ferry/old": "*" } }), &entries);
    assert_eq!(
        told[1..],
        ["no repository has a version of ferry/old for PHP 8.4.0 that is stable enough"],
        "{told:?}"
    );
    assert_eq!(
        facts(json!({ "require": { "ferry/nothing": "*" } }), &entries),
        ["the app requires ferry/nothing *, which no package of the app provides"]
    );
}
