//! The tree of packages: what is put where, and which of it an image needs.
//!
//! Every kind of lockfile, and resolution without one, ends in such a tree.

use crate::package::{Fits, LockedPackage, Origin};
use crate::patch::Patch;
use model::error::{PackageError, SurveyError};
use model::npm_range::Range;
use model::package_url::purl;
use model::{Error, Place, Result};
use planning::{PlannedPackage, PlannedPackages};
use remote::Integrity;
use std::collections::{BTreeMap, BTreeSet};

/// Packages by the folder they are put in, from the root of the app; the app itself is at "".
#[derive(Debug, Clone)]
pub(super) struct PackageTree {
    /// The file that says so.
    pub(super) file: &'static str,
    /// Its text, to point at lines of it.
    pub(super) text: String,
    pub(super) packages: BTreeMap<String, Entry>,
    /// Whether it says which commands and platforms packages have; if not, the packages do.
    pub(super) says_all: bool,
    /// Whether it says the ranges that it was made from.
    pub(super) says_ranges: bool,
    /// How the file is regenerated.
    pub(super) how: &'static str,
    /// The member of the workspace that is the app: its folder.
    pub(super) member: Option<String>,
}

/// One package of the tree, or a folder of the source with a manifest of its own.
#[derive(Debug, Clone, Default)]
pub(super) struct Entry {
    /// The name in the registry, where it is not that of the folder.
    pub(super) name: Option<String>,
    pub(super) version: Option<String>,
    pub(super) origin: Origin,
    pub(super) integrity: Option<Integrity>,
    pub(super) has_install_script: bool,
    /// Whether only development needs it.
    pub(super) development: bool,
    /// In the file, but needed by nothing.
    pub(super) extraneous: bool,
    pub(super) bin: BTreeMap<String, String>,
    pub(super) licence: Option<String>,
    pub(super) deprecated: Option<String>,
    pub(super) fits: Fits,
    /// The versions of Node that it wants.
    pub(super) engine: Option<String>,
    /// Changes that the app makes to it.
    pub(super) patches: Vec<Patch>,
    pub(super) dependencies: BTreeMap<String, String>,
    pub(super) dev_dependencies: BTreeMap<String, String>,
    pub(super) optional_dependencies: BTreeMap<String, String>,
    /// With whether the app may do without.
    pub(super) peers: BTreeMap<String, bool>,
}

const PLATFORM_ADVICE: &str = "install it as an optional dependency, or build for its platform";

impl PackageTree {
    /// A tree that is made here; `file` says what it is made of.
    pub(super) fn made(file: &'static str) -> Self {
        let (text, packages) = (String::new(), BTreeMap::new());
        let how = "run `shtetl build --update`";
        Self { file, text, packages, says_all: true, says_ranges: true, how, member: None }
    }

    /// All packages, those for development included.
    pub(super) fn count(&self) -> usize {
        self.packages.keys().filter(|path| path.contains("node_modules/")).count()
    }

    /// Compares what the tree was made from with what the manifest in `folder` of the source says now.
    pub(super) fn check_against(
        &self,
        folder: &str,
        [dependencies, development, optional]: [&BTreeMap<String, String>; 3],
    ) -> Result<()> {
        let Some(own) = self.packages.get(folder) else { return Ok(()) };
        let required = |all: &BTreeMap<String, String>| -> BTreeMap<String, String> {
            // Optional dependencies are repeated among the others in some versions.
            all.iter()
                .filter(|(n, _)| !optional.contains_key(*n))
                .map(|(n, r)| (n.clone(), r.clone()))
                .collect()
        };
        for (declared, locked) in [
            (&required(dependencies), &required(&own.dependencies)),
            (development, &own.dev_dependencies),
            (optional, &own.optional_dependencies),
        ] {
            let names: BTreeSet<_> = declared.keys().chain(locked.keys()).collect();
            for name in names {
                let (says, has) = (declared.get(name), locked.get(name));
                if says != has {
                    let show = |r: Option<&String>| r.map_or("nothing".to_owned(), |r| format!("{r:?}"));
                    let manifest = if folder.is_empty() { String::new() } else { format!("{folder}/") };
                    let (says, has) = (show(says), show(has));
                    let detail =
                        format!("{manifest}package.json requires {name} {says}, but the lockfile has {has}");
                    return Err(self.mismatch(detail));
                }
            }
        }
        Ok(())
    }

    /// Whether everything in `dependencies` of the app is there, in a version of its range.
    pub(super) fn check_ranges(&self, dependencies: &BTreeMap<String, String>) -> Result<()> {
        for (name, range) in dependencies {
            let found = self.resolve("", name).ok_or_else(|| self.not_locked("", name))?;
            let version = self.packages[&found].version.as_deref().unwrap_or_default();
            let fits = || Some(Range::parse(range)?.contains(&semver::Version::parse(version).ok()?));
            if fits() == Some(false) {
                let detail =
                    format!("package.json requires {name} {range:?}, but the lockfile has {version}");
                return Err(self.mismatch(detail));
            }
        }
        Ok(())
    }

    fn mismatch(&self, detail: String) -> Error {
        Error::Package(PackageError::LockMismatch { lockfile: self.file.to_owned(), detail, how: self.how })
    }

    /// The packages that the app needs to run on `platform`, found by following its dependencies.
    pub(super) fn for_image(&self, platform: &str) -> Result<Vec<LockedPackage>> {
        self.reached(platform, false)
    }

    /// As [`Self::for_image`], with what only the development of the app needs.
    pub(super) fn with_development(&self, platform: &str) -> Result<Vec<LockedPackage>> {
        self.reached(platform, true)
    }

    fn reached(&self, platform: &str, development: bool) -> Result<Vec<LockedPackage>> {
        let mut needed: BTreeMap<String, bool> = BTreeMap::new();
        // What can be done without is followed last, so that a package that is needed is known as such.
        let mut pending: Vec<(String, bool)> = vec![(String::new(), false)];
        match &self.member {
            Some(folder) => pending.push((folder.clone(), false)),
            None => pending.extend(self.workspaces().map(|path| (path, false))),
        }
        let mut later: Vec<(String, bool)> = Vec::new();
        let mut found_from: BTreeMap<String, String> = BTreeMap::new();
        while let Some((path, optional)) = pending.pop().or_else(|| later.pop()) {
            let Some(entry) = self.packages.get(&path) else { continue };
            if path.contains("node_modules/") {
                match needed.get(&path) {
                    Some(_) => continue,
                    None => needed.insert(path.clone(), optional),
                };
            }
            if let Origin::Link(target) = &entry.origin {
                pending.push((target.clone(), optional));
                continue;
            }
            let of_app = development && !path.contains("node_modules/");
            let further = entry.dev_dependencies.keys().filter(|_| of_app).map(|n| (n.as_str(), true));
            for (name, must) in entry.wants().chain(further) {
                let Some(found) = self.resolve(&path, name) else {
                    match must && !optional {
                        true => return Err(self.not_locked(&path, name)),
                        false => continue,
                    }
                };
                found_from.entry(found.clone()).or_insert_with(|| path.clone());
                let (fits, optional) = (self.packages[&found].fits.platform(platform), optional || !must);
                match (fits, optional) {
                    (false, true) => {}
                    (false, false) => {
                        return Err(self.unsupported(
                            &found,
                            "a package for another platform",
                            PLATFORM_ADVICE,
                        ));
                    }
                    (true, false) => pending.push((found, false)),
                    (true, true) => later.push((found, true)),
                }
            }
        }
        let mut packages: Vec<LockedPackage> =
            needed.iter().map(|(path, optional)| self.package(path, *optional)).collect::<Result<_>>()?;
        for package in &mut packages {
            package.wanted_by = self.chain(&package.path, &found_from);
        }
        self.give_commands_to_carriers(&mut packages);
        Ok(packages)
    }

    /// The versions of Node that `packages` want, each with one that wants them.
    pub(super) fn engines(&self, packages: &[LockedPackage]) -> Vec<(String, String)> {
        let engine = |package: &LockedPackage| {
            let range = self.packages.get(&package.path)?.engine.clone()?;
            Some((range, package.label()))
        };
        packages.iter().filter_map(engine).collect::<BTreeMap<_, _>>().into_iter().collect()
    }

    /// The names of the packages that led to the one at `path`, the nearest first.
    fn chain(&self, path: &str, found_from: &BTreeMap<String, String>) -> Vec<String> {
        let mut chain = Vec::new();
        let mut here = path;
        while let Some(above) = found_from.get(here).filter(|above| above.contains("node_modules/")) {
            let name = above.rsplit("node_modules/").next().unwrap_or(above).to_owned();
            // Packages may need each other in a circle.
            if chain.contains(&name) {
                break;
            }
            chain.push(name);
            here = above;
        }
        chain
    }

    /// Folders of the source that are linked as parts of the app, whether or not something asks for them.
    fn workspaces(&self) -> impl Iterator<Item = String> {
        let linked = |(path, entry): (&String, &Entry)| {
            let at_top = path.rfind("node_modules/") == Some(0);
            let counts = at_top && !entry.development && !entry.extraneous;
            (counts && matches!(entry.origin, Origin::Link(_))).then(|| path.clone())
        };
        self.packages.iter().filter_map(linked)
    }

    /// What a carried package's commands are, the archive of the package above it has to know.
    fn give_commands_to_carriers(&self, packages: &mut [LockedPackage]) {
        let mut carried: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for package in packages.iter().filter(|p| p.origin == Origin::Bundled) {
            let mut above = package.path.as_str();
            while let Some(at) = above.rfind("/node_modules/") {
                above = &above[..at];
                if self.packages.get(above).is_some_and(|e| e.origin != Origin::Bundled) {
                    let inside = &package.path[above.len() + 1..];
                    let files =
                        package.bin.values().map(|f| format!("{inside}/{}", f.trim_start_matches("./")));
                    carried.entry(above.to_owned()).or_default().extend(files);
                    break;
                }
            }
        }
        for package in packages {
            package.carried_commands = carried.remove(&package.path).unwrap_or_default();
        }
    }

    fn not_locked(&self, path: &str, name: &str) -> Error {
        let who = if path.is_empty() { "package.json" } else { path };
        self.mismatch(format!("{who} needs {name}, which is not locked"))
    }

    /// The package that `name` means to the package at `path`: the nearest one going up.
    pub(super) fn resolve(&self, path: &str, name: &str) -> Option<String> {
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

    /// What is known of these packages before the build.
    pub(super) fn planned(&self, packages: &[LockedPackage]) -> PlannedPackages {
        let urls: BTreeMap<&str, String> = packages
            .iter()
            .map(|one| (one.path.as_str(), purl("npm", &one.name, &one.version, &[])))
            .collect();
        let mut planned = PlannedPackages::new();
        for package in packages {
            let Some(entry) = self.packages.get(&package.path) else { continue };
            let names =
                entry.dependencies.keys().chain(entry.optional_dependencies.keys()).chain(entry.peers.keys());
            let needs = names.filter_map(|name| urls.get(self.resolve(&package.path, name)?.as_str()));
            let (name, version) = (package.name.clone(), package.version.clone());
            let url = urls[package.path.as_str()].clone();
            // A version may be put down several times, and find other packages each time.
            let one = planned.entry(url).or_insert(PlannedPackage { name, version, needs: BTreeSet::new() });
            one.needs.extend(needs.cloned());
        }
        planned
    }

    fn package(&self, path: &str, optional: bool) -> Result<LockedPackage> {
        let entry = &self.packages[path];
        if let Origin::Other(what) = &entry.origin {
            return Err(self.unsupported(path, what, "use a published version"));
        }
        let in_path = path.rsplit("node_modules/").next().unwrap_or(path);
        let name = entry.name.clone().unwrap_or_else(|| in_path.to_owned());
        // A linked folder's commands are those of its own manifest.
        let bin = match &entry.origin {
            Origin::Link(to) => self.packages.get(to).map_or(&entry.bin, |folder| &folder.bin),
            _ => &entry.bin,
        };
        let commands = bin.values().map(|file| check_inside(file.trim_start_matches("./")));
        let linked = match &entry.origin {
            Origin::Link(to) | Origin::Archive(to) => check_inside(to),
            _ => Ok(()),
        };
        let checked = [check_inside(path), linked].into_iter().chain(commands).collect::<Result<(), _>>();
        checked
            .map_err(|detail| Error::Package(PackageError::Damaged { package: path.to_owned(), detail }))?;
        let version = match (&entry.version, &entry.origin) {
            (Some(version), _) => version.clone(),
            (None, Origin::Link(to)) => {
                self.packages.get(to).and_then(|own| own.version.clone()).unwrap_or_default()
            }
            (None, Origin::Archive(_)) => String::new(),
            (None, _) => return Err(self.mismatch(format!("{path} has no version"))),
        };
        Ok(LockedPackage {
            version,
            origin: entry.origin.clone(),
            integrity: entry.integrity.clone(),
            bin: bin.clone(),
            licence: entry.licence.clone(),
            deprecated: entry.deprecated.clone(),
            has_install_script: entry.has_install_script,
            patches: entry.patches.clone(),
            carried_commands: BTreeSet::new(),
            wanted_by: Vec::new(),
            optional,
            name,
            path: path.to_owned(),
        })
    }

    fn unsupported(&self, path: &str, what: &str, instead: &'static str) -> Error {
        Error::Survey(SurveyError::Unsupported {
            place: Place::find(self.file, &self.text, &format!("\"{path}\"")),
            what: format!("{path}: {what}"),
            instead,
        })
    }
}

impl Entry {
    /// Names of what it depends on, and whether it cannot do without.
    fn wants(&self) -> impl Iterator<Item = (&str, bool)> {
        let optional = |name: &str| self.optional_dependencies.contains_key(name);
        let needed = self.dependencies.keys().map(move |n| (n.as_str(), !optional(n)));
        let peers = self.peers.iter().map(|(n, may_lack)| (n.as_str(), !may_lack));
        needed.chain(self.optional_dependencies.keys().map(|n| (n.as_str(), false))).chain(peers)
    }
}

/// A lockfile is input like any other: its paths must stay inside the app.
fn check_inside(path: &str) -> Result<(), String> {
    if path.split('/').any(|part| matches!(part, "" | "." | "..")) {
        return Err(format!("{path:?} points outside its folder"));
    }
    Ok(())
}
