//! Gems from repositories: the files of a commit, where Bundler looks for them, with specifications that need no git.

use crate::environment::Environment;
use content::layer::LayerWriter;
use engine::program_step::{self, Cache, Job, SOURCE, copy_folder};
use engine::{Action, Fingerprint, Recipe, Step, StepContext, collect};
use model::package_url::purl;
use model::{PackageFact, Result, Role};
use planning::compile_step;
use remote::Downloads;
use std::path::Path;

const RECIPE: Recipe = Recipe::new("gems of a repository", 1);
/// Writes the specifications.
const SCRIPT: &str = include_str!("load_specifications.rb");
/// So much of a commit's name is in that of its folder.
const SHORT: usize = 12;

/// A commit with gems in it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Repository {
    pub(super) url: String,
    pub(super) revision: String,
    /// The gems that are needed, each with its version.
    pub(super) gems: Vec<(String, String)>,
}

impl Repository {
    /// The name of its folder, as Bundler has it.
    fn folder(&self) -> String {
        let base = self.url.trim_end_matches('/').rsplit(['/', ':']).next().unwrap_or_default();
        format!("{}-{}", base.trim_end_matches(".git"), &self.revision[..SHORT.min(self.revision.len())])
    }

    /// The step that writes it.
    pub(super) fn step(&self, environment: &Environment) -> Step {
        let name = self.gems.first().map_or("", |(name, _)| name.as_str());
        let work = GitGems { repository: self.clone(), environment: environment.clone() };
        Step::new(compile_step(name), Role::Dependencies, work).compiling(name)
    }
}

struct GitGems {
    repository: Repository,
    environment: Environment,
}

impl Action for GitGems {
    fn fingerprint(&self) -> Fingerprint {
        let Self { repository: Repository { url, revision, gems }, environment } = self;
        let values = [
            ("url", url.clone()),
            ("revision", revision.clone()),
            ("interface", environment.interface.clone()),
            ("script", SCRIPT.to_owned()),
        ];
        Fingerprint::of(RECIPE)
            .with_recipe(program_step::RECIPE)
            .values("repository", values)
            .input("gems", gems.iter().cloned().collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let Repository { url, revision, gems } = &self.repository;
        let downloads = Downloads { fetcher: cx.fetcher, store: layer.store() };
        let files = source::checked_out(url, revision, downloads)?;
        let mut argv = ["ruby", "-e", SCRIPT].map(str::to_owned).to_vec();
        argv.extend(gems.iter().map(|(name, _)| name.clone()));
        let job = Job {
            step: cx.step,
            shown: "the gem's own specification".to_owned(),
            argv,
            env: vec![
                ("HOME", "/tmp".to_owned()),
                ("LANG", "C.UTF-8".to_owned()),
                ("PATH", "/usr/bin:/bin".to_owned()),
                ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
            ],
            folder: SOURCE,
            starts_in: "",
            fill: &|to: &Path| copy_folder(&files, to),
            packages: &[],
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, layer.store(), cx)?;
        let folder = format!("{}/bundler/gems/{}", self.environment.home(), self.repository.folder());
        let all = collect::files(&written.source)?;
        let kept: Vec<_> = all.iter().map(|path| (path.as_str(), format!("{folder}/{path}"))).collect();
        collect::put(layer, &written.source, &kept)?;
        let origin = format!("git+{url}@{revision}");
        let fact = |(name, version): &(String, String)| PackageFact {
            name: name.clone(),
            version: version.clone(),
            purl: purl("gem", name, version, &[("vcs_url", &origin)]),
            licence: None,
            integrity: origin.clone(),
            layer: None,
            source: None,
            needs: Vec::new(),
            patched: Vec::new(),
        };
        Ok(gems.iter().map(fact).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_are_called_as_bundler_calls_them() {
        let revision = "0123456789abcdef0123456789abcdef01234567";
        for url in ["https://forge.example/ferry/horn.git", "git@forge.example:ferry/horn.git", "/srv/horn/"]
        {
            let repository =
                Repository { url: url.to_owned(), revision: revision.to_owned(), gems: Vec::new() };
            assert_eq!(repository.folder(), "horn-0123456789ab");
        }
    }
}
