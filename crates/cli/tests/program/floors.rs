//! The floors of the house: what each crate may import, and no circles of files.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// Crates from the lowest floor up; a crate imports only from floors below its own.
const FLOORS: [&[&str]; 14] = [
    &["cancel", "content", "proxy", "sandbox"],
    &["remote"],
    &["model", "objects"],
    &["source", "config", "gateway", "descriptors"],
    &["engine"],
    &["planning"],
    &["bases", "definitions", "go", "java", "node", "php", "python", "ruby", "static_site"],
    &["ecosystems", "workshop"],
    &["images", "running"],
    &["evidence", "yard"],
    &["sharing", "town"],
    &["render"],
    &["arguments", "pages", "wording"],
    &["cli"],
];
/// Test support, which is on no floor.
const ASIDE: &str = "testkit";
/// The most lines of a crate, tests left out.
const LARGEST_CRATE: usize = 8_000;

fn crates() -> BTreeMap<String, PathBuf> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let folders = [root.to_owned(), root.join("languages")];
    let inside = folders.iter().flat_map(|folder| fs::read_dir(folder).unwrap());
    let all = inside.map(|entry| entry.unwrap().path()).filter(|path| path.join("Cargo.toml").exists());
    all.map(|path| (path.file_name().unwrap().to_string_lossy().replace('-', "_"), path)).collect()
}

fn floor_of(name: &str) -> usize {
    FLOORS.iter().position(|floor| floor.contains(&name)).unwrap_or_else(|| panic!("{name} is on no floor"))
}

#[test]
fn no_crate_imports_from_its_own_floor_or_above() {
    let all = crates();
    for (name, path) in all.iter().filter(|(name, _)| *name != ASIDE) {
        let manifest: toml::Table = fs::read_to_string(path.join("Cargo.toml")).unwrap().parse().unwrap();
        let needs = manifest.get("dependencies").and_then(toml::Value::as_table).into_iter().flatten();
        for needed in
            needs.map(|(crate_name, _)| crate_name.replace('-', "_")).filter(|n| all.contains_key(n))
        {
            assert!(floor_of(&needed) < floor_of(name), "{name} imports {needed}");
        }
    }
}

/// The modules of a crate with the text of each, tests left out; the root of the crate is left out, too.
fn modules(source: &Path) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut pending = vec![source.to_owned()];
    while let Some(folder) = pending.pop() {
        for path in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if path.is_dir() {
                pending.push(path);
            } else if path.extension().is_some_and(|e| e == "rs") && !path.ends_with("tests.rs") {
                let inside = path.strip_prefix(source).unwrap().with_extension("");
                let name = inside.to_string_lossy().replace('/', "::");
                let name = name.trim_end_matches("::mod").to_owned();
                let text = fs::read_to_string(&path).unwrap();
                let code = text.split("#[cfg(test)]\nmod tests {").next().unwrap().lines();
                let code = code.filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>();
                found.insert(name, code.join("\n"));
            }
        }
    }
    found
}

/// The modules that the code of `own` names.
fn imports<'m>(own: &str, code: &str, all: &'m BTreeMap<String, String>) -> BTreeSet<&'m str> {
    let parent = own.rsplit_once("::").map_or("", |(parent, _)| parent);
    let mut named = BTreeSet::new();
    let mut add = |path: &str| {
        let longest = all.keys().filter(|m| path == **m || path.starts_with(&format!("{m}::")));
        named.extend(longest.max_by_key(|m| m.len()).map(String::as_str).filter(|m| *m != own));
    };
    for (start, prefix) in [("crate::", ""), ("super::", parent)] {
        for (at, _) in code.match_indices(start) {
            let rest = &code[at + start.len()..];
            let join =
                |inner: &str| if prefix.is_empty() { inner.to_owned() } else { format!("{prefix}::{inner}") };
            let end = rest.find(|c: char| !c.is_alphanumeric() && !"_:".contains(c)).unwrap_or(rest.len());
            match rest.strip_prefix('{') {
                // `use crate::{a, b::c};`
                Some(list) => {
                    let list = list.split("};").next().unwrap_or_default();
                    list.split([',', '{', '}']).for_each(|inner| add(&join(inner.trim())));
                }
                None => add(&join(&rest[..end])),
            }
        }
    }
    named
}

/// Sets of modules that lead to each other.
fn circles(edges: &BTreeMap<&str, BTreeSet<&str>>) -> Vec<BTreeSet<String>> {
    let reached = |from: &str| {
        let mut seen = BTreeSet::new();
        let mut pending: Vec<&str> = edges[from].iter().copied().collect();
        while let Some(next) = pending.pop() {
            if seen.insert(next) {
                pending.extend(edges[next].iter().copied());
            }
        }
        seen
    };
    let all: BTreeMap<&str, BTreeSet<&str>> = edges.keys().map(|m| (*m, reached(m))).collect();
    let circle = |m: &str| -> BTreeSet<String> {
        all[m].iter().filter(|other| all[**other].contains(m)).map(|o| (*o).to_owned()).collect()
    };
    let mut found: Vec<_> = edges.keys().map(|m| circle(m)).filter(|c| !c.is_empty()).collect();
    found.dedup();
    found
}

#[test]
fn no_files_import_each_other_in_a_circle_and_no_crate_is_too_large() {
    let mut looked_at = 0;
    for (name, path) in crates() {
        let all = modules(&path.join("src"));
        let lines: usize = all.values().map(|code| code.lines().count()).sum();
        assert!(lines <= LARGEST_CRATE, "{name} has {lines} lines");
        let edges: BTreeMap<&str, _> =
            all.iter().map(|(own, code)| (own.as_str(), imports(own, code, &all))).collect();
        looked_at += edges.values().map(BTreeSet::len).sum::<usize>();
        let circles = circles(&edges);
        assert!(circles.is_empty(), "{name}: {circles:?} import each other");
    }
    assert!(looked_at > 200, "only {looked_at} imports were found");
}

#[test]
fn circles_are_found() {
    let edges = BTreeMap::from([
        ("a", BTreeSet::from(["b"])),
        ("b", BTreeSet::from(["c"])),
        ("c", BTreeSet::from(["a", "d"])),
        ("d", BTreeSet::new()),
    ]);
    let circle: BTreeSet<String> = ["a", "b", "c"].map(str::to_owned).into();
    assert!(circles(&edges).iter().all(|found| *found == circle) && !circles(&edges).is_empty());
    let all = BTreeMap::from(["lock", "lock::npm", "tree"].map(|m| (m.to_owned(), String::new())));
    let code = "use crate::{tree, lock::npm};\nuse super::Reader;";
    assert_eq!(imports("lock::bun", code, &all), BTreeSet::from(["lock", "lock::npm", "tree"]));
}

/// The text of each `impl Action for …` block's `fingerprint`, by file and type; tests left out.
fn fingerprints() -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    for (name, path) in crates() {
        for (module, code) in modules(&path.join("src")) {
            for block in code.split(" Action for ").skip(1) {
                let action = block.split(" {").next().unwrap();
                let body = block.split("fn fingerprint(&self) -> Fingerprint {").nth(1).unwrap();
                let body = body.split("\n    }\n").next().unwrap();
                let is_unit = code.contains(&format!("struct {action};"));
                if !is_unit {
                    found.insert(format!("{name}::{module}::{action}"), body.to_owned());
                }
            }
        }
    }
    found
}

#[test]
fn every_action_takes_itself_apart_in_full_for_its_key() {
    let all = fingerprints();
    assert!(all.len() > 12, "{:?}", all.keys());
    for (action, body) in all {
        let pattern = body.split_once("let Self").and_then(|(_, rest)| rest.split_once("self;"));
        let (pattern, _) = pattern.unwrap_or_else(|| panic!("{action} is not taken apart"));
        assert!(!pattern.contains(".."), "{action} leaves fields out: {pattern}");
    }
}
