//! The step that runs the command that the configuration gives under `[build]`.

use content::layer::LayerWriter;
use engine::program_step::{CACHE, Cache, Job, RECIPE, SOURCE, copy_source};
use engine::{Action, Fingerprint, Recipe, StepContext, collect, program_step};
use globset::{Glob, GlobSet, GlobSetBuilder};
use model::error::StepError;
use model::shell_words::{SHELL, expanded, for_shell, join, variables};
use model::{AppBuild, BuildCommand, Error, PackageFact, Result};
use planning::BUILD_COMMAND;
use source::SourceTree;
use std::sync::Arc;

/// The folder of the app, from the root of the image.
const APP: &str = "app";
/// How many files an error names.
const MOST_SHOWN: usize = 8;
/// Folders in `node_modules` in which tools keep what makes them faster.
const CACHES: [&str; 4] = [".cache/", ".vite/", ".vite-temp/", ".tmp/"];

/// The step's work.
pub(super) struct BuildWork {
    command: BuildCommand,
    tree: Arc<SourceTree>,
    finds: Finds,
    /// The line that people know the command by.
    shown: String,
    /// The folder that it runs in, from the root of the source.
    folder: String,
    /// Files that must be there afterwards.
    expected: Vec<Expected>,
}

/// What the languages of the app have for the command.
#[derive(Default)]
pub(super) struct Finds {
    /// Folders in front of the usual ones where programs are.
    pub(super) path: Vec<String>,
    /// The folders of the app that the root has packages in.
    pub(super) package_folders: Vec<String>,
    /// Variables that it is run with.
    pub(super) env: Vec<(&'static str, String)>,
}

/// A file that a build has to make: one of these paths.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Expected(pub(super) Vec<String>);

impl BuildWork {
    pub(super) fn of(plan: &AppBuild, tree: &Arc<SourceTree>, finds: Finds, expected: Vec<Expected>) -> Self {
        let AppBuild { command, shown, folder, said: _ } = plan;
        Self {
            command: command.clone(),
            tree: Arc::clone(tree),
            finds,
            shown: shown.clone(),
            folder: folder.clone(),
            expected,
        }
    }

    /// The patterns of files that are kept; without any, all that is new.
    fn kept(&self) -> GlobSet {
        let mut set = GlobSetBuilder::new();
        for pattern in &self.command.keep {
            // They were checked when the configuration was read.
            let _ = Glob::new(pattern).map(|glob| set.add(glob));
        }
        set.build().unwrap_or_default()
    }
}

/// The words that are run: a shell puts in the values of variables.
fn argv_of(run: &[String]) -> Vec<String> {
    match variables(run).next() {
        Some(_) => vec![SHELL.to_owned(), "-c".to_owned(), format!("exec {}", for_shell(run))],
        None => expanded(run, |_| None).unwrap_or_else(|_| run.to_vec()),
    }
}

/// Whether a file is what a tool keeps beside the packages to be faster the next time.
fn is_cached(path: &str) -> bool {
    let inside = path.rsplit_once("node_modules/").map(|(_, inside)| inside);
    inside.is_some_and(|inside| CACHES.iter().any(|cache| inside.starts_with(cache)))
}

impl Action for BuildWork {
    fn fingerprint(&self) -> Fingerprint {
        let Self { command, tree: _, finds, shown: _, folder, expected } = self;
        let Finds { path, package_folders, env } = finds;
        let expected: Vec<String> = expected.iter().flat_map(|file| file.0.iter().cloned()).collect();
        // The packages of tools are in the root.
        // What is fetched is the step's, and in its key.
        let BuildCommand { run, tools: _, keep, fetch } = command;
        let values = [
            ("run", join(run)),
            ("keep", join(keep)),
            ("path", join(path)),
            ("packages", join(package_folders)),
            ("expected", join(&expected)),
        ];
        let whole = Fingerprint::of(Recipe::new("build command", 4)).with_recipe(RECIPE);
        let whole = whole.values("command", values);
        let env: Vec<String> = env.iter().map(|(name, value)| format!("{name}={value}")).collect();
        let whole = if env.is_empty() { whole } else { whole.values("environment", [("set", join(&env))]) };
        let found: Vec<String> = gateway::tools::environment(fetch)
            .iter()
            .map(|(name, value)| format!("{name}={value}"))
            .collect();
        let fetches = [("kinds", join(fetch)), ("environment", join(&found))];
        let whole = if fetch.is_empty() { whole } else { whole.values("fetch", fetches) };
        // Few apps are members of a workspace.
        if folder.is_empty() { whole } else { whole.values("member", [("folder", folder.clone())]) }
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let mut env = vec![
            ("HOME", "/tmp".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", [&self.finds.path[..], &["/usr/bin".to_owned(), "/bin".to_owned()]].concat().join(":")),
            ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
            ("XDG_CACHE_HOME", CACHE.to_owned()),
        ];
        env.extend(self.finds.env.iter().cloned());
        env.extend(gateway::tools::environment(&self.command.fetch));
        if self.command.fetch.is_empty() {
            // What would ask a registry fails at once, in place of waiting for a network.
            env.push(("npm_config_offline", "true".to_owned()));
            env.push(("PIP_NO_INDEX", "1".to_owned()));
        }
        let argv = argv_of(&self.command.run);
        let job = Job {
            step: BUILD_COMMAND,
            shown: self.shown.clone(),
            argv,
            env,
            folder: SOURCE,
            starts_in: &self.folder,
            fill: &|to| copy_source(&self.tree, to),
            packages: &self.finds.package_folders,
            // What is in a cache is not asked for, and would not be recorded.
            cache: if self.command.fetch.is_empty() { Cache::Kept } else { Cache::Empty },
        };
        let written = program_step::run(&job, layer.store(), cx)?;
        let all = collect::files(&written.source)?;
        let patterns = self.kept();
        let is_kept = |path: &&String| match patterns.is_empty() {
            true => !self.tree.has(path),
            false => patterns.is_match(path),
        };
        let kept: Vec<_> = all
            .iter()
            .filter(|path| !is_cached(path))
            .filter(is_kept)
            .map(|path| (path.as_str(), format!("{APP}/{path}")))
            .collect();
        if kept.is_empty() {
            return Err(Error::Step(StepError::NothingMade { keep: self.command.keep.clone() }));
        }
        let is_there = |path: &String| all.contains(path) || self.tree.has(path);
        if let Some(Expected(paths)) = self.expected.iter().find(|file| !file.0.iter().any(is_there)) {
            let made = kept.iter().map(|(path, _)| (*path).to_owned()).take(MOST_SHOWN).collect();
            let wanted = paths.first().cloned().unwrap_or_default();
            return Err(Error::Step(StepError::NotMade { wanted, made }));
        }
        collect::put(layer, &written.source, &kept)?;
        Ok(Vec::new())
    }
}
