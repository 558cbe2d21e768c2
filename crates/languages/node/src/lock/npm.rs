//! `package-lock.json` and `npm-shrinkwrap.json` in versions 1, 2 and 3.

use crate::lock::app::App;
use crate::lock::faults::malformed;
use crate::package::{Fits, Origin};
use crate::tree::{Entry, PackageTree};
use model::error::SurveyError;
use model::{Error, Place, Result};
use remote::Integrity;
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;

const HOW: &str = "run `npm install --package-lock-only` and commit the result";

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Document {
    lockfile_version: u32,
    #[serde(default)]
    packages: BTreeMap<String, Listed>,
    /// Version 1: packages within packages.
    #[serde(default)]
    dependencies: BTreeMap<String, Nested>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct Listed {
    name: Option<String>,
    version: Option<String>,
    resolved: Option<String>,
    integrity: Option<String>,
    link: bool,
    dev: bool,
    in_bundle: bool,
    has_install_script: bool,
    extraneous: bool,
    bin: BTreeMap<String, String>,
    license: Option<Value>,
    deprecated: Option<Value>,
    os: Vec<String>,
    cpu: Vec<String>,
    libc: Vec<String>,
    /// A table; very old packages have a list.
    engines: Value,
    dependencies: BTreeMap<String, String>,
    dev_dependencies: BTreeMap<String, String>,
    optional_dependencies: BTreeMap<String, String>,
    peer_dependencies: BTreeMap<String, String>,
    peer_dependencies_meta: BTreeMap<String, PeerMeta>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct PeerMeta {
    optional: bool,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct Nested {
    version: String,
    resolved: Option<String>,
    integrity: Option<String>,
    dev: bool,
    bundled: bool,
    optional: bool,
    /// What it needs; `false` in some files.
    requires: Value,
    dependencies: BTreeMap<String, Nested>,
}

/// Reads the file.
pub(super) fn parse(file: &'static str, text: &str, _app: &App<'_>) -> Result<PackageTree> {
    let document: Document =
        serde_json::from_str(text).map_err(|e| malformed(file, Some(e.line()), e.to_string()))?;
    let (packages, says_all) = match document.lockfile_version {
        2 | 3 => (document.packages.into_iter().map(|(p, l)| (p, l.entry())).collect(), true),
        1 => (flattened(document.dependencies), false),
        other => {
            return Err(Error::Survey(SurveyError::Unsupported {
                place: Place::find(file, text, "lockfileVersion"),
                what: format!("lockfile version {other}"),
                instead: "regenerate it in version 3 with `npm install --package-lock-only`",
            }));
        }
    };
    // The first version says neither.
    Ok(PackageTree {
        file,
        text: text.to_owned(),
        packages,
        says_all,
        says_ranges: says_all,
        how: HOW,
        member: None,
    })
}

/// Where something comes from, by what the file says of it.
fn origin(resolved: Option<String>) -> Origin {
    let Some(text) = resolved else { return Origin::Registry(None) };
    if text.starts_with("https://") || text.starts_with("http://") {
        return Origin::Registry(Some(text));
    }
    if let Some(path) = text.strip_prefix("file:") {
        return Origin::Archive(path.trim_start_matches("./").to_owned());
    }
    super::app::commit(&text)
        .unwrap_or_else(|| Origin::Other("a package that is not from a registry".to_owned()))
}

impl Listed {
    fn entry(self) -> Entry {
        let meta = &self.peer_dependencies_meta;
        let may_lack = |name: &String| meta.get(name).is_some_and(|m| m.optional);
        let text = |value: &Value| match value {
            Value::String(text) => Some(text.clone()),
            other => other.get("type").and_then(Value::as_str).map(str::to_owned),
        };
        Entry {
            origin: match (self.link, self.in_bundle) {
                (true, _) => Origin::Link(self.resolved.clone().unwrap_or_default()),
                (false, true) => Origin::Bundled,
                (false, false) => origin(self.resolved.clone()),
            },
            integrity: self.integrity.as_deref().and_then(Integrity::subresource),
            licence: self.license.as_ref().and_then(text),
            deprecated: self.deprecated.as_ref().and_then(text),
            peers: self.peer_dependencies.keys().map(|n| (n.clone(), may_lack(n))).collect(),
            fits: Fits { os: self.os, cpu: self.cpu, libc: self.libc },
            engine: self.engines.get("node").and_then(Value::as_str).map(str::to_owned),
            patches: Vec::new(),
            name: self.name,
            version: self.version,
            has_install_script: self.has_install_script,
            development: self.dev,
            extraneous: self.extraneous,
            bin: self.bin,
            dependencies: self.dependencies,
            dev_dependencies: self.dev_dependencies,
            optional_dependencies: self.optional_dependencies,
        }
    }
}

/// Version 1 says what is put where, and of each package what it requires. What the app itself asks for
/// is not in it; the caller compares nothing and follows everything that is not for development.
fn flattened(top: BTreeMap<String, Nested>) -> BTreeMap<String, Entry> {
    let mut packages = BTreeMap::new();
    let mut root = Entry::default();
    for (name, nested) in &top {
        if nested.dev {
            continue;
        }
        let list = if nested.optional { &mut root.optional_dependencies } else { &mut root.dependencies };
        list.insert(name.clone(), nested.version.clone());
    }
    let mut pending: Vec<(String, BTreeMap<String, Nested>)> = vec![(String::new(), top)];
    while let Some((folder, inside)) = pending.pop() {
        for (name, mut nested) in inside {
            let path = if folder.is_empty() {
                format!("node_modules/{name}")
            } else {
                format!("{folder}/node_modules/{name}")
            };
            pending.push((path.clone(), std::mem::take(&mut nested.dependencies)));
            packages.insert(path, nested.entry());
        }
    }
    packages.insert(String::new(), root);
    packages
}

impl Nested {
    fn entry(self) -> Entry {
        let alias = self.version.strip_prefix("npm:").and_then(|t| t.rsplit_once('@'));
        let (name, version) = match alias {
            Some((name, version)) => (Some(name.to_owned()), version.to_owned()),
            None => (None, self.version.clone()),
        };
        let is_elsewhere = version.contains(':');
        let origin = match (self.bundled, self.version.strip_prefix("file:")) {
            (true, _) => Origin::Bundled,
            (false, Some(path)) if !path.ends_with(".tgz") && !path.ends_with(".tar.gz") => {
                Origin::Link(path.trim_start_matches("./").to_owned())
            }
            (false, _) if is_elsewhere => origin(Some(version.clone())),
            (false, _) => origin(self.resolved),
        };
        let requires = self.requires.as_object().into_iter().flatten();
        Entry {
            name,
            version: (!is_elsewhere).then_some(version),
            origin,
            integrity: self.integrity.as_deref().and_then(Integrity::subresource),
            development: self.dev,
            dependencies: requires
                .map(|(name, range)| (name.clone(), range.as_str().unwrap_or_default().to_owned()))
                .collect(),
            ..Entry::default()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lock(packages: &str) -> PackageTree {
        let text = format!(r#"{{"lockfileVersion":3,"packages":{{{packages}}}}}"#);
        parse("package-lock.json", &text, &App::default()).unwrap()
    }

    const HASH: &str = r#""version":"1.0.0","integrity":"sha512-AAAA""#;

    #[test]
    fn only_what_can_be_reached_goes_in() {
        let lock = lock(&format!(
            r#""":{{"dependencies":{{"a":"1"}},"devDependencies":{{"lint":"1"}}}},
            "node_modules/a":{{{HASH},"dependencies":{{"b":"2"}},"optionalDependencies":{{"mac":"1"}}}},
            "node_modules/a/node_modules/b":{{{HASH}}},
            "node_modules/b":{{{HASH}}},
            "node_modules/mac":{{{HASH},"optional":true,"os":["darwin"],"dependencies":{{"only-mac":"1"}}}},
            "node_modules/only-mac":{{{HASH}}},
            "node_modules/lint":{{{HASH},"dev":true,"dependencies":{{"b":"1"}}}}"#
        ));
        let packages = lock.for_image("linux/amd64").unwrap();
        let paths: Vec<_> = packages.iter().map(|p| p.path.as_str()).collect();
        assert_eq!(paths, ["node_modules/a", "node_modules/a/node_modules/b"]);
    }

    #[test]
    fn links_carried_packages_and_archives_are_known_for_what_they_are() {
        let lock = lock(&format!(
            r#""":{{"dependencies":{{"a":"1","box":"file:box.tgz"}},"workspaces":["parts/*"]}},
            "parts/bell":{{"name":"@kestrel/bell","dependencies":{{"b":"1"}}}},
            "parts/bell/node_modules/b":{{{HASH}}},
            "node_modules/@kestrel/bell":{{"resolved":"parts/bell","link":true}},
            "node_modules/box":{{{HASH},"resolved":"file:box.tgz"}},
            "node_modules/a":{{{HASH},"dependencies":{{"inner":"1"}}}},
            "node_modules/a/node_modules/inner":{{{HASH},"inBundle":true,"bin":{{"inner":"./cli.js"}}}}"#
        ));
        let packages = lock.for_image("linux/amd64").unwrap();
        let told: Vec<_> = packages.iter().map(|p| format!("{} {:?}", p.path, p.origin)).collect();
        assert_eq!(
            told,
            [
                "node_modules/@kestrel/bell Link(\"parts/bell\")",
                "node_modules/a Registry(None)",
                "node_modules/a/node_modules/inner Bundled",
                "node_modules/box Archive(\"box.tgz\")",
                "parts/bell/node_modules/b Registry(None)",
            ]
        );
        let a = packages.iter().find(|p| p.path == "node_modules/a").unwrap();
        assert_eq!(a.carried_commands.iter().collect::<Vec<_>>(), ["node_modules/inner/cli.js"]);
    }

    #[test]
    fn the_first_version_is_read_as_the_later_ones() {
        let text = r#"{"lockfileVersion":1,"dependencies":{
            "a":{"version":"1.0.0","integrity":"sha1-AAAA","requires":{"b":"^2"},
                 "dependencies":{"b":{"version":"2.0.0"}}},
            "b":{"version":"1.0.0","dev":true},
            "c":{"version":"npm:@kestrel/real@3.1.0","optional":true}}}"#;
        let packages =
            parse("package-lock.json", text, &App::default()).unwrap().for_image("linux/amd64").unwrap();
        let told: Vec<_> = packages.iter().map(|p| format!("{} = {}", p.path, p.label())).collect();
        assert_eq!(
            told,
            [
                "node_modules/a = a 1.0.0",
                "node_modules/a/node_modules/b = b 2.0.0",
                "node_modules/c = @kestrel/real 3.1.0"
            ]
        );
    }

    #[test]
    fn what_cannot_be_had_is_refused() {
        for (extra, what) in [
            (r#""resolved":"svn://code.example/a""#, "not from a registry"),
            // A commit that is not said in full may be another one tomorrow.
            (r#""resolved":"git+ssh://git@code.example/a.git#c0ffee""#, "not from a registry"),
            (r#""os":["darwin"]"#, "another platform"),
        ] {
            let lock =
                lock(&format!(r#""":{{"dependencies":{{"a":"1"}}}},"node_modules/a":{{{HASH},{extra}}}"#));
            match lock.for_image("linux/amd64") {
                Err(Error::Survey(SurveyError::Unsupported { what: found, .. })) => {
                    assert!(found.contains(what), "{found}")
                }
                other => panic!("{extra} was not refused: {:?}", other.map(|p| p.len())),
            }
        }
    }
}
