//! The survey: what a source is, each conclusion with its evidence.

mod building;
mod default_base;
mod env_var_tables;
mod env_vars;
mod needs;
mod processes;
mod samples;
mod services;
mod settings_classes;
mod undeclared;
mod unrecognised;

pub use env_var_tables::{looks_needed, looks_secret};
pub use env_vars::{ReadSetting, find_or_remember};
pub use model::Place;
pub use needs::{contributing, needed_runtimes, needed_tools};
pub use services::FoundService;

use crate::buildpacks::Buildpacks;
use config::{AppConfig, Effective};
use model::error::{ConfigError, SurveyError};
use model::{AppBuild, Claim, Finding, Pages, ProcessType};
use model::{BuildpackOptions, Error, Result, Service, SettingRule, names};
use serde::Serialize;
use source::{LeftOut, Notable, Revision, Source, SourceTree};
use std::collections::BTreeMap;

/// Everything that is concluded about a source.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Survey {
    /// The app's name.
    pub name: String,
    /// Where the name comes from; `None` if it is the folder's.
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
    /// The base, and where it comes from; `None` if it is the default.
    pub base: (String, Option<Place>),
    /// What every buildpack concludes, in order.
    pub findings: Vec<Finding>,
    /// The buildpacks that build, the main one first.
    pub chosen: Vec<String>,
    /// The command that makes files of the app.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build: Option<AppBuild>,
    /// Pages that the build makes and the image serves, without the app's own files.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pages: Option<Pages>,
    /// How the app is run.
    pub processes: Vec<ProcessType>,
    /// Services that it declares.
    pub services: BTreeMap<String, Service>,
    /// Services that it seems to need.
    pub found_services: Vec<FoundService>,
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

    /// Whether the app is compiled by its language's own program.
    pub(crate) fn needs_compiler(&self) -> bool {
        let mut wishes = self.chosen_findings().filter_map(|finding| finding.runtime.as_ref());
        wishes.any(|wish| wish.for_build)
    }
}

/// Surveys what was taken in; `called` is the app's name when its configuration does not say.
pub fn survey(
    called: &str,
    source: &Source,
    effective: &Effective,
    observed: Observed,
    buildpacks: &Buildpacks,
) -> Result<Survey> {
    let config = &effective.config;
    let name = match &config.name {
        Some(name) => name.clone(),
        // A folder may be called anything.
        None => names::valid(called).unwrap_or_else(|| called.to_owned()),
    };
    names::check("app", &name)?;
    check_buildpack_names(config, buildpacks)?;
    let mut findings = Vec::new();
    // Only who knows the member of a workspace can say what it is.
    let nothing = SourceTree::new(source.tree.root().to_owned(), BTreeMap::new());
    for buildpack in buildpacks.iter() {
        let knows = source.tree.member().is_none() || !buildpack.members(&source.tree)?.is_empty();
        let tree = if knows { &source.tree } else { &nothing };
        findings.push(buildpack.survey(tree, &options_of(config, buildpack.name()))?);
    }
    let mut chosen =
        choose(&findings, config).map_err(|error| unrecognised::with_hints(error, source, buildpacks))?;
    let mut reads = observed.reads;
    for finding in findings.iter().filter(|finding| chosen.contains(&finding.buildpack)) {
        for (name, place) in &finding.secrets {
            reads.entry(name.clone()).or_insert_with(|| ReadSetting::secret(place.clone()));
        }
    }
    let build = building::build(&findings, &chosen, effective, source.tree.member());
    let pages = building::serve_pages(&mut findings, &mut chosen, effective, build.as_ref(), buildpacks);
    let main = findings.iter().find(|f| Some(&f.buildpack) == chosen.first());
    let additions: Vec<&Finding> = findings
        .iter()
        .filter(|f| f.claim == Claim::Addition && chosen.iter().skip(1).any(|name| *name == f.buildpack))
        .collect();
    let mut processes =
        processes::merge((main, &additions), effective, source.tree.member().unwrap_or_default())?;
    for buildpack in chosen.iter().filter_map(|name| buildpacks.named(name)) {
        processes.iter_mut().for_each(|process| buildpack.keep_within_memory(process));
    }
    let base = match (&config.base, main.and_then(|main| main.static_binary.as_ref())) {
        (Some(base), _) => (base.clone(), effective.place("base.from")),
        (None, Some(program)) => ("empty".to_owned(), Some(program.clone())),
        (None, None) => default_base::of(main, buildpacks),
    };
    if !base.0.starts_with("debian:") {
        for wish in findings.iter_mut().filter_map(|finding| finding.runtime.as_mut()) {
            wish.runtime = wish.elsewhere.map_or_else(|| wish.runtime.clone(), str::to_owned);
        }
    }
    let are_chosen = findings.iter().filter(|finding| chosen.contains(&finding.buildpack));
    let found_services = services::found(are_chosen, &reads);
    Ok(Survey {
        name_said: effective.place("name"),
        name,
        files: source.tree.files().len(),
        size: source.tree.size(),
        revision: observed.revision,
        left_out: source.left_out.clone(),
        notable: source.notable.clone(),
        base,
        findings,
        chosen,
        build,
        pages,
        processes,
        services: config.services.clone(),
        found_services,
        settings: services::settings(config),
        reads,
        samples: samples::find(&source.tree)?,
    })
}

/// The options of one buildpack.
pub(crate) fn options_of(config: &AppConfig, buildpack: &str) -> BuildpackOptions {
    config.buildpacks.get(buildpack).cloned().unwrap_or_default()
}

fn check_buildpack_names(config: &AppConfig, buildpacks: &Buildpacks) -> Result<()> {
    let known: Vec<String> = buildpacks.iter().map(|b| b.name().to_owned()).collect();
    let named = config.order.iter().flatten().chain(&config.forbid);
    for name in named {
        if !known.contains(name) {
            return Err(Error::Config(ConfigError::UnknownBuildpack { name: name.clone(), known }));
        }
    }
    Ok(())
}

/// Configuration decides; without it, exactly one claim to the whole must stand. Buildpacks that claim
/// a part come after the main one.
fn choose(findings: &[Finding], config: &AppConfig) -> Result<Vec<String>> {
    if let Some(order) = &config.order
        && !order.is_empty()
    {
        let find =
            |name: &String| findings.iter().find(|f| f.buildpack == *name).map(|f| f.buildpack.clone());
        return Ok(order.iter().filter_map(find).collect());
    }
    let allowed = |f: &&Finding| !config.forbid.contains(&f.buildpack);
    let claiming = |claim: Claim| findings.iter().filter(move |f| f.claim == claim).filter(allowed);
    let (wholes, parts): (Vec<_>, Vec<_>) =
        (claiming(Claim::Whole).collect(), claiming(Claim::Part).collect());
    // Of parts, the one that runs something is the app; else the one whose build makes pages.
    let with = |has: fn(&Finding) -> bool| -> Vec<&Finding> {
        parts.iter().copied().filter(|part| has(part)).collect()
    };
    let candidates = [
        wholes,
        with(|part| part.pages.is_some()),
        with(|part| part.processes.iter().any(|process| process.name == "web")),
        parts.clone(),
    ];
    let main = candidates.into_iter().find(|some| !some.is_empty()).unwrap_or_default();
    match &main[..] {
        [one] => {
            // What only serves pages is no part of an app that runs.
            let counts = |part: &&&Finding| part.runtime.as_ref().is_none_or(|wish| wish.for_app);
            let others = parts.iter().filter(|p| p.buildpack != one.buildpack).filter(counts);
            let all = std::iter::once(one).chain(others).copied().chain(claiming(Claim::Addition));
            Ok(all.map(|f| f.buildpack.clone()).collect())
        }
        // What is built already needs no language, only its command.
        [] if config.processes.values().any(|process| process.run.is_some()) => Ok(Vec::new()),
        [] => Err(Error::Survey(SurveyError::Unrecognised {
            inside: Vec::new(),
            programs: Vec::new(),
            code: None,
            looked_for: findings
                .iter()
                .map(|f| (f.buildpack.clone(), f.looked_for.iter().map(|l| l.to_string()).collect()))
                .collect(),
        })),
        several => Err(Error::Survey(SurveyError::Ambiguous {
            claims: several
                .iter()
                .map(|f| (f.buildpack.clone(), f.first_place().into_iter().collect()))
                .collect(),
        })),
    }
}
