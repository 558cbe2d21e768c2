//! Which packages and commands an image will have, as far as that is known before anything runs.

use crate::check::Subject;
use config::pins::Pins;
use model::{Finding, Result};
use std::collections::BTreeSet;

/// What an image has of the packages of one language.
pub(super) struct Installed {
    /// Names, in the ecosystem's plain form.
    pub(super) names: BTreeSet<String>,
    /// Commands of the packages, where the lockfile or the pins say them.
    pub(super) commands: BTreeSet<String>,
    /// Whether `names` is all that there is: something locks or pins the packages, or none are declared.
    pub(super) all_names: bool,
    /// Whether `commands` is all that there is.
    pub(super) all_commands: bool,
}

impl Installed {
    /// The packages of a finding's language.
    pub(super) fn of(subject: &Subject<'_>, finding: &Finding) -> Result<Self> {
        let mut installed = Self {
            names: finding.declared.clone(),
            commands: finding.commands.clone().unwrap_or_default(),
            all_names: finding.lock.is_some() || finding.declared.is_empty(),
            all_commands: finding.commands.is_some() || finding.declared.is_empty(),
        };
        installed.names.extend(finding.locked.iter().cloned());
        if finding.lock.is_some() {
            return Ok(installed);
        }
        let pins = Pins::read(&subject.app.opened.config_folder())?;
        let sets = pins.as_ref().and_then(|pins| pins.resolved.get(&finding.buildpack));
        for (_, set) in
            sets.into_iter().flatten().filter(|(purpose, _)| is_for_image(&finding.buildpack, purpose))
        {
            installed.names.extend(set.packages.iter().map(|package| package.name.clone()));
            installed.commands.extend(set.packages.iter().flat_map(|package| package.bin.keys().cloned()));
            (installed.all_names, installed.all_commands) = (true, finding.buildpack == "node");
        }
        Ok(installed)
    }
}

/// Whether packages that are pinned for a purpose go into the image: Node's have one purpose, Python's the target.
fn is_for_image(buildpack: &str, purpose: &str) -> bool {
    match buildpack {
        "node" => purpose == "app",
        _ => !purpose.contains(" build:"),
    }
}
