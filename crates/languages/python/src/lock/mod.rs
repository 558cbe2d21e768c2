//! Lockfiles of Python: one reader a kind, all of which give the same graph.

mod pdm;
mod pipfile;
mod poetry;
mod pylock;
mod uv;

use crate::locked::{Edge, LockGraph, LockedPackage, Missing, Origin};
use crate::target::Target;
use crate::{EXTRAS, GROUPS, need};
use model::error::{PackageError, SurveyError};
use model::{BuildpackOptions, Error, Place, Result};
use pep508_rs::{ExtraName, MarkerTree};
use remote::packages::pypi;
use source::SourceTree;
use std::collections::{BTreeSet, VecDeque};
use std::str::FromStr;

/// A kind of lockfile.
pub(super) struct Kind {
    pub(super) file: &'static str,
    /// How it is regenerated.
    pub(super) how: &'static str,
    /// Reads it, for an app that says this of itself.
    read: fn(&str, &App<'_>) -> Result<LockGraph, Fault>,
}

/// What an app says of itself.
#[derive(Default)]
pub(super) struct App<'a> {
    /// The text of `pyproject.toml`.
    project: Option<&'a str>,
    /// Extras of the app, and groups of packages, that are wanted.
    extras: &'a [String],
    groups: &'a [String],
}

/// A fault of a file: the line (from 1), where it is known, and what is wrong.
pub(super) type Fault = (Option<usize>, String);

/// Every kind, the strongest first.
const KINDS: [Kind; 5] = [
    Kind { file: "pylock.toml", how: "lock again and commit the result", read: pylock::read },
    Kind { file: "uv.lock", how: "run `uv lock` and commit the result", read: uv::read },
    Kind { file: "poetry.lock", how: "run `poetry lock` and commit the result", read: poetry::read },
    Kind { file: "pdm.lock", how: "run `pdm lock` and commit the result", read: pdm::read },
    Kind { file: "Pipfile.lock", how: "run `pipenv lock` and commit the result", read: pipfile::read },
];

/// The names of all lockfiles, the strongest first.
pub(super) fn names() -> impl Iterator<Item = &'static str> {
    KINDS.iter().map(|kind| kind.file)
}

/// The lockfile that the source has, if any.
pub(super) fn present(tree: &SourceTree) -> Option<&'static Kind> {
    KINDS.iter().find(|kind| tree.has(kind.file))
}

impl Kind {
    /// The packages that the file locks for `target`.
    pub(super) fn packages(
        &self,
        tree: &SourceTree,
        options: &BuildpackOptions,
        target: &Target,
    ) -> Result<Vec<LockedPackage>> {
        let text = tree.read(self.file)?.unwrap_or_default();
        let project = tree.read("pyproject.toml")?;
        let app = App {
            project: project.as_deref(),
            extras: options.texts(&EXTRAS.key),
            groups: options.texts(&GROUPS.key),
        };
        let graph = (self.read)(&text, &app).map_err(|(line, detail)| {
            Error::Survey(SurveyError::Malformed {
                place: Place::new(self.file, line.and_then(|l| u32::try_from(l).ok())),
                detail,
            })
        })?;
        graph.select(target).map_err(|missing| {
            let detail = match missing {
                Missing::Package { name, wanted_by } if wanted_by.is_empty() => {
                    format!("{name} is required but not locked")
                }
                Missing::Package { name, wanted_by } => {
                    format!("{wanted_by} needs {name}, which is not locked")
                }
                Missing::Hash(label) => format!("{label} has no hash"),
            };
            Error::Package(PackageError::LockMismatch {
                lockfile: self.file.to_owned(),
                detail,
                how: self.how,
            })
        })
    }
}

/// Where a package comes from that says a place of its own, else the index that it names.
fn origin(elsewhere: Option<&str>, index: Option<&str>) -> Result<Origin, Fault> {
    match elsewhere {
        Some(place) => Origin::of_text(place, "").map_err(|detail| (None, detail)),
        None => Ok(Origin::Index(index.map(str::to_owned))),
    }
}

/// The document of a TOML file.
fn table(text: &str) -> Result<toml::Table, Fault> {
    text.parse::<toml::Table>().map_err(|e| {
        let line = e.span().and_then(|span| Some(text.get(..span.start)?.matches('\n').count() + 1));
        (line, e.message().to_owned())
    })
}

/// The tables of an array.
fn tables<'t>(of: &'t toml::Table, key: &str) -> impl Iterator<Item = &'t toml::Table> {
    of.get(key).and_then(|v| v.as_array()).into_iter().flatten().filter_map(|v| v.as_table())
}

/// The text under a key.
fn text<'t>(of: &'t toml::Table, key: &str) -> Option<&'t str> {
    of.get(key).and_then(|v| v.as_str())
}

/// The texts of an array.
fn texts<'t>(of: &'t toml::Table, key: &str) -> impl Iterator<Item = &'t str> {
    of.get(key).and_then(|v| v.as_array()).into_iter().flatten().filter_map(|v| v.as_str())
}

/// A marker; one that cannot be read is a fault.
fn marker(text: Option<&str>) -> Result<MarkerTree, Fault> {
    match text {
        None | Some("") => Ok(MarkerTree::TRUE),
        Some(text) => {
            MarkerTree::from_str(text).map_err(|e| (None, format!("the marker {text:?}: {}", e.message)))
        }
    }
}

fn extras<'t>(names: impl Iterator<Item = &'t str>) -> Vec<ExtraName> {
    names.filter_map(|name| ExtraName::from_str(name).ok()).collect()
}

/// The need of a PEP 508 requirement.
fn edge(requirement: &str) -> Result<Edge, Fault> {
    let parsed = need::parse(requirement)
        .map_err(|message| (None, format!("the requirement {requirement:?}: {message}")))?;
    Ok(Edge {
        name: pypi::canonical_name(parsed.name.as_ref()),
        extras: parsed.extras,
        marker: parsed.marker,
        version: None,
    })
}

/// What the app needs to run, by `pyproject.toml`: `[project] dependencies`, and what is chosen besides.
fn project_needs(app: &App<'_>) -> Result<Vec<Edge>, Fault> {
    let Some(project) = app.project else { return Ok(Vec::new()) };
    let document = table(project)?;
    wanted(&document, app.extras, app.groups).iter().map(|need| edge(need)).collect()
}

/// The requirements of a project (PEP 621), of those of its extras, and of those groups (PEP 735). What it
/// requires of itself are further extras.
pub(super) fn wanted(document: &toml::Table, extras: &[String], groups: &[String]) -> Vec<String> {
    let nothing = toml::Table::new();
    let own = document.get("project").and_then(|p| p.as_table()).unwrap_or(&nothing);
    let optional = own.get("optional-dependencies").and_then(|o| o.as_table()).unwrap_or(&nothing);
    let known = document.get("dependency-groups").and_then(|g| g.as_table()).unwrap_or(&nothing);
    let name = text(own, "name").map(pypi::canonical_name);
    let mut all: Vec<String> = texts(own, "dependencies").map(str::to_owned).collect();
    all.extend(reached(extras, |extra| {
        let mut further = Vec::new();
        let mut needs: Vec<String> = under(optional, extra).map(listed).unwrap_or_default();
        needs.retain(|need| match edge(need) {
            Ok(edge) if Some(&edge.name) == name.as_ref() => {
                further.extend(edge.extras.iter().map(ToString::to_string));
                false
            }
            _ => true,
        });
        (needs, further)
    }));
    all.extend(reached(groups, |group| {
        let included = under(known, group).and_then(|v| v.as_array()).into_iter().flatten();
        let included = included.filter_map(|v| v.get("include-group")?.as_str().map(str::to_owned));
        (under(known, group).map(listed).unwrap_or_default(), included.collect())
    }));
    all
}

/// The value whose key means `name`: keys may be written in several ways.
fn under<'t>(table: &'t toml::Table, name: &str) -> Option<&'t toml::Value> {
    let canonical = pypi::canonical_name(name);
    table.iter().find(|(key, _)| pypi::canonical_name(key) == canonical).map(|(_, value)| value)
}

/// The texts of an array.
fn listed(value: &toml::Value) -> Vec<String> {
    value.as_array().into_iter().flatten().filter_map(|v| v.as_str().map(str::to_owned)).collect()
}

/// What is needed by everything that `first` leads to; `of` gives what a name needs, and the names that it leads to.
fn reached(first: &[String], mut of: impl FnMut(&str) -> (Vec<String>, Vec<String>)) -> Vec<String> {
    let mut done = BTreeSet::new();
    let mut pending: VecDeque<String> = first.iter().cloned().collect();
    let mut all = Vec::new();
    while let Some(name) = pending.pop_front() {
        if done.insert(pypi::canonical_name(&name)) {
            let (needs, further) = of(&name);
            all.extend(needs);
            pending.extend(further);
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    const PROJECT: &str = "[project]\nname = \"fares\"\ndependencies = [\"Fog[loud]>=1\"]\n";

    const PYLOCK: &str = r#"lock-version = "1.0"
        packages = [
          { name = "fog", version = "1.4", wheels = [{ url = "https://files.example/fog-1.4-py3-none-any.whl", hashes = { sha256 = "aa" } }] },
          { name = "horn", version = "3.1", sdist = { hashes = { sha256 = "bb" } } },
          { name = "colours", version = "1.0", marker = "sys_platform == 'win32'", sdist = { hashes = { sha256 = "cc" } } },
        ]"#;

    const UV: &str = r#"version = 1
        package = [
          { name = "fares", source = { virtual = "." }, dependencies = [{ name = "fog", extra = ["loud"] }] },
          { name = "fog", version = "1.4", source = { registry = "https://index.example/simple" },
            dependencies = [{ name = "colours", marker = "sys_platform == 'win32'" }],
            optional-dependencies = { loud = [{ name = "horn" }] }, wheels = [{ hash = "sha256:aa" }] },
          { name = "horn", version = "3.1", source = { registry = "x" }, sdist = { hash = "sha256:bb" } },
          { name = "colours", version = "1.0", source = { registry = "x" }, sdist = { hash = "sha256:cc" } },
          { name = "lint", version = "1.0", source = { registry = "x" }, sdist = { hash = "sha256:dd" } },
        ]"#;

    const POETRY: &str = r#"
        package = [
          { name = "Fog", version = "1.4", files = [{ hash = "sha256:aa" }], extras = { loud = ["horn (>=3)"] },
            dependencies = { colours = { version = "*", markers = "sys_platform == \"win32\"" }, horn = { version = "*", optional = true } } },
          { name = "horn", version = "3.1", files = [{ hash = "sha256:bb" }] },
          { name = "colours", version = "1.0", files = [{ hash = "sha256:cc" }] },
          { name = "lint", version = "1.0", files = [{ hash = "sha256:dd" }] },
        ]"#;

    const PDM: &str = r#"
        package = [
          { name = "fog", version = "1.4", dependencies = ["colours; sys_platform == \"win32\""], files = [{ hash = "sha256:aa" }] },
          { name = "fog", version = "1.4", extras = ["loud"], dependencies = ["fog==1.4", "horn>=3"], files = [{ hash = "sha256:aa" }] },
          { name = "horn", version = "3.1", files = [{ hash = "sha256:bb" }] },
          { name = "lint", version = "1.0", files = [{ hash = "sha256:dd" }] },
        ]"#;

    const PIPFILE: &str = r#"{ "_meta": {}, "develop": { "lint": { "version": "==1.0" } }, "default": {
        "fog": { "version": "==1.4", "extras": ["loud"], "hashes": ["sha256:aa"] },
        "horn": { "version": "==3.1", "hashes": ["sha256:bb"] },
        "colours": { "version": "==1.0", "hashes": ["sha256:cc"], "markers": "sys_platform == 'win32'" } } }"#;

    #[test]
    fn every_kind_says_the_same_packages() {
        let target = Target::new("3.13.5", "linux/amd64", None).unwrap();
        for (kind, text) in KINDS.iter().zip([PYLOCK, UV, POETRY, PDM, PIPFILE]) {
            let graph = (kind.read)(text, &App { project: Some(PROJECT), ..App::default() })
                .map_err(|fault| format!("{}: {fault:?}", kind.file));
            let packages = graph.unwrap().select(&target).unwrap();
            let told: Vec<_> = packages
                .iter()
                .map(|p| format!("{} {}", p.label(), p.integrity.as_ref().unwrap().canonical()))
                .collect();
            assert_eq!(told, ["fog 1.4 sha256:aa", "horn 3.1 sha256:bb"], "{}", kind.file);
        }
    }

    #[test]
    fn extras_and_groups_are_wanted_when_they_are_chosen() {
        let project = "[project]\nname = 'Fares'\ndependencies = ['fog']\n[project.optional-dependencies]\nLoud = ['horn>=1']\n\
            all = ['fares[loud,far]', 'mast']\nfar = ['lamp']\n\
            [dependency-groups]\nserve = [{ include-group = 'base' }, 'bell']\nbase = ['rope', { include-group = 'serve' }]\n";
        let names = |texts: &[&str]| texts.iter().map(|t| (*t).to_owned()).collect::<Vec<_>>();
        let told = |extras: &[&str], groups: &[&str]| {
            wanted(&project.parse().unwrap(), &names(extras), &names(groups)).join(" ")
        };
        assert_eq!(told(&[], &[]), "fog");
        assert_eq!(told(&["loud"], &["serve"]), "fog horn>=1 bell rope");
        assert_eq!(told(&["all"], &[]), "fog mast horn>=1 lamp");
        // A group that several others include.
        assert_eq!(told(&[], &["base", "serve", "base"]), "fog rope bell");
    }

    #[test]
    fn what_is_needed_and_not_locked_is_told() {
        let target = Target::new("3.13.5", "linux/amd64", None).unwrap();
        let graph =
            (KINDS[3].read)("package = []", &App { project: Some(PROJECT), ..App::default() }).unwrap();
        assert!(matches!(graph.select(&target), Err(Missing::Package { name, .. }) if name == "fog"));
    }
}
