//! Bases composed from Debian packages: chosen from a signed index, pinned, unpacked without running
//! anything of them.

mod closure;
mod exact;
mod fixups;
mod layer;
mod pins;
mod suites;
mod unpack;

pub use exact::{ExactRuntime, LIBRARIES, find as find_exact};
pub use pins::{Archives, EXTRA, PackagePin, Sets, SuitePin, Wanted, resolve};
pub use suites::{SUITES, Suite, SuiteRuntime};

use super::{Base, Provided};
use crate::error::{BuildError, Result};
use crate::worklist::{Role, RuntimeInUse, Step};
use layer::PackageSet;
use remote::Address;
use std::collections::BTreeMap;

/// A base whose packages are pinned.
pub struct DebianBase {
    /// The suite.
    pub suite: &'static Suite,
    /// Its packages.
    pub sets: Sets,
    /// Runtimes that do not come from Debian.
    pub exact: BTreeMap<String, ExactRuntime>,
    /// The archive, and that of security updates.
    pub archives: [Option<Address>; 2],
    /// Where npm packages are.
    pub npm: Option<Address>,
    /// Debian's name of the processor.
    pub architecture: &'static str,
}

impl DebianBase {
    fn step(&self, set: &str, name: String, role: Role) -> Step {
        let work = PackageSet {
            packages: self.sets.get(set).cloned().unwrap_or_default(),
            archives: self.archives.clone(),
            release: self.suite.release,
            architecture: self.architecture,
        };
        Step { name, role, inputs: vec![work.input()], work: Box::new(work) }
    }
}

impl Base for DebianBase {
    fn runtime(&mut self, runtime: &'static str) -> Result<Provided> {
        if let Some(exact) = self.exact.get(runtime) {
            let libraries = self.step(runtime, format!("{runtime} libraries"), Role::Runtime);
            let steps = vec![libraries, exact.step(runtime, self.npm.clone())];
            return Ok(Provided { runtime: exact.in_use(runtime), steps, notes: Vec::new() });
        }
        let origin = format!("debian:{}", self.suite.name);
        let Some(known) = self.suite.runtime(runtime) else {
            return Err(BuildError::RuntimeNotInBase { runtime, base: origin });
        };
        let in_use = RuntimeInUse {
            name: runtime.to_owned(),
            version: version_of(known, &self.sets),
            origin,
            bin_folder: "/usr/bin".to_owned(),
        };
        let steps = vec![self.step(runtime, format!("{runtime} runtime"), Role::Runtime)];
        Ok(Provided { runtime: in_use, steps, notes: Vec::new() })
    }

    fn below(&mut self) -> Result<(Vec<Step>, Vec<String>)> {
        let name = |what: &str| format!("debian {} {what}", self.suite.name);
        let mut steps = vec![self.step("base", name("base"), Role::Base)];
        if self.sets.contains_key(EXTRA) {
            steps.push(self.step(EXTRA, name("packages"), Role::Base));
        }
        Ok((steps, Vec::new()))
    }
}

/// The version of a runtime: the pinned one; before anything is pinned, what is known of the suite.
pub fn version_of(runtime: &SuiteRuntime, sets: &Sets) -> String {
    let pins = sets.get(runtime.name).map(Vec::as_slice).unwrap_or_default();
    let main = pins.iter().find(|p| Some(&p.name.as_str()) == runtime.packages.first());
    main.map_or_else(|| runtime.version.to_owned(), |p| upstream(&p.version))
}

/// `20.19.2` of `20.19.2+dfsg-1+deb13u3`.
fn upstream(version: &str) -> String {
    let version = version.split_once(':').map_or(version, |(_, rest)| rest);
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
