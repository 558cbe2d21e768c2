//! Bases composed from Debian packages: chosen from a signed index, pinned, unpacked without running
//! anything of them.

mod closure;
mod composition;
mod fixups;
mod keystore;
mod layer;
mod libraries;
mod npm_node;
mod php;
mod pins;
mod seen;
mod services;
mod suites;
mod unpack;

pub use composition::{Composed, ComposedLayer, EVERYTHING, choose_again, compose_again};
pub use npm_node::{LIBRARIES, find as find_exact};
use pins::BASE_SET;
pub use pins::{Archives, EXTRA, Wanted, WantedRuntime, resolve, resolve_build};
pub use seen::SeenSuites;
pub use services::{resolve_service, service_root};
pub use suites::{BASE, BUILD_BASE, SUITES, Suite, SuiteRuntime};

use config::addresses::Addresses;
use engine::Step;
use layer::PackageSet;
use model::error::BaseError;
use model::pins::{Composition, ExactRuntime, PackagePin, PinnedSet, Sets};
use model::{Error, Result, Role, RuntimeInUse};
use npm_node::Exact;
use planning::{Base, Provided};
use remote::Address;
use std::collections::{BTreeMap, BTreeSet};

/// A base whose packages are pinned.
pub struct DebianBase {
    /// The suite.
    pub suite: &'static Suite,
    /// Its packages.
    pub sets: Sets,
    /// The runtimes that are wanted of it.
    pub runtimes: Vec<WantedRuntime>,
    /// Runtimes that do not come from Debian.
    pub exact: BTreeMap<String, ExactRuntime>,
    /// The archive, and that of security updates.
    pub archives: [Option<Address>; 2],
    /// Where npm packages are: looked up only when something has to be fetched.
    pub npm: Addresses,
    /// Debian's name of the processor.
    pub architecture: &'static str,
    /// What things are built in, on this machine.
    pub build: BuildRoot,
}

/// The packages of the root that things are built in.
#[derive(Debug, Clone, Default)]
pub struct BuildRoot {
    /// Debian's name of this machine's processor.
    pub architecture: &'static str,
    /// Its packages.
    pub packages: PinnedSet,
}

impl DebianBase {
    /// The runtime that steps run in place of the suite's own, which needs only libraries of the suite.
    fn exact_for_build(&self, runtime: &str) -> Option<&ExactRuntime> {
        self.exact.get(runtime).filter(|_| self.architecture == self.build.architecture)
    }

    fn pins(&self, set: &str) -> &[PackagePin] {
        self.sets.get(set).map(|pinned| &pinned.packages[..]).unwrap_or_default()
    }

    /// The step that writes a set.
    pub(super) fn step(&self, set: &str, name: String, role: Role) -> Step {
        let work = PackageSet {
            packages: self.pins(set).to_vec(),
            below: if set == BASE_SET { Vec::new() } else { self.pins(BASE_SET).to_vec() },
            for_image: true,
            // What is shared by all, and what the app asks for itself: runtimes know the names of theirs.
            lists_libraries: matches!(set, BASE_SET | EXTRA),
            archives: self.archives.clone(),
            release: self.suite.release,
            architecture: self.architecture,
        };
        Step::new(name, role, work)
    }
}

impl Base for DebianBase {
    fn has_shell(&self) -> bool {
        true
    }

    fn runtime(&self, runtime: &str) -> Result<Provided> {
        let origin = format!("debian:{}", self.suite.name);
        let Some(wanted) = self.runtimes.iter().find(|wanted| wanted.name == runtime) else {
            return Err(Error::Base(BaseError::RuntimeNotInBase {
                runtime: runtime.to_owned(),
                base: origin,
            }));
        };
        if let Some(exact) = self.exact.get(runtime) {
            let steps = vec![self.step_of(&wanted.set), Exact(exact).step(runtime, self.npm.clone())];
            return Ok(Provided { runtime: Exact(exact).in_use(runtime), steps, notes: Vec::new() });
        }
        let (version, origin) = match (wanted.own, wanted.made_of) {
            (Some(own), _) => (version_of(own, self.sets.get(&wanted.set)), origin),
            (None, Some(whole)) => (version_of(whole, Some(&self.build.packages)), made_of(&origin)),
            (None, None) => (String::new(), origin),
        };
        let in_use =
            RuntimeInUse { name: runtime.to_owned(), version, origin, bin_folder: "/usr/bin".to_owned() };
        let steps = vec![self.step_of(&wanted.set)];
        Ok(Provided { runtime: in_use, steps, notes: Vec::new() })
    }

    fn c_library(&self) -> Option<(u32, u32)> {
        Some(self.suite.c_library)
    }

    fn tool(&self, tool: &str) -> Result<RuntimeInUse> {
        if let Some(exact) = self.exact_for_build(tool) {
            return Ok(Exact(exact).in_use(tool));
        }
        let origin = format!("debian:{}", self.suite.name);
        let own = self.suite.tool(tool);
        let own = own.ok_or_else(|| Error::Base(BaseError::NoBuildRoot { base: origin.clone() }))?;
        Ok(RuntimeInUse {
            name: own.name.to_owned(),
            version: version_of(own, Some(&self.build.packages)),
            origin,
            bin_folder: "/usr/bin".to_owned(),
        })
    }

    fn runtime_for_build(&self, runtime: &str) -> (Vec<Step>, String) {
        match self.exact_for_build(runtime) {
            Some(exact) => {
                (vec![Exact(exact).step_for_build(runtime, self.npm.clone())], Exact(exact).home(runtime))
            }
            None => (Vec::new(), "/usr".to_owned()),
        }
    }

    fn is_ready_for(&self, tool: &str) -> bool {
        let asked = &self.build.packages.asked;
        let of_suite = || self.suite.tool(tool).map(|tool| tool.packages).unwrap_or_default();
        let packages = self.exact_for_build(tool).map_or_else(of_suite, |_| LIBRARIES);
        packages.iter().all(|package| asked.iter().any(|name| name == package))
    }

    fn build_root(&self) -> Result<Vec<Step>> {
        let packages = self.build.packages.packages.clone();
        let work = PackageSet {
            below: Vec::new(),
            for_image: false,
            lists_libraries: false,
            packages,
            archives: self.archives.clone(),
            release: self.suite.release,
            architecture: self.build.architecture,
        };
        let name = format!("debian {} for building", self.suite.name);
        Ok(vec![Step::new(name, Role::Base, work)])
    }

    fn composition(&self) -> Option<Composition> {
        Some(self.composed(&[]))
    }

    fn below(&self) -> Result<(Vec<Step>, Vec<String>)> {
        let extra = self.sets.contains_key(EXTRA).then_some(EXTRA);
        let sets = [BASE_SET].into_iter().chain(extra);
        Ok((sets.map(|set| self.step_of(set)).collect(), Vec::new()))
    }
}

/// The origin of a runtime that a build makes of parts of a base's: another base under the image leaves it as it is.
pub fn made_of(base: &str) -> String {
    format!("parts of {base}")
}

/// The names of everything that only builds.
pub fn tool_names() -> BTreeSet<&'static str> {
    SUITES.iter().flat_map(|suite| suite.tools).map(|tool| tool.name).collect()
}

/// The version of a runtime: the pinned one; before anything is pinned, what is known of the suite.
pub fn version_of(runtime: &SuiteRuntime, set: Option<&PinnedSet>) -> String {
    let pins = set.map(|pinned| &pinned.packages[..]).unwrap_or_default();
    let main = pins.iter().find(|p| Some(&p.name.as_str()) == runtime.packages.first());
    main.map_or_else(|| runtime.version.to_owned(), |p| upstream(&p.version))
}

/// `20.19.2` of `20.19.2+dfsg-1+deb13u3`, and `3.1.2` of `3.1.7+really3.1.2-0`, which took a newer version back.
fn upstream(version: &str) -> String {
    let version = version.split_once(':').map_or(version, |(_, rest)| rest);
    let version = version.split_once("+really").map_or(version, |(_, rest)| rest);
    let end = version.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(version.len());
    version[..end].trim_end_matches('.').to_owned()
}

/// Debian's name of the processor of a platform such as `linux/amd64`.
pub fn architecture(platform: &str) -> Option<&'static str> {
    match platform {
        "linux/amd64" => Some("amd64"),
        "linux/arm64" => Some("arm64"),
        _ => None,
    }
}
