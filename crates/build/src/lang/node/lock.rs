//! `package-lock.json` in versions 2 and 3: which packages go where.

use crate::error::{BuildError, Place, Result};
use remote::Integrity;
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};

const HOW: &str = "run `npm install --package-lock-only` and commit the result";

/// A parsed lockfile.
pub(super) struct Lock {
    file: &'static str,
    text: String,
    packages: BTreeMap<String, Entry>,
}

/// One package that goes into the image.
#[derive(Debug, Clone)]
pub(super) struct LockedPackage {
    /// Where it is put, from the root of the app: `node_modules/…`.
    pub(super) path: String,
    /// Its name in the registry.
    pub(super) name: String,
    pub(super) version: String,
    /// The tarball's URL, where the lockfile has one.
    pub(super) resolved: Option<String>,
    pub(super) integrity: Integrity,
    /// Command name and file within the package.
    pub(super) bin: BTreeMap<String, String>,
    pub(super) licence: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Document {
    lockfile_version: u32,
    #[serde(default)]
    packages: BTreeMap<String, Entry>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct Entry {
    name: Option<String>,
    version: Option<String>,
    resolved: Option<String>,
    integrity: Option<String>,
    link: bool,
    in_bundle: bool,
    has_install_script: bool,
    extraneous: bool,
    bin: BTreeMap<String, String>,
    license: Option<serde_json::Value>,
    os: Vec<String>,
    cpu: Vec<String>,
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

impl Lock {
    pub(super) fn parse(file: &'static str, text: &str) -> Result<Self> {
        let document: Document = serde_json::from_str(text).map_err(|e| BuildError::Malformed {
            place: Place::new(file, u32::try_from(e.line()).ok()),
            detail: e.to_string(),
        })?;
        if !matches!(document.lockfile_version, 2 | 3) {
            return Err(BuildError::Unsupported {
                place: Place::find(file, text, "lockfileVersion"),
                what: format!("lockfile version {}", document.lockfile_version),
                instead: "write it anew in version 3 with `npm install --package-lock-only`",
            });
        }
        Ok(Self { file, text: text.to_owned(), packages: document.packages })
    }

    /// All packages, those for development included.
    pub(super) fn count(&self) -> usize {
        self.packages.len() - usize::from(self.packages.contains_key(""))
    }

    /// Compares what the lock was made from with what `package.json` says now.
    pub(super) fn check_against(
        &self,
        dependencies: &BTreeMap<String, String>,
        development: &BTreeMap<String, String>,
        optional: &BTreeMap<String, String>,
    ) -> Result<()> {
        let empty = Entry::default();
        let root = self.packages.get("").unwrap_or(&empty);
        let required = |all: &BTreeMap<String, String>| -> BTreeMap<String, String> {
            // npm repeats optional dependencies among the others in some versions.
            all.iter()
                .filter(|(n, _)| !optional.contains_key(*n))
                .map(|(n, r)| (n.clone(), r.clone()))
                .collect()
        };
        for (declared, locked) in [
            (&required(dependencies), &required(&root.dependencies)),
            (development, &root.dev_dependencies),
            (optional, &root.optional_dependencies),
        ] {
            let names: BTreeSet<_> = declared.keys().chain(locked.keys()).collect();
            for name in names {
                let (says, has) = (declared.get(name), locked.get(name));
                if says != has {
                    let show = |r: Option<&String>| r.map_or("nothing".to_owned(), |r| format!("{r:?}"));
                    let detail =
                        format!("for {name}, package.json says {}, the lock has {}", show(says), show(has));
                    return Err(BuildError::LockMismatch {
                        lockfile: self.file.to_owned(),
                        detail,
                        how: HOW,
                    });
                }
            }
        }
        Ok(())
    }

    /// The packages that the app needs to run, found by following its dependencies.
    pub(super) fn for_image(&self, whole: &Place, platform: &str) -> Result<Vec<LockedPackage>> {
        let mut reached = BTreeSet::new();
        let mut pending = vec![String::new()];
        while let Some(path) = pending.pop() {
            let Some(entry) = self.packages.get(&path) else { continue };
            for (name, needed) in entry.wants() {
                let Some(found) = self.resolve(&path, name) else {
                    if needed {
                        return Err(self.not_locked(&path, name, whole));
                    }
                    continue;
                };
                if !self.packages[&found].fits(platform) {
                    if needed {
                        return Err(self.unsupported(
                            &found,
                            "a package for another platform",
                            PLATFORM_ADVICE,
                        ));
                    }
                } else if reached.insert(found.clone()) {
                    pending.push(found);
                }
            }
        }
        reached.into_iter().map(|path| self.package(path)).collect()
    }

    fn not_locked(&self, path: &str, name: &str, whole: &Place) -> BuildError {
        let who = if path.is_empty() { "package.json" } else { path };
        let detail = format!("{who} needs {name}, which is not locked");
        BuildError::LockMismatch { lockfile: whole.file.clone(), detail, how: HOW }
    }

    /// The package that `name` means to the package at `path`: the nearest one going up.
    fn resolve(&self, path: &str, name: &str) -> Option<String> {
        let mut here = path;
        loop {
            let prefix = if here.is_empty() { String::new() } else { format!("{here}/") };
            let candidate = format!("{prefix}node_modules/{name}");
            if self.packages.get(&candidate).is_some_and(|e| !e.extraneous) {
                return Some(candidate);
            }
            if here.is_empty() {
                return None;
            }
            here = here.rfind("node_modules/").map_or("", |at| here[..at].trim_end_matches('/'));
        }
    }

    fn package(&self, path: String) -> Result<LockedPackage> {
        let entry = &self.packages[&path];
        if entry.link {
            return Err(self.unsupported(&path, "a linked folder", "publish it, or copy it into the source"));
        }
        if entry.in_bundle {
            return Err(self.unsupported(&path, "a bundled package", BUNDLE_ADVICE));
        }
        if entry.has_install_script {
            return Err(self.unsupported(&path, "a package with an install script", SCRIPT_ADVICE));
        }
        let resolved = entry.resolved.clone();
        if resolved.as_ref().is_some_and(|r| !r.starts_with("https://") && !r.starts_with("http://")) {
            return Err(self.unsupported(
                &path,
                "a package that is not from a registry",
                "use a published version",
            ));
        }
        let in_path = path.rsplit("node_modules/").next().unwrap_or(&path);
        let name = entry.name.clone().unwrap_or_else(|| in_path.to_owned());
        let commands = entry.bin.values().map(|file| check_inside(file.trim_start_matches("./")));
        let checked = std::iter::once(check_path(&path)).chain(commands).collect::<Result<(), _>>();
        checked.map_err(|detail| BuildError::BadPackage { package: path.clone(), detail })?;
        let malformed = |what: &str| BuildError::LockMismatch {
            lockfile: self.file.to_owned(),
            detail: format!("{path} has no {what}"),
            how: HOW,
        };
        Ok(LockedPackage {
            version: entry.version.clone().ok_or_else(|| malformed("version"))?,
            integrity: entry
                .integrity
                .as_deref()
                .and_then(Integrity::subresource)
                .ok_or_else(|| malformed("usable integrity (sha512, sha384 or sha256)"))?,
            resolved,
            bin: entry.bin.clone(),
            licence: entry.licence(),
            name,
            path,
        })
    }

    fn unsupported(&self, path: &str, what: &str, instead: &'static str) -> BuildError {
        BuildError::Unsupported {
            place: Place::find(self.file, &self.text, &format!("\"{path}\"")),
            what: format!("{path}: {what}"),
            instead,
        }
    }
}

const PLATFORM_ADVICE: &str = "install it as an optional dependency, or build for its platform";
const BUNDLE_ADVICE: &str = "depend on the package directly";
const SCRIPT_ADVICE: &str = "use a package without one; building packages comes with a later version";

impl Entry {
    /// Names of what it depends on, and whether it cannot do without.
    fn wants(&self) -> impl Iterator<Item = (&str, bool)> {
        let optional = |name: &str| self.optional_dependencies.contains_key(name);
        let needed = self.dependencies.keys().map(move |n| (n.as_str(), !optional(n)));
        let peers = self.peer_dependencies.keys().map(|n| {
            let left_to_choice = self.peer_dependencies_meta.get(n).is_some_and(|m| m.optional);
            (n.as_str(), !left_to_choice)
        });
        needed.chain(self.optional_dependencies.keys().map(|n| (n.as_str(), false))).chain(peers)
    }

    /// Whether it is for the platform, which is written as in `linux/amd64`.
    fn fits(&self, platform: &str) -> bool {
        let (os, processor) = platform.split_once('/').unwrap_or((platform, ""));
        let cpu = if processor == "amd64" { "x64" } else { processor };
        fits(&self.os, os) && fits(&self.cpu, cpu)
    }

    fn licence(&self) -> Option<String> {
        match self.license.as_ref()? {
            serde_json::Value::String(text) => Some(text.clone()),
            other => other.get("type").and_then(|t| t.as_str()).map(str::to_owned),
        }
    }
}

/// `["linux", "darwin"]` or `["!win32"]`.
fn fits(rules: &[String], here: &str) -> bool {
    let refused = rules.iter().any(|r| r.strip_prefix('!') == Some(here));
    let chosen = rules.iter().all(|r| r.starts_with('!')) || rules.iter().any(|r| r == here);
    !refused && chosen
}

/// A lockfile is input like any other: its paths must stay inside `node_modules`.
fn check_path(path: &str) -> Result<(), String> {
    if !path.starts_with("node_modules/") {
        return Err("its path leads elsewhere than into node_modules".to_owned());
    }
    check_inside(path)
}

fn check_inside(path: &str) -> Result<(), String> {
    if path.split('/').any(|part| matches!(part, "" | "." | "..")) {
        return Err(format!("{path:?} leads out of its folder"));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lock(packages: &str) -> Lock {
        Lock::parse("package-lock.json", &format!(r#"{{"lockfileVersion":3,"packages":{{{packages}}}}}"#))
            .unwrap()
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
        let packages = lock.for_image(&Place::new("package-lock.json", None), "linux/amd64").unwrap();
        let paths: Vec<_> = packages.iter().map(|p| p.path.as_str()).collect();
        assert_eq!(paths, ["node_modules/a", "node_modules/a/node_modules/b"]);
    }

    #[test]
    fn what_is_not_handled_is_refused() {
        for (extra, what) in [
            (r#""link":true,"resolved":"lib""#, "linked"),
            (r#""inBundle":true"#, "bundled"),
            (r#""hasInstallScript":true"#, "install script"),
            (r#""resolved":"git+ssh://git@code.example/a.git""#, "not from a registry"),
            (r#""os":["darwin"]"#, "another platform"),
        ] {
            let lock =
                lock(&format!(r#""":{{"dependencies":{{"a":"1"}}}},"node_modules/a":{{{HASH},{extra}}}"#));
            match lock.for_image(&Place::new("package-lock.json", None), "linux/amd64") {
                Err(BuildError::Unsupported { what: found, .. }) => assert!(found.contains(what), "{found}"),
                other => panic!("{extra} was not refused: {:?}", other.map(|p| p.len())),
            }
        }
    }
}
