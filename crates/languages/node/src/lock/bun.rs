//! `bun.lock`: JSON with commas at the ends, which says what is put where.

use crate::lock::app::App;
use crate::lock::faults::malformed;
use crate::package::{Fits, Origin};
use crate::tree::{Entry, PackageTree};
use model::Result;
use remote::Integrity;
use serde_json::Value;
use std::collections::BTreeMap;

const HOW: &str = "run `bun install --lockfile-only` and commit the result";

/// Reads the file for an app.
pub(super) fn parse(file: &'static str, text: &str, app: &App<'_>) -> Result<PackageTree> {
    let document: Value = serde_json::from_str(&without_last_commas(text))
        .map_err(|e| malformed(file, Some(e.line()), e.to_string()))?;
    let mut packages = BTreeMap::new();
    for (folder, workspace) in document["workspaces"].as_object().into_iter().flatten() {
        let entry = Entry {
            dev_dependencies: ranges(&workspace["devDependencies"]),
            ..needs(workspace, &ranges(&workspace["dependencies"]))
        };
        packages.insert(folder.clone(), entry);
    }
    let patches = ranges(&document["patchedDependencies"]);
    for (key, listed) in document["packages"].as_object().into_iter().flatten() {
        let mut entry = entry(listed);
        let patch = listed[0].as_str().and_then(|id| patches.get(id));
        entry.patches.extend(patch.map(|path| app.patch(path, file)).transpose()?);
        packages.insert(path_of(key), entry);
    }
    Ok(PackageTree {
        file,
        text: text.to_owned(),
        packages,
        says_all: true,
        says_ranges: true,
        how: HOW,
        member: None,
    })
}

/// `a/@scope/b` is the package `@scope/b` within `a`.
fn path_of(key: &str) -> String {
    let mut path = String::new();
    let mut parts = key.split('/');
    while let Some(part) = parts.next() {
        let name = match (part.starts_with('@'), part.starts_with('@').then(|| parts.next()).flatten()) {
            (true, Some(rest)) => format!("{part}/{rest}"),
            _ => part.to_owned(),
        };
        let slash = if path.is_empty() { "" } else { "/" };
        path.push_str(&format!("{slash}node_modules/{name}"));
    }
    path
}

fn ranges(value: &Value) -> BTreeMap<String, String> {
    let all = value.as_object().into_iter().flatten();
    all.filter_map(|(name, range)| Some((name.clone(), range.as_str()?.to_owned()))).collect()
}

fn needs(facts: &Value, dependencies: &BTreeMap<String, String>) -> Entry {
    let may_lack: Vec<&str> =
        facts["optionalPeers"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let peers = ranges(&facts["peerDependencies"]);
    Entry {
        dependencies: dependencies.clone(),
        optional_dependencies: ranges(&facts["optionalDependencies"]),
        peers: peers.keys().map(|name| (name.clone(), may_lack.contains(&name.as_str()))).collect(),
        ..Entry::default()
    }
}

/// `["name@version", "registry", { facts }, "integrity"]`; what is not from a registry has fewer parts.
fn entry(listed: &Value) -> Entry {
    let said = listed[0].as_str().unwrap_or_default();
    let (name, version) = match said.char_indices().skip(1).find(|(_, c)| *c == '@') {
        Some((at, _)) => (&said[..at], &said[at + 1..]),
        None => (said, ""),
    };
    // What is from no registry says none.
    let facts = if listed[1].is_object() { &listed[1] } else { &listed[2] };
    let several = |key: &str| match &facts[key] {
        Value::String(one) => vec![one.clone()],
        Value::Array(all) => all.iter().filter_map(|v| v.as_str().map(str::to_owned)).collect(),
        _ => Vec::new(),
    };
    let short = name.rsplit('/').next().unwrap_or(name);
    let origin = match version.split_once(':') {
        Some(("workspace", folder)) => Origin::Link(folder.to_owned()),
        Some((kind, _)) => {
            super::app::commit(version).unwrap_or_else(|| Origin::Other(format!("a package from {kind}")))
        }
        None => Origin::Registry(listed[1].as_str().filter(|url| url.ends_with(".tgz")).map(str::to_owned)),
    };
    Entry {
        name: Some(name.to_owned()),
        version: Some(version.to_owned()),
        origin,
        integrity: listed[3].as_str().and_then(Integrity::subresource),
        bin: match &facts["bin"] {
            Value::String(file) => BTreeMap::from([(short.to_owned(), file.clone())]),
            several => ranges(several),
        },
        fits: Fits { os: several("os"), cpu: several("cpu"), libc: several("libc") },
        ..needs(facts, &ranges(&facts["dependencies"]))
    }
}

/// The text as plain JSON: commas before a closing bracket taken out, but not those within texts.
fn without_last_commas(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let (mut inside, mut escaped) = (false, false);
    for (at, sign) in text.char_indices() {
        if inside {
            inside = sign != '"' || escaped;
            escaped = sign == '\\' && !escaped;
        } else if sign == '"' {
            inside = true;
        } else if sign == ',' && text[at + 1..].trim_start().starts_with(['}', ']']) {
            continue;
        }
        out.push(sign);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_platforms_and_aliases_are_read() {
        let text = r#"{
          "lockfileVersion": 1,
          "workspaces": { "": { "name": "fares", "dependencies": { "bell": "^1", "tide": "npm:@kestrel/tide@2", }, }, },
          "packages": {
            "bell": ["bell@1.2.0", "", { "dependencies": { "rope": "1, or more" }, "bin": "ring.js", }, "sha512-AAAA"],
            "bell/rope": ["rope@1.0.0", "", {}, "sha512-AAAA"],
            "rope": ["rope@2.0.0", "", { "os": "none" }, "sha512-AAAA"],
            "tide": ["@kestrel/tide@2.0.0", "", { "optionalDependencies": { "rope": "2" } }, "sha512-AAAA"],
          },
        }"#;
        let packages = parse("bun.lock", text, &App::default()).unwrap().for_image("linux/amd64").unwrap();
        let told: Vec<_> =
            packages.iter().map(|p| format!("{} = {} {:?}", p.path, p.label(), p.bin)).collect();
        assert_eq!(
            told,
            [
                "node_modules/bell = bell 1.2.0 {\"bell\": \"ring.js\"}",
                "node_modules/bell/node_modules/rope = rope 1.0.0 {}",
                "node_modules/tide = @kestrel/tide 2.0.0 {}",
            ]
        );
    }
}
