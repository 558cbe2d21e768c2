//! Ruby: gems as `Gemfile.lock` has them, or resolved; installed in the form that Bundler expects.
//!
//! | module | owns |
//! | --- | --- |
//! | `gemfile`, `gemfile_words` | the Gemfile, as far as it can be read without running it |
//! | `lock`, `stale` | `Gemfile.lock`, and whether it is for the Gemfile as it is |
//! | `version`, `resolve` | versions and requirements; which versions to take without a lockfile |
//! | `platforms` | what RubyGems calls them |
//! | `gem_file`, `specification` | the file of a gem, and what it says of itself |
//! | `settled` | which gems an image needs, with their hashes |
//! | `install`, `compile`, `git_gems` | the steps that write them |
//! | `system_packages` | what gems need of the distribution |
//! | `assets` | files of the app that its framework makes |
#![forbid(unsafe_code)]

mod assets;
mod compile;
mod environment;
#[cfg(fuzzing)]
pub mod fuzzing;
mod gem_file;
mod gemfile;
mod gemfile_words;
mod git_gems;
mod install;
mod lock;
mod platforms;
mod resolve;
mod settled;
mod specification;
mod stale;
mod system_packages;
mod version;

use environment::Environment;
use gemfile::Gemfile;
use lock::{Lock, SourceKind};
use model::{
    BuildpackOptions, Claim, Ecosystem, Evidence, Finding, LockFound, OptionSpec, Place, Problem, Result,
    RuntimeWish, Takes, configured_constraint,
};
use planning::{Buildpack, Context, Contribution, Resolution, Resolving, by_name, first_present, frameworks};
use settled::{Gem, Needed};
use source::SourceTree;
use std::collections::BTreeSet;

const MANIFEST: &str = "Gemfile";
const LOCKFILE: &str = "Gemfile.lock";
/// Where gems are when they are with the app.
const INSTALLED: &str = "vendor/bundle/";
const VERSION_FILE: &str = ".ruby-version";

/// Groups of the Gemfile that images do without.
const WITHOUT: &str = "without";
/// What the programs that compile gems are told.
const COMPILE_FLAGS: &str = "compile-flags";

/// The buildpack.
pub struct Ruby;

impl Buildpack for Ruby {
    fn name(&self) -> &str {
        "ruby"
    }

    fn about(&self) -> &str {
        "Ruby: gems, from Gemfile.lock or resolved"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![
            OptionSpec::VERSION,
            OptionSpec::new(
                WITHOUT,
                Takes::Texts,
                "Gemfile groups to leave out of images; by default development and test",
            ),
            OptionSpec::new(
                COMPILE_FLAGS,
                Takes::Texts,
                "Flags for compiling gems, each after the gem's name, for example \"mysql2 --with-ldflags=-s\"",
            ),
        ]
    }

    fn ecosystems(&self) -> Vec<Ecosystem> {
        vec![Ecosystem::GEM]
    }

    fn lockfiles(&self) -> Vec<&'static str> {
        vec![LOCKFILE]
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let mut finding = Finding::nothing(self.name(), vec![MANIFEST, "config.ru"]);
        let Some(seen) = first_present(tree, &[MANIFEST, "config.ru"]) else { return Ok(finding) };
        finding.claim = Claim::Whole;
        finding.evidence.push(Evidence::speaks_for(Place::new(seen, None), "present", "an app for Ruby"));
        let gemfile = Gemfile::parse(&tree.read(MANIFEST)?.unwrap_or_default());
        let lock = tree.read(LOCKFILE)?.map(|text| Lock::parse(&text)).transpose()?;
        let said = said_versions(tree, &gemfile, lock.as_ref())?;
        for (version, place) in &said {
            finding.evidence.push(Evidence::speaks_for(place.clone(), version, "supported Ruby versions"));
        }
        finding.runtime = Some(RuntimeWish::of("ruby", configured_constraint(options), said));
        let without = settled::without(options);
        finding.declared = gemfile.needed(&without);
        finding.development = gemfile.left_out(&without);
        if let Some(lock) = &lock {
            // What a condition asks for is known only from the lockfile.
            for gem in gemfile.gems.iter().filter(|gem| !gemfile.is_certain(gem)) {
                if !lock.asked.contains_key(&gem.name) {
                    finding.declared.remove(&gem.name);
                }
            }
            told_of_lock(lock, &without, &mut finding);
            finding.problems = specifications_that_ask_git(tree, lock)?;
        }
        let mut packages = finding.declared.clone();
        packages.extend(finding.locked.iter().cloned());
        let known = frameworks::apply(frameworks::RUBY, tree, &packages, &Place::new(seen, None), ".rb")?;
        finding.evidence.extend(known.evidence);
        finding.processes = known.processes;
        for process in &mut finding.processes {
            process.writable.extend(assets::writable(&packages));
        }
        system_packages::add(&packages, &mut finding);
        finding.build = assets::build(tree, &packages);
        finding.secrets = assets::secrets(tree, &packages);
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        planning::loosely_accepts(constraint, version)
    }

    fn resolve(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        match is_installed(context.tree) {
            true => Ok(Resolution::default()),
            false => settled::settle(context, resolving),
        }
    }

    fn resolve_for_build(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        self.resolve(context, resolving)
    }

    fn contribute(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let environment = Environment::of(context.runtime()?);
        let (gems, without) = (gems_of(resolution), settled::without(context.options));
        let mut contribution = Contribution {
            path: environment.path(),
            // Without it Ruby takes texts for ASCII.
            env: vec![("LANG", "C.UTF-8".to_owned())],
            ..Contribution::default()
        };
        contribution.path.push(context.runtime()?.bin_folder.clone());
        if is_installed(context.tree) {
            contribution.env.extend([
                ("BUNDLE_DEPLOYMENT", "1".to_owned()),
                ("BUNDLE_PATH", "/app/vendor/bundle".to_owned()),
                ("BUNDLE_WITHOUT", without.join(":")),
            ]);
        } else if context.tree.has(MANIFEST) {
            contribution.env.extend(environment.variables(&without));
        }
        let mut names = context.finding.locked.clone();
        names.extend(gems.iter().map(|gem| gem.name.clone()));
        contribution.env.extend(assets::variables(&names));
        let (compiled, plain): (Vec<Gem>, Vec<Gem>) = gems.iter().cloned().partition(Gem::is_compiled);
        contribution.steps = install::steps(plain, &environment);
        if let Some(Needed { lockfile: Some(text), .. }) = resolution.settled::<Needed>() {
            contribution.steps.push(lockfile_step(text));
        }
        contribution.compiling = compile_steps(&compiled, gems, context, &environment);
        contribution.compiling.extend(repository_steps(resolution, &environment));
        contribution.packages = by_name("gem", gems.iter().map(named));
        Ok(contribution)
    }

    fn contribute_for_build(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let environment = Environment::of(context.runtime()?);
        let gems = gems_of(resolution);
        let (compiled, plain): (Vec<Gem>, Vec<Gem>) = gems.iter().cloned().partition(Gem::is_compiled);
        let mut steps = install::steps(plain, &environment);
        for step in &mut steps {
            step.name = format!("{} to build the app", step.name);
        }
        Ok(Contribution {
            path: environment.path(),
            env: environment.variables(&settled::without(context.options)),
            steps,
            compiling: compile_steps(&compiled, gems, context, &environment)
                .into_iter()
                .chain(repository_steps(resolution, &environment))
                .collect(),
            ..Contribution::default()
        })
    }
}

/// Name and version of a gem, and the names that it needs.
fn named(gem: &Gem) -> (&str, &str, Vec<&str>) {
    (&gem.name, &gem.version, gem.needs.iter().map(String::as_str).collect())
}

/// Whether gems are with the app.
fn is_installed(tree: &SourceTree) -> bool {
    tree.files().keys().any(|file| file.starts_with(INSTALLED))
}

fn gems_of(resolution: &Resolution) -> &[Gem] {
    resolution.settled::<Needed>().map(|needed| &needed.gems[..]).unwrap_or_default()
}

fn repository_steps(resolution: &Resolution, environment: &Environment) -> Vec<engine::Step> {
    let repositories =
        resolution.settled::<Needed>().map(|needed| &needed.repositories[..]).unwrap_or_default();
    repositories.iter().map(|repository| repository.step(environment)).collect()
}

fn compile_steps(
    compiled: &[Gem],
    all: &[Gem],
    context: &Context<'_>,
    environment: &Environment,
) -> Vec<engine::Step> {
    let flags = |gem: &Gem| {
        let texts = context.options.texts(COMPILE_FLAGS).iter();
        let own = texts.filter_map(|text| text.split_once(' ')).filter(|(name, _)| *name == gem.name);
        own.flat_map(|(_, flags)| flags.split_whitespace().map(str::to_owned)).collect()
    };
    compiled.iter().map(|gem| compile::step(gem, all, flags(gem), environment)).collect()
}

/// Puts the lockfile into the image that the source does not have: Bundler does not start without.
fn lockfile_step(text: &str) -> engine::Step {
    let file = engine::support_files::SupportFile {
        path: "app/Gemfile.lock",
        text: text.to_owned(),
        executable: false,
    };
    engine::support_files::step(LOCKFILE, vec![file])
}

/// What the lockfile says of the image.
fn told_of_lock(lock: &Lock, without: &[String], finding: &mut Finding) {
    let names: BTreeSet<&str> = lock.specs().map(|(_, spec)| spec.name.as_str()).collect();
    let left_out = &finding.development;
    finding.locked = lock.reached(lock.asked.keys().filter(|name| !left_out.contains(*name)).cloned());
    let development = names.len().saturating_sub(finding.locked.len());
    let counts = match development {
        0 => format!("{} gems", names.len()),
        some => format!("{} gems, {some} of them only in {}", names.len(), without.join(", ")),
    };
    finding.evidence.push(Evidence::speaks_for(Place::new(LOCKFILE, None), counts, "exact versions"));
    finding.lock = Some(LockFound { file: LOCKFILE.to_owned(), packages: names.len(), development });
}

/// Specifications of the app's own gems that ask git for their files: they are read at every start, and images have no git.
fn specifications_that_ask_git(tree: &SourceTree, lock: &Lock) -> Result<Vec<Problem>> {
    let mut problems = Vec::new();
    for source in lock.sources.iter().filter(|source| source.kind == SourceKind::Folder) {
        let folder =
            source.remotes.first().map_or("", |remote| remote.trim_start_matches("./").trim_matches('/'));
        for spec in &source.specs {
            let file = match folder {
                "" | "." => format!("{}.gemspec", spec.name),
                folder => format!("{folder}/{}.gemspec", spec.name),
            };
            let Some(text) = tree.read_text(&file)? else { continue };
            let asks = text
                .lines()
                .position(|line| line.contains("git ls-files") && !line.trim_start().starts_with('#'));
            problems.extend(asks.map(|line| Problem {
                code: "git-in-gemspec".to_owned(),
                place: Place::new(file, u32::try_from(line + 1).ok()),
                says: format!(
                    "the specification of {} runs git at every start, but images do not contain git",
                    spec.name
                ),
                advice: "list the files without it: spec.files = Dir[\"lib/**/*\"]".to_owned(),
                breaks: true,
            }));
        }
    }
    Ok(problems)
}

/// What Gemfile, version file and lock say of the version.
fn said_versions(tree: &SourceTree, gemfile: &Gemfile, lock: Option<&Lock>) -> Result<Vec<(String, Place)>> {
    let mut said = Vec::new();
    if let Some((version, line)) = &gemfile.ruby {
        said.push((version.clone(), Place::new(MANIFEST, Some(*line))));
    }
    if let Some(text) = tree.read(VERSION_FILE)? {
        let version = text.trim().trim_start_matches("ruby-").to_owned();
        said.push((version, Place::new(VERSION_FILE, Some(1))));
    }
    said.extend(planning::tool_version(tree, &["ruby"])?);
    if let Some((version, line)) = lock.and_then(|lock| lock.ruby.clone()) {
        said.push((version, Place::new(LOCKFILE, Some(line))));
    }
    Ok(said)
}
