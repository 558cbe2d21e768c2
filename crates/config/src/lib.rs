//! The configuration of one app: `shtetl.toml` beside the source.
//!
//! ```text
//! house rules, shtetl.toml, variant, values for one run ─► layers ─► AppConfig + the origin of each key
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | `reader`, `values`, `running_values` | TOML with places, and every key with its meaning |
//! | `layers` | effective values and their origins |
//! | `user` | the user's own configuration, for all apps |
//! | `town` | `town.toml`: many apps together |
//! | [`schema`] | JSON Schemas of what may be written |
//! | [`pins`] | `shtetl.lock` |
//! | [`addresses`] | where packages come from, and what set each address |
//!
//! Names of buildpacks, tools and ecosystems are passed in as [`model::KnownNames`].
#![forbid(unsafe_code)]

mod added;
pub mod addresses;
mod layers;
mod limits;
pub mod pins;
mod reader;
mod running_values;
pub mod schema;
mod town;
mod user;
mod values;

pub use added::{AddedBuildpack, BuildpackPlace, added_buildpacks};
use jiff::civil::Date;
pub use layers::{Choice, ConfigPlace, Effective, Layer, Origin, RunValues};
pub use limits::{HOUSE_RULES, HouseException, HouseLimits, UNDECLARED};
use model::error::SurveyError;
use model::shell_words::CommandLine;
use model::{
    BuildCommand, BuildpackOptions, Ecosystem, EmptyPart, Error, PathFacts, Place, Result, Service,
    SettingRule,
};
use sandbox::AppLimits;
use std::collections::BTreeMap;
use std::path::Path;
pub use town::{TownEntry, TownFile, TownGroup, name_in};
pub use user::{UserConfig, UserLimits};

/// Everything that `shtetl.toml` says; nothing in it is required.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct AppConfig {
    /// The app's name; default: the folder's.
    pub name: Option<String>,
    /// `rules`: the file of the house rules, from the app's folder.
    pub rules: Option<String>,
    /// `[source] exclude`: patterns of files that are not packed.
    pub exclude: Vec<String>,
    /// `[source] include`: patterns of files that are packed whatever else says no.
    pub include: Vec<String>,
    /// `[base] from`.
    pub base: Option<String>,
    /// `[base] packages`: packages of the distribution, besides those that the base and its runtimes have.
    pub base_packages: Vec<String>,
    /// `[base] build-packages`: packages of the distribution for steps that run programs; never in an image.
    pub build_packages: Vec<String>,
    /// `[base] with`: what an empty base has all the same.
    pub base_with: Vec<EmptyPart>,
    /// `[base] outdated`: whether to accept a release past its Valid-Until date.
    pub outdated: Option<bool>,
    /// `[base] keyring`: a file with keys that are trusted besides the distribution's.
    pub keyring: Option<String>,
    /// `[buildpacks] add`: folders with definitions of buildpacks.
    pub add: Vec<String>,
    /// `[buildpacks] order`.
    pub order: Option<Vec<String>>,
    /// `[buildpacks] forbid`.
    pub forbid: Vec<String>,
    /// `[buildpacks.NAME]`: options of one buildpack.
    pub buildpacks: BTreeMap<String, BuildpackOptions>,
    /// `[build]`: a command that makes files of the app.
    pub build: Option<BuildChoice>,
    /// `[build] fetch`: kinds of files that the build command fetches.
    pub fetch: Vec<String>,
    /// `[build] memory` and `minutes`: what each build step may use.
    pub step_limits: AppLimits,
    /// `[build] leave-out`: patterns of files that only the build reads.
    pub leave_out: Vec<String>,
    /// `[addresses]`: where packages come from, by ecosystem.
    pub addresses: BTreeMap<String, String>,
    /// The kinds of packages that the program knows.
    pub ecosystems: Vec<Ecosystem>,
    /// `[process.NAME]`.
    pub processes: BTreeMap<String, ProcessConfig>,
    /// `[task.NAME]`.
    pub tasks: BTreeMap<String, ProcessConfig>,
    /// `[service.NAME]`.
    pub services: BTreeMap<String, Service>,
    /// `[settings]`.
    pub settings: BTreeMap<String, SettingRule>,
    /// `[advisory.ID]`: advisories that are accepted.
    pub accepted: BTreeMap<String, AcceptedAdvisory>,
    /// What house rules demand.
    pub limits: HouseLimits,
    /// `[trust] keys` of house rules: files of public keys of which one has to have signed an image.
    pub trusted_keys: Vec<String>,
}

/// An advisory that is accepted for now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AcceptedAdvisory {
    /// Why.
    pub reason: String,
    /// The last day on which it is accepted.
    pub until: Date,
}

/// What `[build]` says.
#[derive(Debug, Clone, PartialEq)]
pub enum BuildChoice {
    /// Nothing is run.
    Off,
    /// A command.
    Run(BuildCommand),
}

/// A process type or task.
#[derive(Debug, Clone, PartialEq)]
pub struct ProcessConfig {
    /// The program and its arguments; `None` keeps the command that the survey finds.
    pub run: Option<CommandLine>,
    /// Folders that it writes to, from that of the app.
    pub writable: Vec<String>,
    /// The port it listens on.
    pub port: Option<u16>,
    /// A path that answers with success when the process is well.
    pub health: Option<String>,
    /// How often it is asked for its health, in seconds.
    pub health_every: Option<u32>,
    /// How long it may take until it answers for the first time, in seconds.
    pub start_within: Option<u32>,
    /// Memory that it may use, with all that it starts, in bytes.
    pub memory: Option<u64>,
    /// How many of it should run.
    pub instances: Option<u32>,
    /// For tasks: the moment before which it runs (`release`).
    pub before: Option<String>,
}

impl AppConfig {
    /// Notes that its versions come from `file`.
    fn name_versions(&mut self, file: &str) {
        self.buildpacks.values_mut().for_each(|options| options.name_version_file(file));
    }
}

/// People write configuration; nothing larger (in bytes) is one.
const LARGEST: u64 = 1 << 20;

/// The text of a configuration file, which people know as `shown`.
fn read_text(path: &Path, shown: &Path) -> Result<String> {
    let malformed = |detail: &str| {
        Error::Survey(SurveyError::Malformed {
            place: Place::new(shown.display().to_string(), None),
            detail: detail.to_owned(),
        })
    };
    let mut file = std::fs::File::open(path).facts(shown)?;
    let bytes = content::store::read_limited(&mut file, LARGEST).facts(shown)?;
    let bytes = bytes.ok_or_else(|| malformed("larger than 1 MiB, too large for a configuration file"))?;
    String::from_utf8(bytes).map_err(|_| malformed("not UTF-8"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::Document;
    use model::{Fault, KnownNames};

    fn faults(text: &str) -> Vec<(&str, Fault)> {
        let document = match Document::parse(text) {
            Ok(document) => document,
            Err(complaints) => return complaints.into_iter().map(|c| ("", c.fault)).collect(),
        };
        values::read(&document, &mut AppConfig::default(), &KnownNames::default());
        document.done().0.into_iter().map(|c| (&text[c.span], c.fault)).collect()
    }

    #[test]
    fn every_fault_is_found_in_one_go_with_its_place() {
        let found = faults(
            "nmae = \"x\"\n[process.web]\nrun = 3\nport = 99999\n[settings]\nTOKEN = { secrt = true }\n[task]\nweb = {}\n",
        );
        assert!(matches!(&found[0], ("nmae", Fault::UnknownKey { nearest: Some(n), .. }) if n == "name"));
        assert!(matches!(&found[1], ("3", Fault::WrongType { .. })));
        assert!(matches!(&found[2], ("99999", Fault::BadValue { .. })));
        assert!(matches!(&found[3], ("secrt", Fault::UnknownKey { nearest: Some(n), .. }) if n == "secret"));
        assert!(matches!(&found[4], ("{}", Fault::BadValue { .. })));
        assert_eq!(found.len(), 5);
    }

    #[test]
    fn syntax_faults_are_told_apart() {
        assert!(matches!(faults("name = \"x\nport = 1\n")[0].1, Fault::Syntax { .. }));
    }
}
