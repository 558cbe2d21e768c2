//! Python: pinned and hashed requirements, installed as wheels into a virtual environment (PEP 405).

mod install;
mod requirements;
mod wheel;

use super::{Buildpack, Context, Contribution, frameworks};
use crate::config::BuildpackOptions;
use crate::error::{BuildError, Place, Result};
use crate::source::SourceTree;
use crate::survey::{
    Claim, Evidence, Finding, LockFound, ProcessKind, ProcessType, RuntimeWish, configured_constraint,
    first_present,
};
use crate::worklist::{Role, Step};
use install::PythonPackages;
use pep440_rs::{Version, VersionSpecifiers};
use requirements::Requirements;
use std::collections::BTreeSet;
use std::str::FromStr;

const REQUIREMENTS: &str = "requirements.txt";
const PROJECT: &str = "pyproject.toml";
const VERSION_FILE: &str = ".python-version";
/// Files that start an app when nothing says how.
const ENTRY_FILES: [&str; 2] = ["app.py", "main.py"];

/// The buildpack.
pub struct Python;

impl Buildpack for Python {
    fn name(&self) -> &'static str {
        "python"
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let looked_for = vec![REQUIREMENTS, PROJECT, "manage.py", "app.py", "main.py"];
        let mut finding = Finding::nothing(self.name(), looked_for);
        let manifest = first_present(tree, &[REQUIREMENTS, PROJECT]);
        let Some(seen) =
            manifest.or(first_present(tree, &["manage.py"])).or(first_present(tree, &ENTRY_FILES))
        else {
            return Ok(finding);
        };
        finding.claim = Claim::Whole;
        finding.evidence.push(Evidence::speaks_for(Place::new(seen, None), "present", "an app for Python"));
        let said = said_constraints(tree)?;
        for (range, place) in &said {
            finding.evidence.push(Evidence::speaks_for(
                place.clone(),
                range,
                "versions of Python that will do",
            ));
        }
        finding.runtime = Some(RuntimeWish::of("python", configured_constraint(options), said));
        let packages = survey_packages(tree, &mut finding)?;
        finding.declared.clone_from(&packages);
        let mut packages = packages;
        if tree.has("manage.py") {
            // The file is the framework's own, whether it is declared or not.
            packages.insert("django".to_owned());
        }
        let known = frameworks::apply(frameworks::PYTHON, tree, &packages, &Place::new(seen, None), ".py")?;
        let script = web_process(tree, &mut finding.evidence)?;
        finding.evidence.extend(known.evidence);
        finding.processes = known.processes;
        if !finding.processes.iter().any(|p| p.name == "web") {
            finding.processes.extend(script);
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

    fn contribute(&self, context: &Context<'_>) -> Result<Contribution> {
        let mut contribution = Contribution {
            path: vec![context.runtime.bin_folder.clone()],
            env: vec![("PYTHONUNBUFFERED", "1".to_owned()), ("PYTHONDONTWRITEBYTECODE", "1".to_owned())],
            ..Contribution::default()
        };
        let Some(text) = context.tree.read(REQUIREMENTS)? else {
            return match context.tree.read(PROJECT)? {
                Some(project) if declares_dependencies(&project) => Err(BuildError::NotLocked {
                    manifest: PROJECT.to_owned(),
                    lockfile: REQUIREMENTS,
                    how: "write the exact versions with their hashes to requirements.txt and commit it",
                }),
                _ => Ok(contribution),
            };
        };
        let requirements = Requirements::parse(REQUIREMENTS, &text)?;
        if requirements.packages.is_empty() {
            return Ok(contribution);
        }
        let named = requirements.index.map(|index| remote::Address::parse(&index, context.tree.root()));
        let addresses = context.addresses.clone();
        let work = PythonPackages::new(requirements.packages, named, addresses, context.runtime);
        contribution.path.insert(0, format!("/{}/bin", install::ENVIRONMENT));
        contribution.steps.push(Step::new("python packages", Role::Dependencies, work.inputs(), work));
        Ok(contribution)
    }
}

/// The versions of Python that the source asks for, and where.
fn said_constraints(tree: &SourceTree) -> Result<Vec<(String, Place)>> {
    let mut said = Vec::new();
    if let Some(text) = tree.read(VERSION_FILE)? {
        let version = text.lines().map(str::trim).find(|l| !l.is_empty() && !l.starts_with('#'));
        said.extend(version.map(|v| (v.to_owned(), Place::find(VERSION_FILE, &text, v))));
    }
    if let Some(text) = tree.read(PROJECT)? {
        let key = "requires-python";
        let project = parse_project(&text)?;
        let value = project.get("project").and_then(|p| p.get(key)).and_then(|v| v.as_str());
        said.extend(value.map(|v| (v.to_owned(), Place::find(PROJECT, &text, key))));
    }
    Ok(said)
}

/// The names of the declared packages; tells of the lock, too, or why it cannot be used.
fn survey_packages(tree: &SourceTree, finding: &mut Finding) -> Result<BTreeSet<String>> {
    let mut names = BTreeSet::new();
    if let Some(text) = tree.read(REQUIREMENTS)? {
        names.extend(requirements::names(&text));
        let place = Place::new(REQUIREMENTS, None);
        match Requirements::parse(REQUIREMENTS, &text) {
            Ok(locked) => {
                let packages = locked.packages.len();
                finding.evidence.push(Evidence::speaks_for(
                    place,
                    format!("{packages} packages"),
                    "exact versions",
                ));
                finding.lock = Some(LockFound { file: REQUIREMENTS.to_owned(), packages, development: 0 });
            }
            Err(BuildError::Unsupported { place, what, .. }) => {
                finding.evidence.push(Evidence::against(place, what, "a build will refuse it"));
            }
            Err(error) => {
                finding.evidence.push(Evidence::against(place, error.to_string(), "a build will refuse it"))
            }
        }
    }
    if let Some(text) = tree.read(PROJECT)? {
        let project = parse_project(&text)?;
        let declared = project.get("project").and_then(|p| p.get("dependencies")).and_then(|d| d.as_array());
        names.extend(declared.into_iter().flatten().filter_map(|d| requirements::name(d.as_str()?)));
    }
    Ok(names)
}

fn parse_project(text: &str) -> Result<toml::Table> {
    text.parse().map_err(|e: toml::de::Error| BuildError::Malformed {
        place: Place::new(PROJECT, None),
        detail: e.message().to_owned(),
    })
}

fn declares_dependencies(project: &str) -> bool {
    let dependencies =
        parse_project(project).ok().and_then(|p| p.get("project")?.get("dependencies").cloned());
    dependencies.is_some_and(|d| d.as_array().is_some_and(|a| !a.is_empty()))
}

/// A script with a telling name that runs when it is executed.
fn web_process(tree: &SourceTree, evidence: &mut Vec<Evidence>) -> Result<Option<ProcessType>> {
    for file in ENTRY_FILES {
        let Some(text) = tree.read(file)? else { continue };
        let Some(line) = text.lines().find(|l| l.starts_with("if __name__ ==")) else { continue };
        let said = Place::find(file, &text, line);
        evidence.push(Evidence::speaks_for(said.clone(), line.trim(), "a script that starts the app"));
        let command = ["python", file];
        return Ok(Some(ProcessType::found("web", ProcessKind::Process, &command, said)));
    }
    Ok(None)
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
