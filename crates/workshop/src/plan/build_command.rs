//! The step that runs the command that the configuration gives under `[build]`.

use content::layer::LayerWriter;
use engine::program_step::{CACHE, Cache, Job, RECIPE, SOURCE, copy_source};
use engine::{Action, Fingerprint, Recipe, StepContext, collect, program_step};
use globset::{Glob, GlobSet, GlobSetBuilder};
use model::error::StepError;
use model::shell_words::join;
use model::{BuildCommand, Error, PackageFact, Result};
use source::SourceTree;
use std::sync::Arc;

/// The name of the step.
pub(super) const STEP: &str = "build command";
/// The folder of the app, from the root of the image.
const APP: &str = "app";
/// Folders in `node_modules` in which tools keep what makes them faster.
const CACHES: [&str; 4] = [".cache/", ".vite/", ".vite-temp/", ".tmp/"];

/// The step's work.
pub(super) struct BuildWork {
    command: BuildCommand,
    tree: Arc<SourceTree>,
    path: Vec<String>,
    package_folders: Vec<String>,
}

impl BuildWork {
    /// `path` are folders in front of the usual ones where programs are; `package_folders` are those in
    /// the app that the root has packages in.
    pub(super) fn of(
        command: &BuildCommand,
        tree: &Arc<SourceTree>,
        path: Vec<String>,
        package_folders: Vec<String>,
    ) -> Self {
        Self { command: command.clone(), tree: Arc::clone(tree), path, package_folders }
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

/// Whether a file is what a tool keeps beside the packages to be faster the next time.
fn is_cached(path: &str) -> bool {
    let inside = path.rsplit_once("node_modules/").map(|(_, inside)| inside);
    inside.is_some_and(|inside| CACHES.iter().any(|cache| inside.starts_with(cache)))
}

impl Action for BuildWork {
    fn fingerprint(&self) -> Fingerprint {
        let Self { command, tree: _, path, package_folders } = self;
        // The packages of tools are in the root.
        let BuildCommand { run, tools: _, keep } = command;
        let values = [
            ("run", join(run)),
            ("keep", join(keep)),
            ("path", join(path)),
            ("packages", join(package_folders)),
        ];
        Fingerprint::of(Recipe::new("build command", 3)).with_recipe(RECIPE).values("command", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let env = vec![
            ("HOME", "/tmp".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", [&self.path[..], &["/usr/bin".to_owned(), "/bin".to_owned()]].concat().join(":")),
            ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
            ("XDG_CACHE_HOME", CACHE.to_owned()),
        ];
        let argv = self.command.run.clone();
        let job = Job {
            step: STEP,
            shown: join(&argv),
            argv,
            env,
            folder: SOURCE,
            fill: &|to| copy_source(&self.tree, to),
            packages: &self.package_folders,
            cache: Cache::Kept,
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
        collect::put(layer, &written.source, &kept)?;
        Ok(Vec::new())
    }
}
