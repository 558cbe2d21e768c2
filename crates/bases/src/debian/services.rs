//! Services from packages of a suite: a root for one program, without a shell of its own but the base's.

use super::closure::{Chosen, closure};
use super::layer::PackageSet;
use super::pins::{pinned, unmet};
use super::suites::{BASE, NOT_AT_RUN_TIME, Suite};
use engine::Step;
use model::pins::PinnedSet;
use model::{Result, Role};
use remote::Address;
use remote::packages::debian::Index;

/// Chooses the packages of the root that a service runs in.
pub fn resolve_service(suite: &Suite, packages: &[&str], index: &Index) -> Result<PinnedSet> {
    let asked: Vec<&str> = BASE.iter().chain(packages).copied().collect();
    let set = closure(index, &asked, &Chosen::new(), &NOT_AT_RUN_TIME).map_err(unmet(suite))?;
    Ok(pinned(&asked, set))
}

/// The step that writes this root.
pub fn service_root(
    name: String,
    suite: &Suite,
    architecture: &'static str,
    set: &PinnedSet,
    archives: [Option<Address>; 2],
) -> Step {
    let work = PackageSet {
        packages: set.packages.clone(),
        below: Vec::new(),
        for_image: true,
        lists_libraries: true,
        archives,
        release: suite.release,
        architecture,
    };
    Step::new(name, Role::Base, work)
}
