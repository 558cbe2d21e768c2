//! From survey and lockfiles to the worklist.

mod app_files;
mod build_command;
mod entrypoints;
mod fetching;
mod resolutions;

pub use entrypoints::PORT_VARIABLE;
pub use resolutions::Resolutions;

use crate::base_selection::NewPins;
use crate::buildpacks::Buildpacks;
use crate::plan::app_files::AppFiles;
use crate::plan::build_command::{BuildWork, Expected, Finds};
use crate::survey::{Survey, contributing, options_of};
use config::AppConfig;
use config::addresses::Addresses;
use content::layer::Codec;
use content::{InputDigest, TreeDigest};
use engine::{BuildSteps, Input, LayerTarget, Step};
use model::RuntimeInUse;
use model::error::{BaseError, SurveyError};
use model::pins::Composition;
use model::platform::own_platform;
use model::{AppBuild, BuildpackOptions, Error, Finding, ProcessType, Result, Role, RuntimeWish, in_folder};
use planning::{APP_FILES, BUILD_COMMAND, Base, Context, PlannedPackages, Provided, Resolution};
use sandbox::AppLimits;
use source::{SourceTree, TreeDigests};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Everything that a build will do.
pub struct Worklist {
    /// The steps; their layers go from the bottom of the image to its top in this order.
    pub steps: Vec<Step>,
    /// Digest of the app's own files.
    pub source: TreeDigest,
    /// The app's own files, as an input of steps.
    pub source_input: Input,
    /// What the image's layers are written for.
    pub target: LayerTarget,
    /// What the layers of roots are written for: this machine.
    pub root_target: LayerTarget,
    /// The runtimes.
    pub runtimes: Vec<RuntimeInUse>,
    /// What steps run, in versions; it is in no image.
    pub tools: Vec<RuntimeInUse>,
    /// How the base was composed, where it consists of packages of a distribution.
    pub composition: Option<Composition>,
    /// Environment that the base gives every process.
    pub base_env: BTreeMap<String, String>,
    /// Environment of every process.
    pub env: BTreeMap<String, String>,
    /// What the image of each process type starts.
    pub entrypoints: BTreeMap<String, Vec<String>>,
    /// The packages of languages, as far as they are known before anything is built.
    pub packages: PlannedPackages,
    /// Folders of the app that processes write to.
    pub writable: BTreeSet<String>,
    /// Patterns of files that only the build reads.
    pub leave_out: Vec<String>,
    /// Whether the app's own files are in the image.
    pub packs_source: bool,
    /// What the app allows its steps.
    pub limits: AppLimits,
    /// Things that people should know.
    pub notes: Vec<String>,
    /// Pins to be written when the build begins.
    pub new_pins: Option<NewPins>,
}

/// What a plan is made from.
pub struct Sources<'a> {
    /// What was concluded about the source.
    pub survey: &'a Survey,
    /// Its files.
    pub tree: &'a Arc<SourceTree>,
    /// Its configuration.
    pub config: &'a AppConfig,
    /// Where packages come from.
    pub addresses: &'a Addresses,
    /// The effective buildpacks.
    pub buildpacks: &'a Buildpacks,
}

impl Sources<'_> {
    fn options(&self, buildpack: &str) -> BuildpackOptions {
        options_of(self.config, buildpack)
    }
}

/// Plans the build of a surveyed source, but for the packing of its files ([`Worklist::pack`]): a pure function of
/// what was settled before.
pub fn plan(
    sources: &Sources<'_>,
    base: &dyn Base,
    resolutions: &Resolutions,
    target: LayerTarget,
) -> Result<Worklist> {
    let Sources { survey, config, .. } = *sources;
    if survey.processes.is_empty() {
        return Err(Error::Survey(SurveyError::NoProcess { language: survey.chosen.join(" and ") }));
    }
    let mut list = Worklist {
        steps: Vec::new(),
        source: TreeDigest::of(b""),
        source_input: Input::of_parts("source", BTreeMap::new()),
        target,
        root_target: LayerTarget { codec: Codec::default(), platform: own_platform() },
        runtimes: Vec::new(),
        tools: Vec::new(),
        composition: base.composition(),
        base_env: base.env(),
        env: BTreeMap::new(),
        entrypoints: entrypoints::of(survey, base.has_shell())?,
        packages: PlannedPackages::new(),
        writable: survey.processes.iter().flat_map(|process| process.writable.iter().cloned()).collect(),
        // Of an app that only makes pages, these are all that is served.
        packs_source: survey.pages.is_none(),
        leave_out: config
            .leave_out
            .iter()
            .map(|pattern| in_folder(sources.tree.member().unwrap_or_default(), pattern))
            .collect(),
        limits: config.step_limits,
        notes: Vec::new(),
        new_pins: None,
    };
    list.notes.extend(source_notes(survey));
    let mut path = Vec::new();
    for finding in contributing(survey, config) {
        let resolution = resolutions.image.get(&finding.buildpack);
        let Some(resolution) = resolution else { continue };
        path.extend(contribute(&mut list, (finding, resolution), sources, base)?);
    }
    if let Some(build) = &survey.build {
        let step = build_step(&mut list, build, resolutions, sources, base)?;
        list.steps.push(step);
    }
    for tool in resolutions.tools() {
        list.add_tool(base.tool(tool)?);
    }
    list.notes.extend(resolutions.notes().cloned());
    let (below, notes) = base.below()?;
    list.notes.extend(notes);
    // What holds for the image and for what builds it, is told once.
    let mut told = BTreeSet::new();
    list.notes.retain(|note| told.insert(note.clone()));
    list.steps.extend(below);
    list.steps.sort_by_key(|s| s.role);
    let mut env = base.env();
    let usual = env.remove("PATH").unwrap_or_else(|| "/usr/local/bin:/usr/bin:/bin".to_owned());
    path.extend(usual.split(':').map(str::to_owned));
    let mut seen = BTreeSet::new();
    path.retain(|folder| seen.insert(folder.clone()));
    env.append(&mut list.env);
    list.env = env;
    list.env.insert("PATH".to_owned(), path.join(":"));
    list.env.insert("HOME".to_owned(), format!("/{}", model::places::APP_HOME));
    Ok(list)
}

/// Adds what a finding's buildpack contributes; gives the folders that it wants in front of the path.
fn contribute(
    list: &mut Worklist,
    (finding, resolution): (&Finding, &Resolution),
    sources: &Sources<'_>,
    base: &dyn Base,
) -> Result<Vec<String>> {
    let Some(buildpack) = sources.buildpacks.named(&finding.buildpack) else { return Ok(Vec::new()) };
    let runtime = resolutions::runtime_of(sources, finding, base)?;
    let options = sources.options(&finding.buildpack);
    let platform = list.target.platform.clone();
    let context = context_of(sources, finding, &platform, (&options, runtime.as_ref()), base);
    let mut contribution = buildpack.contribute(&context, resolution)?;
    match (&finding.runtime, runtime) {
        (Some(wish), Some(runtime)) if wish.for_build => {
            for step in &mut contribution.steps {
                let own = std::mem::take(&mut step.root);
                step.root = base.build_root()?;
                step.root.extend(own);
                step.reads_source = true;
            }
            list.add_tool(contribution.tool.take().unwrap_or(runtime));
        }
        (Some(wish), Some(runtime)) if !list.runtimes.contains(&runtime) => {
            let Provided { runtime, steps, notes } = base.runtime(&wish.runtime)?;
            list.notes.extend(notes);
            list.steps.extend(steps);
            list.runtimes.push(runtime);
        }
        _ => {}
    }
    if let Some(tool) = contribution.tool.take() {
        list.add_tool(tool);
    }
    list.leave_out.append(&mut contribution.leave_out);
    list.steps.extend(contribution.steps);
    for step in contribution.compiling {
        list.steps.push(in_build_root(step, base)?);
    }
    list.packages.append(&mut contribution.packages);
    list.env.extend(contribution.env.into_iter().map(|(k, v)| (k.to_owned(), v)));
    Ok(contribution.path)
}

/// What a buildpack has to go by.
fn context_of<'a>(
    sources: &Sources<'a>,
    finding: &'a Finding,
    platform: &'a str,
    (options, runtime): (&'a BuildpackOptions, Option<&'a RuntimeInUse>),
    base: &'a dyn Base,
) -> Context<'a> {
    Context {
        finding,
        tree: sources.tree,
        options,
        addresses: sources.addresses,
        platform,
        build_command: sources.survey.build.as_ref().map(|build| &build.command),
        commit: sources.survey.revision.as_ref().map(|revision| revision.commit.as_str()),
        runtime,
        base,
    }
}

/// The step that runs the app's own build command.
fn build_step(
    list: &mut Worklist,
    build: &AppBuild,
    resolutions: &Resolutions,
    sources: &Sources<'_>,
    base: &dyn Base,
) -> Result<Step> {
    let mut root = base.build_root()?;
    let mut finds = Finds::default();
    for name in &build.command.tools {
        let tool = base.tool(name)?;
        if let Some(resolution) = resolutions.build.get(name) {
            let found = found_by_build(list, (&tool, resolution), sources, base, &mut root)?;
            finds.path.extend(found.path);
            finds.package_folders.extend(found.package_folders);
            finds.env.extend(found.env);
        }
        list.add_tool(tool);
    }
    let expected = expected_files(sources.survey, sources.tree);
    let work = BuildWork::of(build, sources.tree, finds, expected);
    root.extend(fetching::settings(&build.command.fetch));
    let step = Step::new(BUILD_COMMAND, Role::Built, work).in_root(root);
    Ok(Step { reads_source: true, for_any_platform: true, fetches: resolutions.fetches.clone(), ..step })
}

/// Files that the image needs and the source does not have: the build has to make them.
fn expected_files(survey: &Survey, tree: &SourceTree) -> Vec<Expected> {
    const ENDINGS: [&str; 5] = ["", ".js", ".mjs", ".cjs", "/index.js"];
    if let Some(pages) = &survey.pages {
        return vec![Expected(vec![format!("{}/index.html", pages.folder)])];
    }
    let script = |process: &ProcessType| {
        let [program, file, ..] = &process.command[..] else { return None };
        let is_plain = !file.starts_with(['-', '/']) && !file.contains('$');
        let file = process.path_of(file);
        let candidates: Vec<String> = ENDINGS.iter().map(|ending| format!("{file}{ending}")).collect();
        let is_open = program == "node" && is_plain && !candidates.iter().any(|path| tree.has(path));
        is_open.then_some(Expected(candidates))
    };
    survey.processes.iter().filter_map(script).collect()
}

/// What a language of the app, of which `tool` is the runtime, has for the app's own build command, in `root`.
fn found_by_build(
    list: &Worklist,
    (tool, resolution): (&RuntimeInUse, &Resolution),
    sources: &Sources<'_>,
    base: &dyn Base,
    root: &mut Vec<Step>,
) -> Result<Finds> {
    let finding = sources.survey.chosen_findings().find(|finding| finding.buildpack == tool.name);
    let (Some(finding), Some(buildpack)) = (finding, sources.buildpacks.named(&tool.name)) else {
        return Ok(Finds::default());
    };
    let options = sources.options(&tool.name);
    let context = context_of(sources, finding, &list.target.platform, (&options, Some(tool)), base);
    let found = buildpack.contribute_for_build(&context, resolution)?;
    let mut path = found.path;
    let (own_runtime, home) = base.runtime_for_build(&tool.name);
    if !own_runtime.is_empty() {
        path.push(format!("{home}/bin"));
    }
    root.extend(own_runtime);
    root.extend(found.steps);
    for step in found.compiling {
        root.push(in_build_root(step, base)?);
    }
    Ok(Finds { path, package_folders: found.package_folders, env: found.env })
}

/// The step that compiles something, on the root that things are built in.
fn in_build_root(mut step: Step, base: &dyn Base) -> Result<Step> {
    let mut root = base.build_root()?;
    root.append(&mut step.root);
    Ok(step.in_root(root))
}

/// What people should know of the source that is packed.
fn source_notes(survey: &Survey) -> Vec<String> {
    let changed = survey.revision.iter().filter(|r| !r.uncommitted.is_empty()).map(|r| {
        let (number, first) = (r.uncommitted.len(), &r.uncommitted[0]);
        let rest = if number == 1 { String::new() } else { format!(" and {} more", number - 1) };
        format!("uncommitted changes, packed as they are: {first}{rest}")
    });
    let notable = survey.notable.iter().map(|n| format!("{} is packed: {}", n.path, n.what.told()));
    changed.chain(notable).collect()
}

fn check_constraint(
    buildpack: &dyn planning::Buildpack,
    wish: &RuntimeWish,
    found: &RuntimeInUse,
) -> Result<()> {
    let Some((constraint, place)) = &wish.constraint else { return Ok(()) };
    match buildpack.accepts(constraint, &found.version) {
        Some(true) => Ok(()),
        Some(false) => Err(Error::Base(BaseError::RuntimeMismatch {
            runtime: wish.runtime.clone(),
            found: found.version.clone(),
            origin: found.origin.clone(),
            wanted: constraint.clone(),
            place: place.clone(),
        })),
        None => Err(Error::Survey(SurveyError::Malformed {
            place: place.clone(),
            detail: format!("{constraint:?} is not a version constraint of {}", wish.runtime),
        })),
    }
}

impl Worklist {
    fn add_tool(&mut self, tool: RuntimeInUse) {
        if !self.tools.contains(&tool) {
            self.tools.push(tool);
        }
    }

    /// Adds the packing of the app's own files.
    pub fn pack(&mut self, tree: &Arc<SourceTree>, digests: &TreeDigests) {
        let part = |(path, digest): (&String, &InputDigest)| (path.clone(), digest.to_string());
        self.source = digests.tree();
        self.source_input = Input::of_parts("source", digests.0.iter().map(part).collect());
        if self.packs_source {
            let step = Step::new(
                APP_FILES,
                Role::App,
                AppFiles {
                    tree: Arc::clone(tree),
                    writable: self.writable.clone(),
                    leave_out: self.leave_out.clone(),
                },
            );
            self.steps.push(Step { reads_source: true, ..step });
            self.steps.sort_by_key(|step| step.role);
        }
    }

    /// Whether a step, or one of its root, has to find out what its programs fetch.
    pub fn records(&self) -> bool {
        fn records(step: &Step) -> bool {
            step.fetches.as_ref().is_some_and(|fetches| fetches.records) || step.root.iter().any(records)
        }
        self.steps.iter().any(records)
    }

    /// The steps, as the engine takes them.
    pub fn build_steps<'s>(&'s self, app: &'s str) -> BuildSteps<'s> {
        let Self { steps, target, root_target, source_input, limits, .. } = self;
        BuildSteps { app, limits: *limits, steps, image: target, root: root_target, source: source_input }
    }
}
