//! `yarn.lock`: the classic form, and the current one, which is YAML.

use crate::Manifest;
use crate::lock::app::App;
use crate::lock::faults::{malformed, not_yaml};
use crate::lock::resolutions::Resolutions;
use crate::lock::unplaced::{Linked, Package};
use crate::need::Need;
use crate::package::{Fits, Origin};
use crate::tree::{Entry, PackageTree};
use crate::workspaces::Part;
use model::Result;
use remote::Integrity;
use serde::Deserialize;
use std::collections::BTreeMap;

const HOW: &str = "run `yarn install --mode update-lockfile` and commit the result";

/// Reads the file for an app with this manifest.
pub(super) fn parse(file: &'static str, text: &str, app: &App<'_>) -> Result<PackageTree> {
    match text.lines().any(|line| line == "__metadata:") {
        true => current(file, text, app),
        false => classic(file, text, app),
    }
}

/// What the app needs, each named as the file names it: the name and what is wanted, joined by `@`.
fn needs_of(
    manifest: &Manifest,
    linked: &Linked,
    named: impl Fn(&str, &str) -> String,
) -> (Entry, Vec<Need>) {
    let root = Entry {
        dependencies: manifest.dependencies.clone(),
        dev_dependencies: manifest.dev_dependencies.clone(),
        optional_dependencies: manifest.optional_dependencies.clone(),
        ..Entry::default()
    };
    let need = |(name, range): (&String, &String), optional| {
        let wanted = named(name, range);
        // A part of the app is meant where the file has nothing else of that name and range.
        let part = linked.parts.named(name).filter(|_| !linked.packages.contains_key(&wanted));
        part.map_or(Need { name: name.clone(), wanted, optional, peer: false }, Part::need)
    };
    let plain =
        manifest.dependencies.iter().filter(|(n, _)| !manifest.optional_dependencies.contains_key(*n));
    let plain = plain.map(|n| need(n, false));
    let needs = plain.chain(manifest.optional_dependencies.iter().map(|n| need(n, true))).collect();
    (root, needs)
}

/// What the parts of the app need, each under its folder.
fn add_parts(linked: &mut Linked, named: impl Fn(&str, &str) -> String + Copy) {
    for part in linked.parts.clone().all() {
        let (entry, needs) = needs_of(&part.manifest, linked, named);
        linked.packages.insert(part.folder.clone(), Package { entry, needs });
    }
}

/// Name and range of `name@range`; a scope begins with the sign, too.
fn split(descriptor: &str) -> Option<(&str, &str)> {
    let at = descriptor.char_indices().skip(1).find(|(_, c)| *c == '@')?.0;
    Some((&descriptor[..at], &descriptor[at + 1..]))
}

/// The name in the registry, where a range is an alias.
fn alias(range: &str) -> Option<String> {
    let target = range.strip_prefix("npm:")?;
    let named =
        target.char_indices().skip(1).find(|(_, c)| *c == '@').map_or(target, |(at, _)| &target[..at]);
    named.starts_with(|c: char| c.is_alphabetic() || c == '@').then(|| named.to_owned())
}

fn classic(file: &'static str, text: &str, app: &App<'_>) -> Result<PackageTree> {
    let mut linked = Linked { file, how: HOW, packages: BTreeMap::new(), parts: app.parts.clone() };
    let mut keys: Vec<String> = Vec::new();
    let mut package = Package::default();
    let mut section = "";
    let lines =
        text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty() && !line.starts_with('#'));
    for (number, line) in lines {
        let wrong = || malformed(file, Some(number + 1), format!("{line:?} is not understood"));
        let depth = line.len() - line.trim_start().len();
        let words = words(line.trim()).ok_or_else(wrong)?;
        match (depth, &words[..]) {
            (0, _) => {
                put(&mut linked, std::mem::take(&mut keys), std::mem::take(&mut package));
                let line = line.strip_suffix(':').ok_or_else(wrong)?;
                keys = line.split(", ").map(|key| key.trim_matches('"').to_owned()).collect();
                let (name, range) = keys.first().and_then(|key| split(key)).ok_or_else(wrong)?;
                package.entry.name = Some(alias(range).unwrap_or_else(|| name.to_owned()));
                section = "";
            }
            (2, [key]) if key.ends_with(':') => {
                section = match key.as_str() {
                    "dependencies:" => "needed",
                    "optionalDependencies:" => "optional",
                    _ => "other",
                };
            }
            (2, [key, value, ..]) => {
                section = "";
                match key.as_str() {
                    "version" => package.entry.version = Some(value.clone()),
                    "resolved" => package.entry.origin = origin(value),
                    "integrity" => package.entry.integrity = Integrity::subresource(value),
                    _ => {}
                }
            }
            (4, [name, range, ..]) if section == "needed" || section == "optional" => {
                let optional = section == "optional";
                let list = match optional {
                    true => &mut package.entry.optional_dependencies,
                    false => &mut package.entry.dependencies,
                };
                list.insert(name.clone(), range.clone());
                let wanted = format!("{name}@{range}");
                package.needs.push(Need { name: name.clone(), wanted, optional, peer: false });
            }
            _ => {}
        }
    }
    put(&mut linked, keys, package);
    let named = |name: &str, range: &str| format!("{name}@{range}");
    add_parts(&mut linked, named);
    let (root, needs) = needs_of(&app.manifest, &linked, named);
    // It says neither commands nor platforms.
    linked.into_tree(text, root, needs, false)
}

fn put(linked: &mut Linked, keys: Vec<String>, package: Package) {
    for key in keys {
        linked.packages.insert(key, package.clone());
    }
}

/// Where a classic entry comes from: a URL, with the SHA-1 of the archive behind a sign.
fn origin(resolved: &str) -> Origin {
    let url = resolved.split('#').next().unwrap_or(resolved);
    match url.starts_with("https://") || url.starts_with("http://") {
        true if !url.ends_with(".git") => Origin::Registry(Some(url.to_owned())),
        _ => super::app::commit(resolved)
            .unwrap_or_else(|| Origin::Other("a package that is not from a registry".to_owned())),
    }
}

/// Words, of which some are quoted.
fn words(line: &str) -> Option<Vec<String>> {
    let mut words = Vec::new();
    let mut rest = line;
    while !rest.is_empty() {
        let (word, after) = match rest.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"')?,
            None => rest.split_once(' ').unwrap_or((rest, "")),
        };
        words.push(word.to_owned());
        rest = after.trim_start();
    }
    Some(words)
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase", default)]
#[derive(Default)]
struct Listed {
    version: String,
    resolution: String,
    conditions: Option<String>,
    dependencies: BTreeMap<String, String>,
    dependencies_meta: BTreeMap<String, Meta>,
    bin: BTreeMap<String, String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct Meta {
    optional: bool,
}

fn current(file: &'static str, text: &str, app: &App<'_>) -> Result<PackageTree> {
    // The first entry is of another form: the version of the file.
    let (_, rest) = text.split_once("\n\n\"").unwrap_or(("", ""));
    let document: BTreeMap<String, Listed> =
        serde_saphyr::from_str(&format!("\"{rest}")).map_err(|e| not_yaml(file, &e))?;
    let mut linked = Linked { file, how: HOW, packages: BTreeMap::new(), parts: app.parts.clone() };
    let resolutions = Resolutions::of(&app.manifest.resolutions);
    for (keys, listed) in &document {
        let (own, from) = split(&listed.resolution).unwrap_or((&listed.resolution, ""));
        if from.starts_with("workspace:") {
            continue;
        }
        let patches = patches(from).map(|path| app.patch(path, file)).collect::<Result<_>>()?;
        let origin = match from.split_once(':').map(|(kind, _)| kind) {
            Some("npm") => Origin::Registry(None),
            Some("patch") if from[6..].starts_with(own) && from.contains("@npm%3A") => Origin::Registry(None),
            _ => {
                super::app::commit(from).unwrap_or_else(|| Origin::Other(format!("a package from {from:?}")))
            }
        };
        let optional = |name: &str| listed.dependencies_meta.get(name).is_some_and(|meta| meta.optional);
        let (may_use, needed): (BTreeMap<_, _>, BTreeMap<_, _>) =
            listed.dependencies.clone().into_iter().partition(|(name, _)| optional(name));
        let needs = listed.dependencies.iter().map(|(name, range)| Need {
            name: name.clone(),
            wanted: descriptor(name, resolutions.meant((own, &listed.version), name, range)),
            optional: optional(name),
            peer: false,
        });
        let package = Package {
            needs: needs.collect(),
            entry: Entry {
                name: Some(own.to_owned()),
                version: Some(listed.version.clone()),
                origin,
                patches,
                bin: listed.bin.clone(),
                fits: fits(listed.conditions.as_deref().unwrap_or_default()),
                dependencies: needed,
                optional_dependencies: may_use,
                ..Entry::default()
            },
        };
        for key in keys.split(", ") {
            linked.packages.insert(key.to_owned(), package.clone());
        }
    }
    let named = |name: &str, range: &str| descriptor(name, resolutions.meant(("", ""), name, range));
    add_parts(&mut linked, named);
    let (root, needs) = needs_of(&app.manifest, &linked, named);
    linked.into_tree(text, root, needs, true)
}

/// How a need is named: ranges of the registry have its mark in newer files.
fn descriptor(name: &str, range: &str) -> String {
    match range.contains(':') {
        true => format!("{name}@{range}"),
        false => format!("{name}@npm:{range}"),
    }
}

/// The patches in `patch:rope@npm%3A1.0.0#~/patches/rope.patch&./more.patch::version=1.0.0`. What the tool
/// itself brings, is for its own way to find packages.
fn patches(from: &str) -> impl Iterator<Item = &str> {
    let all = from.strip_prefix("patch:").and_then(|from| from.split_once('#')).map_or("", |(_, all)| all);
    let all = all.split("::").next().unwrap_or(all).split('&').map(|one| one.trim_start_matches("optional!"));
    let own = all.filter(|one| !one.is_empty() && !one.starts_with("builtin<"));
    own.map(|one| one.trim_start_matches("~/").trim_start_matches("./"))
}

/// `os=linux & cpu=x64 & libc=glibc`; several are in brackets, with bars between them.
fn fits(conditions: &str) -> Fits {
    let mut fits = Fits::default();
    for condition in conditions.split('&') {
        for one in condition.trim().trim_matches(['(', ')']).split('|') {
            match one.trim().split_once('=') {
                Some(("os", os)) => fits.os.push(os.to_owned()),
                Some(("cpu", cpu)) => fits.cpu.push(cpu.to_owned()),
                Some(("libc", libc)) => fits.libc.push(libc.to_owned()),
                _ => {}
            }
        }
    }
    fits
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(text: &str) -> Vec<String> {
        let dependencies = [("bell", "^1"), ("tide", "npm:@kestrel/tide@2")];
        let dependencies = dependencies.map(|(name, range)| (name.to_owned(), range.to_owned()));
        let manifest = Manifest { dependencies: dependencies.into(), ..Manifest::default() };
        let app = App { manifest, ..App::default() };
        let packages = parse("yarn.lock", text, &app).unwrap().for_image("linux/amd64").unwrap();
        packages.iter().map(|p| format!("{} = {}", p.path, p.label())).collect()
    }

    const PLACED: [&str; 4] = [
        "node_modules/bell = bell 1.2.0",
        "node_modules/rope = rope 1.0.0",
        "node_modules/tide = @kestrel/tide 2.0.0",
        "node_modules/tide/node_modules/rope = rope 2.0.0",
    ];

    #[test]
    fn the_classic_form_is_read() {
        let text = "# yarn lockfile v1\n\n\nbell@^1, bell@^1.1:\n  version \"1.2.0\"\n  \
            resolved \"https://packages.example/bell/-/bell-1.2.0.tgz#c0ffee\"\n  integrity sha512-AAAA\n  \
            dependencies:\n    rope \"^1 || ^3\"\n\n\"rope@^1 || ^3\":\n  version \"1.0.0\"\n\nrope@2:\n  \
            version \"2.0.0\"\n\n\"tide@npm:@kestrel/tide@2\":\n  version \"2.0.0\"\n  dependencies:\n    rope \"2\"\n";
        assert_eq!(told(text), PLACED);
    }

    #[test]
    fn the_current_form_is_read() {
        let text = r#"__metadata:
  version: 8

"bell@npm:^1, bell@npm:^1.1":
  version: 1.2.0
  resolution: "bell@npm:1.2.0"
  dependencies:
    rope: "npm:^1"
    mac: "npm:1"
  dependenciesMeta:
    mac:
      optional: true
  linkType: hard

"mac@npm:1":
  version: 1.0.0
  resolution: "mac@npm:1.0.0"
  conditions: os=darwin
  linkType: hard

"rope@npm:^1":
  version: 1.0.0
  resolution: "rope@npm:1.0.0"
  linkType: hard

"rope@npm:2":
  version: 2.0.0
  resolution: "rope@npm:2.0.0"
  linkType: hard

"tide@npm:@kestrel/tide@2":
  version: 2.0.0
  resolution: "@kestrel/tide@npm:2.0.0"
  dependencies:
    rope: "npm:2"
  linkType: hard
"#;
        assert_eq!(told(text), PLACED);
    }
}
