//! Python: packages from lockfiles, from requirements with hashes, or resolved; installed as wheels into a
//! virtual environment (PEP 405).
//!
//! ```text
//! lock/ (one reader per kind) ─► locked: a graph with conditions ─► settled ─► install, compile, bytecode: steps
//! requirements, pyproject.toml ─► resolve over index ┘
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | `lock`, `locked` | lockfiles, and the one form that they end in |
//! | `stale` | whether a lockfile stands for what its manifest asks for |
//! | `generators` | generators of static pages |
//! | `imports` | what code imports, and which packages have it |
//! | `starts` | how an app is started, where no framework's table says it |
//! | `need`, `requirements`, `index_options` | what an app asks for, and where packages may come from |
//! | `index`, `resolve` | what indexes offer, and versions that no file locks |
//! | `target` | interpreter, platform and C library: which markers and wheels fit |
//! | `file_names`, `wheel`, `sdist`, `direct` | wheels, source archives, folders and commits |
//! | `settled` | what the app needs, with a hash for each package |
//! | `install`, `environment`, `app_package` | the virtual environment, and the app itself in it |
//! | `compile`, `bytecode` | wheels that have to be built, and modules compiled ahead |
#![forbid(unsafe_code)]

mod app_package;
mod bytecode;
mod compile;
mod direct;
mod environment;
mod file_names;
#[cfg(fuzzing)]
pub mod fuzzing;
mod generators;
pub mod imports;
mod index;
mod index_options;
mod install;
mod lock;
mod locked;
mod need;
mod requirements;
mod resolve;
mod sdist;
mod settled;
mod stale;
mod starts;
mod target;
mod wheel;

use model::Sign;
use model::error::SurveyError;
use model::platform::own_platform;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, LockFound, Place, Result, RuntimeWish,
    configured_constraint,
};
use model::{Ecosystem, OptionSpec, Takes};
use pep440_rs::{Version, VersionSpecifiers};
use planning::{Buildpack, Context, Contribution, Resolution, Resolving, first_present, frameworks};
use requirements::Asked;
use settled::Settled;
use source::SourceTree;
use starts::{ENTRY_FILES, SERVED_FILES, by_settings, own_command, served_file, web_process};
use std::collections::BTreeSet;
use std::str::FromStr;
use target::Target;

const REQUIREMENTS: &str = "requirements.txt";
const PROJECT: &str = "pyproject.toml";
const VERSION_FILE: &str = ".python-version";
/// The version that is taken for granted before one is chosen.
const USUAL: &str = "3.13";
/// Extras of the app itself.
const EXTRAS: OptionSpec =
    OptionSpec::new("extras", Takes::AddedTexts, "Extras of the app whose packages to install");
/// Groups of packages.
const GROUPS: OptionSpec = OptionSpec::new(
    "groups",
    Takes::AddedTexts,
    "Dependency groups to install besides the app's own dependencies",
);
/// Files with requirements.
const REQUIREMENT_FILES: OptionSpec = OptionSpec::new(
    "requirements",
    Takes::Texts,
    "Files in requirements.txt form that list the app's packages",
);
/// Bytecode.
const BYTECODE: OptionSpec = OptionSpec::new(
    "bytecode",
    Takes::Truth,
    "Whether to compile packages to bytecode, for a faster first start",
);
/// What pipenv reads.
const PIPFILE: &str = "Pipfile";

/// The buildpack.
pub struct Python;

impl Buildpack for Python {
    fn name(&self) -> &str {
        "python"
    }

    fn about(&self) -> &str {
        "Python: wheels and source archives, from lockfiles or resolved"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![OptionSpec::VERSION, EXTRAS, GROUPS, REQUIREMENT_FILES, BYTECODE]
    }

    fn ecosystems(&self) -> Vec<Ecosystem> {
        vec![Ecosystem::PYPI]
    }

    fn lockfiles(&self) -> Vec<&'static str> {
        lock::names().collect()
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let looked_for = vec![REQUIREMENTS, PROJECT, PIPFILE, "setup.py", "manage.py", "app.py", "main.py"];
        let mut finding = Finding::nothing(self.name(), looked_for);
        let configured =
            options.texts(&REQUIREMENT_FILES.key).first().map(String::as_str).filter(|file| tree.has(file));
        let manifest = configured.or(first_present(tree, &[REQUIREMENTS, PROJECT, PIPFILE, "setup.py"]));
        let others = [&["manage.py"], &ENTRY_FILES[..], &SERVED_FILES, &generators::FILES].concat();
        let Some(seen) = manifest.or(first_present(tree, &others)) else {
            return Ok(finding);
        };
        finding.claim = Claim::Whole;
        finding.evidence.push(Evidence::speaks_for(Place::new(seen, None), "present", "an app for Python"));
        let said = said_constraints(tree)?;
        for (range, place) in &said {
            finding.evidence.push(Evidence::speaks_for(place.clone(), range, "supported Python versions"));
        }
        let mut wish = RuntimeWish::of("python", configured_constraint(options), said);
        let requirements = tree.read(REQUIREMENTS)?.unwrap_or_default();
        if let Some((version, line)) = compiled_for(&requirements) {
            let place = Place::new(REQUIREMENTS, Some(line));
            let tells = "the version of Python that the requirements were locked for";
            finding.evidence.push(Evidence::speaks_for(place.clone(), version, tells));
            // Others may do as well: it only counts where there is a choice.
            wish.also_said.push((version.to_owned(), place));
        }
        finding.runtime = Some(wish);
        let packages = survey_packages(tree, options, &mut finding)?;
        finding.declared.clone_from(&packages);
        let mut packages = packages;
        if tree.has("manage.py") {
            // The file is the framework's own, whether it is declared or not.
            packages.insert("django".to_owned());
        }
        let known = frameworks::apply(frameworks::PYTHON, tree, &packages, &Place::new(seen, None), ".py")?;
        let Finding { evidence, own_commands, .. } = &mut finding;
        let script = web_process(tree, evidence)?.or(own_command(tree, evidence, own_commands)?);
        finding.evidence.extend(known.evidence);
        finding.processes = known.processes;
        let has_web = |finding: &Finding| finding.processes.iter().any(|p| p.name == "web");
        if !has_web(&finding) && packages.contains("pyramid") {
            let known: BTreeSet<_> = finding.processes.iter().map(|p| p.name.clone()).collect();
            let found = by_settings(tree, &packages, &mut finding.evidence)?;
            finding.processes.extend(found.into_iter().filter(|process| !known.contains(&process.name)));
        }
        if !has_web(&finding) {
            finding.processes.extend(served_file(tree, &packages, &mut finding.evidence)?);
        }
        if !has_web(&finding) {
            finding.processes.extend(script);
        }
        if !has_web(&finding) {
            generators::survey(tree, &mut finding)?;
        }
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        let version = Version::from_str(version).ok()?;
        // "3.11" alone means any patch of it.
        let plain = constraint.chars().all(|c| c.is_ascii_digit() || c == '.');
        let text = if plain { format!("=={constraint}.*") } else { constraint.to_owned() };
        let text =
            if plain && constraint.matches('.').count() >= 2 { format!("=={constraint}") } else { text };
        Some(VersionSpecifiers::from_str(&text).ok()?.contains(&version))
    }

    fn resolve(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        settled::settle(context, resolving)
    }

    fn resolve_for_build(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        settled::settle(context, resolving)
    }

    fn contribute_for_build(&self, _context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let Some(settled) = resolution.settled::<Settled>() else { return Ok(Contribution::default()) };
        let Settled { environment, wheels, builds, .. } = settled;
        let mut steps = install::steps(wheels.clone(), environment);
        for step in &mut steps {
            step.name = format!("{} to build the app", step.name);
        }
        Ok(Contribution {
            path: vec![format!("/{}/bin", environment::OF_APP)],
            steps,
            compiling: builds.iter().map(|build| build.step(environment)).collect(),
            ..Contribution::default()
        })
    }

    fn contribute(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let mut contribution = Contribution {
            path: vec![context.runtime()?.bin_folder.clone()],
            env: vec![("PYTHONUNBUFFERED", "1".to_owned()), ("PYTHONDONTWRITEBYTECODE", "1".to_owned())],
            ..Contribution::default()
        };
        let Some(settled) = resolution.settled::<Settled>() else { return Ok(contribution) };
        let Settled { environment, wheels, builds, own, planned, has_bytecode } = settled;
        contribution.packages.clone_from(planned);
        contribution.path.insert(0, format!("/{}/bin", environment::OF_APP));
        contribution.steps = install::steps(wheels.clone(), environment);
        contribution.steps.extend(own.clone().map(|own| own.step(environment)));
        if *has_bytecode {
            let packages = install::steps(wheels.clone(), environment);
            contribution.compiling.push(bytecode::step(packages, environment));
        }
        contribution.compiling.extend(builds.iter().map(|build| build.step(environment)));
        Ok(contribution)
    }
}

/// What the app asks for, and the file that says so.
fn asked(tree: &SourceTree, options: &BuildpackOptions) -> Result<Option<(String, Asked)>> {
    let files = options.texts(&REQUIREMENT_FILES.key);
    if let [first, ..] = files {
        let asked = Asked::of_files(tree, files, model::files::CONFIG)?;
        return Ok(Some((first.clone(), asked)));
    }
    if tree.has(REQUIREMENTS) {
        let asked = Asked::of_files(tree, &[REQUIREMENTS.to_owned()], REQUIREMENTS)?;
        return Ok(Some((REQUIREMENTS.to_owned(), asked)));
    }
    if let Some(project) = tree.read(PROJECT)? {
        return Ok(Some((PROJECT.to_owned(), Asked::of_project(&project, options)?)));
    }
    if let Some(asked) = Asked::of_pipfile(tree)? {
        return Ok(Some((PIPFILE.to_owned(), asked)));
    }
    match tree.read("setup.py")? {
        Some(script) => {
            let needs = sdist::needs_of_setup(&script, &tree.read("setup.cfg")?.unwrap_or_default());
            let place = Place::find("setup.py", &script, "install_requires");
            Ok(Some(("setup.py".to_owned(), Asked::of_needs(&needs, &place)?)))
        }
        None => Ok(None),
    }
}

/// The versions of Python that the source asks for, and where.
fn said_constraints(tree: &SourceTree) -> Result<Vec<(String, Place)>> {
    let mut said = Vec::new();
    if let Some(text) = tree.read(VERSION_FILE)? {
        let version = text.lines().map(str::trim).find(|l| !l.is_empty() && !l.starts_with('#'));
        said.extend(version.map(|v| (v.to_owned(), Place::find(VERSION_FILE, &text, v))));
    }
    said.extend(planning::tool_version(tree, &["python"])?);
    if let Some(text) = tree.read(PROJECT)? {
        let key = "requires-python";
        let project = parse_project(&text)?;
        let value = project.get("project").and_then(|p| p.get(key)).and_then(|v| v.as_str());
        said.extend(value.map(|v| (v.to_owned(), Place::find(PROJECT, &text, key))));
    }
    Ok(said)
}

/// The version of Python that a tool locked these requirements for, as its first lines say.
fn compiled_for(text: &str) -> Option<(&str, u32)> {
    const SAYINGS: [&str; 3] = ["pip-compile with Python ", "--python-version ", "--python-version="];
    let head = text.lines().take_while(|line| line.starts_with('#'));
    head.zip(1..).find_map(|(line, number)| {
        let after = SAYINGS.iter().find_map(|saying| line.split_once(saying))?.1;
        let version = after.split(|c: char| !(c.is_ascii_digit() || c == '.')).next()?.trim_end_matches('.');
        // The patch does not matter to what is locked.
        let end = version.match_indices('.').nth(1).map_or(version.len(), |(at, _)| at);
        version.contains('.').then_some((&version[..end], number))
    })
}

/// The names of the declared packages. Adds the lockfile to the finding, or why it cannot be used.
fn survey_packages(
    tree: &SourceTree,
    options: &BuildpackOptions,
    finding: &mut Finding,
) -> Result<BTreeSet<String>> {
    let mut names = BTreeSet::new();
    match asked(tree, options) {
        Ok(Some((_, asked))) => names.extend(asked.names().chain(asked.servers())),
        Ok(None) => {}
        // What this machine cannot read says nothing of the app.
        Err(error @ Error::Source(_)) => return Err(error),
        Err(error) => {
            let place = match &error {
                Error::Survey(SurveyError::Unsupported { place, .. })
                | Error::Survey(SurveyError::Malformed { place, .. }) => place.clone(),
                _ => Place::new(REQUIREMENTS, None),
            };
            let refused = Evidence::against(place, error.to_string(), "a build will refuse it");
            finding.evidence.push(refused.as_sign(Sign::Refused));
        }
    }
    if let (true, Some(project)) = (tree.has(REQUIREMENTS), tree.read(PROJECT)?) {
        names.extend(Asked::of_project(&project, options)?.names());
    }
    // Which version it will be is not known yet; what is locked hardly depends on it.
    let target = Target::new(USUAL, &own_platform(), None)?;
    let locked = match lock::present(tree) {
        Some(kind) => Some((kind.file.to_owned(), stale::locked(kind, tree, options, &target))),
        None => match asked(tree, options) {
            Ok(Some((file, asked))) => asked.pinned(&target).transpose().map(|packages| (file, packages)),
            Err(error @ Error::Source(_)) => return Err(error),
            // It was told above.
            Ok(None) | Err(_) => None,
        },
    };
    match locked {
        Some((file, Ok(locked))) => {
            let (packages, place) = (locked.len(), Place::new(file.as_str(), None));
            let counts = format!("{packages} packages");
            finding.evidence.push(Evidence::speaks_for(place, counts, "exact versions"));
            finding.lock = Some(LockFound { file, packages, development: 0 });
            names.extend(locked.into_iter().map(|package| package.name));
        }
        Some((_, Err(error @ Error::Source(_)))) => return Err(error),
        Some((file, Err(error))) => {
            let place = Place::new(file, None);
            let refused = Evidence::against(place, error.to_string(), "a build will refuse it");
            finding.evidence.push(refused.as_sign(Sign::Refused));
        }
        None => tell_unlocked(tree, options, finding),
    }
    Ok(names)
}

/// What is asked for without exact versions: the build finds them out.
fn tell_unlocked(tree: &SourceTree, options: &BuildpackOptions, finding: &mut Finding) {
    // Why it cannot be read was told before.
    let Ok(Some((file, asked))) = asked(tree, options) else { return };
    let count = asked.names().count();
    if count > 0 {
        let counts = format!("{count} {}", if count == 1 { "requirement" } else { "requirements" });
        let tells = "no exact versions: a build resolves them and pins them in shtetl.lock";
        finding.evidence.push(Evidence::speaks_for(Place::new(file, None), counts, tells));
    }
}

fn parse_project(text: &str) -> Result<toml::Table> {
    text.parse().map_err(|e: toml::de::Error| {
        Error::Survey(SurveyError::Malformed {
            place: Place::new(PROJECT, None),
            detail: e.message().to_owned(),
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn constraints_are_read_as_their_files_mean_them() {
        for (constraint, version, expected) in [
            ("3.11", "3.11.7", Some(true)),
            ("3.11", "3.12.0", Some(false)),
            ("3.11.7", "3.11.7", Some(true)),
            (">=3.9,<3.12", "3.11.2", Some(true)),
            ("~=3.10", "3.9.1", Some(false)),
            ("newest", "3.11.2", None),
        ] {
            assert_eq!(Python.accepts(constraint, version), expected, "{constraint} and {version}");
        }
    }
}
