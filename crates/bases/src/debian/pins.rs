//! Which packages, exactly: resolved once, then pinned in `shtetl.lock`.

use crate::debian::closure::{Chosen, Unmet, closure, conflict};
use crate::debian::suites::{NOT_AT_BUILD_TIME, NOT_AT_RUN_TIME, Suite, SuiteRuntime};
use content::digest::Sha256;
use content::store::Store;
use model::error::{ConfigError, PackageError, PinError};
use model::pins::{PackagePin, PinnedSet, Sets, SuitePin};
use model::{Error, Result};
use remote::packages::debian::{self, Index, Package, Release, Signatures};
use remote::{Address, Fetcher, RemoteError};
use serde::{Serialize, Serializer};
use std::collections::BTreeMap;

/// A runtime of a suite, as an app wants it.
#[derive(Debug, Clone, Serialize)]
pub struct WantedRuntime {
    /// For example `java`.
    pub name: String,
    /// Which of the suite; `None` when it comes from elsewhere and only its libraries are meant.
    #[serde(skip)]
    pub own: Option<&'static SuiteRuntime>,
    /// What it is made of in a build, where only its libraries are meant.
    #[serde(skip)]
    pub made_of: Option<&'static SuiteRuntime>,
    /// The name of its set.
    pub set: String,
    /// Its packages.
    pub packages: Vec<String>,
    /// What is left out, besides what no image needs.
    pub without: Vec<String>,
}

impl WantedRuntime {
    /// The libraries of a runtime that comes from elsewhere.
    pub fn libraries(name: &str, packages: &[&str]) -> Self {
        let packages = packages.iter().map(|p| (*p).to_owned()).collect();
        let (name, set) = (name.to_owned(), name.to_owned());
        Self { name, own: None, made_of: None, set, packages, without: Vec::new() }
    }

    /// The libraries of a runtime that a build makes of parts of the suite's.
    pub fn small(name: &str, of: &'static SuiteRuntime) -> Self {
        let set = format!("{name}-runtime");
        Self { made_of: Some(of), set, ..Self::libraries(name, of.small_needs) }
    }
}

/// What packages are chosen for.
#[derive(Serialize)]
pub struct Wanted<'a> {
    /// The suite.
    #[serde(serialize_with = "by_name")]
    pub suite: &'static Suite,
    /// Debian's name of the processor.
    pub architecture: &'static str,
    /// Packages of the base itself.
    pub base: Vec<&'a str>,
    /// Whether the packages of the base are all, without what they need.
    pub only_base: bool,
    /// Runtimes of the app.
    pub runtimes: Vec<WantedRuntime>,
    /// Further packages that the configuration names.
    pub packages: Vec<&'a str>,
}

/// Where packages are chosen from.
pub struct Archives<'a> {
    /// The archive, and that of security updates.
    pub addresses: [Option<Address>; 2],
    /// Keys that are trusted besides the distribution's.
    pub keyrings: &'a [Vec<u8>],
    /// Gets files.
    pub fetcher: &'a Fetcher,
    /// Keeps indexes.
    pub store: &'a Store,
    /// Now, in seconds since 1970.
    pub now: i64,
    /// Whether to accept a release past its Valid-Until date.
    pub outdated: bool,
}

fn by_name<S: Serializer>(suite: &Suite, to: S) -> std::result::Result<S::Ok, S::Error> {
    to.serialize_str(suite.name)
}

pub(super) fn unmet(suite: &Suite) -> impl Fn(Unmet) -> Error + Copy {
    let suite = suite.name;
    move |unmet| {
        Error::Pins(PinError::Unmet { suite: suite.to_owned(), wanted: unmet.wanted, chain: unmet.chain })
    }
}

/// Chooses the packages of the root that things are built in.
pub fn resolve_build(suite: &Suite, asked: &[String], index: &Index) -> Result<PinnedSet> {
    let asked: Vec<&str> = asked.iter().map(String::as_str).collect();
    let set = closure(index, &asked, &Chosen::new(), &NOT_AT_BUILD_TIME).map_err(unmet(suite))?;
    Ok(pinned(&asked, set))
}

/// Chooses the packages of an image.
pub fn resolve(wanted: &Wanted<'_>, index: &Index) -> Result<Sets> {
    let unmet = unmet(wanted.suite);
    let every = ["*"];
    let mut all: Vec<Package> = Vec::new();
    let mut gather = |set: &Chosen| all.extend(set.values().map(|(package, _)| package.clone()));
    let without: &[&str] = if wanted.only_base { &every } else { &NOT_AT_RUN_TIME };
    let base = closure(index, &wanted.base, &Chosen::new(), without).map_err(unmet)?;
    let mut sets = Sets::new();
    for runtime in &wanted.runtimes {
        let asked: Vec<&str> = runtime.packages.iter().map(String::as_str).collect();
        let own = runtime.without.iter().map(String::as_str);
        let without: Vec<&str> = NOT_AT_RUN_TIME.into_iter().chain(own).collect();
        let set = closure(index, &asked, &base, &without).map_err(unmet)?;
        gather(&set);
        sets.insert(runtime.set.clone(), pinned(&asked, set));
    }
    if !wanted.packages.is_empty() {
        let set = closure(index, &wanted.packages, &base, &NOT_AT_RUN_TIME).map_err(unmet)?;
        gather(&set);
        sets.insert(EXTRA.to_owned(), pinned(&wanted.packages, set));
    }
    gather(&base);
    if let Some((package, excluded)) = conflict(&all.iter().collect::<Vec<_>>()) {
        let [package, excluded] = [package, excluded].map(str::to_owned);
        return Err(Error::Pins(PinError::Conflict {
            suite: wanted.suite.name.to_owned(),
            package,
            excluded,
        }));
    }
    sets.insert(BASE_SET.to_owned(), pinned(&wanted.base, base));
    Ok(sets)
}

/// The name of the set that is below all others.
pub const BASE_SET: &str = "base";
/// The name of the set that the configuration asks for.
pub const EXTRA: &str = "packages";

pub(super) fn pinned(asked: &[&str], chosen: Chosen) -> PinnedSet {
    let pin = |(package, archive): (Package, usize)| PackagePin {
        name: package.name,
        version: package.version,
        architecture: package.architecture,
        file: package.file,
        size: package.size,
        sha256: package.sha256,
        security: archive == 1,
    };
    let asked = asked.iter().map(|name| (*name).to_owned()).collect();
    PinnedSet { asked, packages: chosen.into_values().map(pin).collect() }
}

fn pin_of(release: &Release, digest: Sha256) -> SuitePin {
    SuitePin { date: release.date.clone(), sha256: digest.hex() }
}

impl Archives<'_> {
    /// In which state the parts of the suite are now.
    pub fn state(&self, suite: &Suite) -> Result<BTreeMap<String, SuitePin>> {
        let releases = self.releases(suite)?.into_iter();
        Ok(releases.map(|(part, _, release, digest)| (part, pin_of(&release, digest))).collect())
    }

    /// The signed releases of the parts of the suite, each with the number of its archive and its digest.
    fn releases(&self, suite: &Suite) -> Result<Vec<(String, usize, Release, Sha256)>> {
        let keys = suite.signatures(self.keyrings);
        let keys =
            keys.map_err(|fault| Error::Pins(PinError::Signature { what: "the keyring".to_owned(), fault }))?;
        let mut releases = Vec::new();
        for (part, security) in suite.parts() {
            let archive = usize::from(security);
            let Some(address) = &self.addresses[archive] else {
                if security {
                    continue;
                }
                return Err(Error::Config(ConfigError::NoAddress { ecosystem: "debian" }));
            };
            match self.release(&part, address, &keys) {
                // A copy of an archive may have the suite itself only.
                Err(Error::Package(PackageError::Remote {
                    source: RemoteError::NotFound { .. }, ..
                })) if part.ends_with("-updates") => {}
                Ok((release, digest)) => releases.push((part, archive, release, digest)),
                Err(error) => return Err(error),
            }
        }
        Ok(releases)
    }

    /// The packages of all parts of the suite for a processor (Debian's name), in their newest state.
    pub fn index(&self, suite: &Suite, architecture: &str) -> Result<(Index, BTreeMap<String, SuitePin>)> {
        let (mut index, mut pins) = (Index::default(), BTreeMap::new());
        for (part, archive, release, digest) in self.releases(suite)? {
            let Some(address) = &self.addresses[archive] else { continue };
            let path = format!("main/binary-{architecture}/Packages.xz");
            let compressed = self.listed(&part, address, &release, &path)?;
            index.add_xz(&compressed, archive).map_err(|e| {
                Error::Package(PackageError::Damaged {
                    package: format!("{part} {path}"),
                    detail: e.to_string(),
                })
            })?;
            pins.insert(part, pin_of(&release, digest));
        }
        Ok((index, pins))
    }

    fn release(&self, part: &str, address: &Address, keys: &Signatures) -> Result<(Release, Sha256)> {
        let what = format!("the release of {part}");
        let text = debian::fetch_release(self.fetcher, address, part)
            .map_err(|source| Error::Package(PackageError::Remote { wanted_by: what.clone(), source }))?;
        let release = Release::verified(&text, keys, self.now).map_err(|fault| {
            Error::Pins(PinError::Signature { what: format!("{what} at {address}"), fault })
        })?;
        if let Some(until) = release.valid_until.as_deref()
            && !self.outdated
            && seconds(until).is_none_or(|until| until < self.now)
        {
            return Err(Error::Pins(PinError::ReleaseOver { what, until: until.to_owned() }));
        }
        Ok((release, Sha256::of(text.as_bytes())))
    }

    /// A file that the release lists; the store keeps it.
    fn listed(&self, part: &str, address: &Address, release: &Release, path: &str) -> Result<Vec<u8>> {
        let what = format!("the index of {part}");
        let listed = release.file(path).ok_or_else(|| {
            Error::Package(PackageError::Remote {
                wanted_by: what.clone(),
                source: RemoteError::NotFound {
                    url: address.join(&format!("dists/{part}/{path}")).to_string(),
                },
            })
        })?;
        let kept = self.store.fragment_path("debian-index", Sha256::of(listed.sha256.as_bytes()));
        if let Ok(bytes) = std::fs::read(&kept)
            && Sha256::of(&bytes).hex() == listed.sha256
        {
            return Ok(bytes);
        }
        let bytes = debian::fetch_listed(self.fetcher, address, part, release, listed)
            .map_err(|source| Error::Package(PackageError::Remote { wanted_by: what, source }))?;
        self.store.write(&kept, &bytes)?;
        Ok(bytes)
    }
}

/// Seconds since 1970 of a date such as `Sat, 28 Nov 2026 00:53:03 UTC`.
fn seconds(date: &str) -> Option<i64> {
    let date = date.trim().replace(" UTC", " +0000").replace(" GMT", " +0000");
    jiff::fmt::rfc2822::parse(&date).ok().map(|time| time.timestamp().as_second())
}
