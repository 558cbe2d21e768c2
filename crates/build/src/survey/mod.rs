//! The survey: what a source is, each conclusion with its evidence.

mod processes;
mod reads;
mod samples;

pub use crate::error::Place;
pub(crate) use reads::is_for_tests;
pub use reads::{ReadSetting, find_or_remember, looks_secret};

use crate::config::{AppConfig, BuildpackOptions, Effective, SettingRule};
use crate::error::{BuildError, Result};
use crate::lang;
use crate::names;
use crate::source::{LeftOut, Notable, Revision, Source, SourceTree};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Whether a piece of evidence speaks for or against a conclusion.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Speaks {
    /// For it.
    For,
    /// Against it.
    Against,
}

/// One observed fact.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Evidence {
    /// For or against what the finding claims.
    pub speaks: Speaks,
    /// Where it was seen.
    pub place: Place,
    /// What was seen there.
    pub value: String,
    /// What it tells.
    pub tells: String,
}

impl Evidence {
    /// Evidence for the finding that it stands in.
    pub fn speaks_for(place: Place, value: impl Into<String>, tells: impl Into<String>) -> Self {
        Self { speaks: Speaks::For, place, value: value.into(), tells: tells.into() }
    }

    /// Evidence against the finding that it stands in.
    pub fn against(place: Place, value: impl Into<String>, tells: impl Into<String>) -> Self {
        Self { speaks: Speaks::Against, place, value: value.into(), tells: tells.into() }
    }
}

/// A runtime that a buildpack needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct RuntimeWish {
    /// For example `node`.
    pub runtime: &'static str,
    /// The versions that will do, and where that is said.
    pub constraint: Option<(String, Place)>,
    /// Further places that say something of the version.
    pub also_said: Vec<(String, Place)>,
    /// Parts of it that are wanted besides its core (extensions of PHP), and where that is said.
    pub parts: Vec<(String, Place)>,
    /// Whether it only builds, and no image has it.
    pub for_build: bool,
    /// Whether the app itself is written for it; otherwise it only serves, and any version will do.
    pub for_app: bool,
}

/// A lockfile and what it locks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct LockFound {
    /// The file.
    pub file: String,
    /// Packages that go into the image.
    pub packages: usize,
    /// Packages that serve development only and stay out.
    pub development: usize,
}

/// Whether a process goes on or ends by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ProcessKind {
    /// Goes on until it is told to end.
    Process,
    /// Does its work and ends.
    Task,
}

/// One way to run the app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ProcessType {
    /// For example `web`.
    pub name: String,
    /// Process or task.
    pub kind: ProcessKind,
    /// The program and its arguments.
    pub command: Vec<String>,
    /// The port that it listens on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// A path that answers with success when the process is well.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub health: Option<String>,
    /// Memory it needs, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory: Option<u64>,
    /// How many of it should run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instances: Option<u32>,
    /// The moment before which a task runs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// Where its command is said.
    pub said: Place,
}

/// How much of a source a buildpack takes for its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Claim {
    /// Nothing.
    None,
    /// A part, such as the front end of another language's app; all of it if nobody claims more.
    Part,
    /// The app.
    Whole,
}

/// What one buildpack concludes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Finding {
    /// The buildpack.
    pub buildpack: &'static str,
    /// How much of the source it takes for its own.
    pub claim: Claim,
    /// What it saw.
    pub evidence: Vec<Evidence>,
    /// What it looked for.
    pub looked_for: Vec<&'static str>,
    /// The runtime it needs.
    pub runtime: Option<RuntimeWish>,
    /// The lockfile that it found.
    pub lock: Option<LockFound>,
    /// A program that needs nothing of a base: it is linked with all its libraries.
    pub complete: Option<Place>,
    /// How the app is started.
    pub processes: Vec<ProcessType>,
    /// Packages that the app declares for running.
    #[serde(skip)]
    pub declared: BTreeSet<String>,
    /// Packages that it declares for development only.
    #[serde(skip)]
    pub development: BTreeSet<String>,
    /// Where a script is named that builds something before the start; no buildpack runs it yet.
    pub build_script: Option<Place>,
}

impl Finding {
    /// A buildpack that found nothing of what it looked for.
    pub fn nothing(buildpack: &'static str, looked_for: Vec<&'static str>) -> Self {
        Self {
            buildpack,
            claim: Claim::None,
            evidence: Vec::new(),
            looked_for,
            runtime: None,
            lock: None,
            complete: None,
            processes: Vec::new(),
            declared: BTreeSet::new(),
            development: BTreeSet::new(),
            build_script: None,
        }
    }

    /// The place of its first evidence.
    fn first_place(&self) -> Option<Place> {
        self.evidence.iter().find(|e| e.speaks == Speaks::For).map(|e| e.place.clone())
    }
}

/// Everything that is concluded about a source.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Survey {
    /// The app's name.
    pub name: String,
    /// Where the name was said; without, it is the folder's.
    pub name_said: Option<Place>,
    /// How many files are packed.
    pub files: usize,
    /// Their size in bytes.
    pub size: u64,
    /// The commit that it was taken from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revision: Option<Revision>,
    /// What was left out and may be missed.
    pub left_out: Vec<LeftOut>,
    /// What was taken in and hardly anybody means to have in an image.
    pub notable: Vec<Notable>,
    /// The base, and where it was said; without, it is the default.
    pub base: (String, Option<Place>),
    /// What every buildpack concludes, in order.
    pub findings: Vec<Finding>,
    /// The buildpacks that build, the main one first.
    pub chosen: Vec<&'static str>,
    /// How the app is run.
    pub processes: Vec<ProcessType>,
    /// Its settings.
    pub settings: BTreeMap<String, SettingRule>,
    /// Variables that its code reads, by name.
    pub reads: BTreeMap<String, ReadSetting>,
    /// Variables that a sample of a dotenv file names.
    pub samples: BTreeMap<String, Place>,
}

/// What was observed of a source besides its files.
pub struct Observed {
    /// Variables that its code reads.
    pub reads: BTreeMap<String, ReadSetting>,
    /// The commit that it was taken from.
    pub revision: Option<Revision>,
}

impl Survey {
    /// The findings of the chosen buildpacks, the main one first.
    pub fn chosen_findings(&self) -> impl Iterator<Item = &Finding> {
        self.chosen.iter().filter_map(|name| self.findings.iter().find(|f| f.buildpack == *name))
    }
}

/// Surveys what was taken in; `called` is the app's name when its configuration does not say.
pub fn survey(called: &str, source: &Source, effective: &Effective, observed: Observed) -> Result<Survey> {
    let config = &effective.config;
    let name = config.name.as_deref().unwrap_or(called).to_owned();
    names::check("app", &name)?;
    check_buildpack_names(config)?;
    let mut findings = Vec::new();
    for buildpack in lang::ALL {
        findings.push(buildpack.survey(&source.tree, &options_of(config, buildpack.name()))?);
    }
    let chosen = choose(&findings, config)?;
    let main = findings.iter().find(|f| Some(&f.buildpack) == chosen.first());
    let processes = processes::merge(main, effective)?;
    Ok(Survey {
        name_said: effective.place("name"),
        name,
        files: source.tree.files().len(),
        size: source.tree.size(),
        revision: observed.revision,
        left_out: source.left_out.clone(),
        notable: source.notable.clone(),
        base: match (&config.base, main.and_then(|main| main.complete.as_ref())) {
            (Some(base), _) => (base.clone(), effective.place("base.from")),
            (None, Some(program)) => ("empty".to_owned(), Some(program.clone())),
            (None, None) => (crate::base::DEFAULT.to_owned(), None),
        },
        findings,
        chosen,
        processes,
        settings: config.settings.clone(),
        reads: observed.reads,
        samples: samples::find(&source.tree)?,
    })
}

/// The options of one buildpack.
pub fn options_of(config: &AppConfig, buildpack: &str) -> BuildpackOptions {
    config.buildpacks.get(buildpack).cloned().unwrap_or_default()
}

fn check_buildpack_names(config: &AppConfig) -> Result<()> {
    let known: Vec<_> = lang::ALL.iter().map(|b| b.name()).collect();
    let named = config.order.iter().flatten().chain(&config.forbid);
    for name in named {
        if !known.contains(&name.as_str()) {
            return Err(BuildError::UnknownBuildpack { name: name.clone(), known });
        }
    }
    Ok(())
}

/// Configuration decides; without it, exactly one claim to the whole must stand. Buildpacks that claim
/// a part come after the main one.
fn choose(findings: &[Finding], config: &AppConfig) -> Result<Vec<&'static str>> {
    if let Some(order) = &config.order
        && !order.is_empty()
    {
        let find = |name: &String| findings.iter().find(|f| f.buildpack == name).map(|f| f.buildpack);
        return Ok(order.iter().filter_map(find).collect());
    }
    let allowed = |f: &&Finding| !config.forbid.iter().any(|n| n == f.buildpack);
    let claiming = |claim: Claim| findings.iter().filter(move |f| f.claim == claim).filter(allowed);
    let (wholes, parts): (Vec<_>, Vec<_>) =
        (claiming(Claim::Whole).collect(), claiming(Claim::Part).collect());
    let main = if wholes.is_empty() { &parts } else { &wholes };
    match &main[..] {
        [one] => {
            let others = parts.iter().filter(|p| p.buildpack != one.buildpack);
            Ok(std::iter::once(one).chain(others).map(|f| f.buildpack).collect())
        }
        [] => Err(BuildError::Unrecognised {
            looked_for: findings
                .iter()
                .map(|f| (f.buildpack.to_owned(), f.looked_for.iter().map(|l| (*l).to_owned()).collect()))
                .collect(),
        }),
        several => Err(BuildError::Ambiguous {
            claims: several
                .iter()
                .map(|f| (f.buildpack.to_owned(), f.first_place().into_iter().collect()))
                .collect(),
        }),
    }
}

/// The constraint in the configuration, which is stronger than what the source says.
pub fn configured_constraint(options: &BuildpackOptions) -> Option<(String, Place)> {
    options.version.clone()
}

impl ProcessType {
    /// A process type as a buildpack finds it, with nothing but its command.
    pub fn found(name: &str, kind: ProcessKind, command: &[&str], said: Place) -> Self {
        Self {
            name: name.to_owned(),
            kind,
            command: command.iter().map(|w| (*w).to_owned()).collect(),
            port: None,
            health: None,
            memory: None,
            instances: None,
            before: None,
            said,
        }
    }
}

impl RuntimeWish {
    /// A wish from what the configuration and the source say, strongest first.
    pub fn of(
        runtime: &'static str,
        configured: Option<(String, Place)>,
        said: Vec<(String, Place)>,
    ) -> Self {
        let mut all = configured.into_iter().chain(said);
        let constraint = all.next();
        Self {
            runtime,
            constraint,
            also_said: all.collect(),
            parts: Vec::new(),
            for_build: false,
            for_app: true,
        }
    }
}

/// The first of `candidates` that the tree has.
pub fn first_present<'c>(tree: &SourceTree, candidates: &[&'c str]) -> Option<&'c str> {
    candidates.iter().copied().find(|c| tree.has(c))
}
