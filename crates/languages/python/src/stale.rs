//! Whether a lockfile stands for what its manifest asks for now.

use crate::lock::Kind;
use crate::locked::{LockedPackage, Origin};
use crate::requirements::Asked;
use crate::target::Target;
use model::error::{PackageError, SurveyError};
use model::{BuildpackOptions, Error, Place, Result};
use pep508_rs::VersionOrUrl;
use remote::packages::pypi;
use source::SourceTree;

/// The packages that a lockfile locks for `target`, when it stands for its manifest.
pub(super) fn locked(
    kind: &Kind,
    tree: &SourceTree,
    options: &BuildpackOptions,
    target: &Target,
) -> Result<Vec<LockedPackage>> {
    let packages = kind.packages(tree, options, target)?;
    check(kind, tree, options, &packages, target)?;
    Ok(packages)
}

/// An error when something that the manifest asks for is not locked, or in another version than it allows.
fn check(
    kind: &Kind,
    tree: &SourceTree,
    options: &BuildpackOptions,
    packages: &[LockedPackage],
    target: &Target,
) -> Result<()> {
    let asked = match kind.file {
        "Pipfile.lock" => Asked::of_pipfile(tree)?.map(|asked| (crate::PIPFILE, asked)),
        _ => of_project(tree, options)?,
    };
    let Some((manifest, asked)) = asked else { return Ok(()) };
    for wanted in asked.wanted.iter().filter(|wanted| target.holds(&wanted.need.marker, &[])) {
        let name = pypi::canonical_name(wanted.need.name.as_ref());
        let stale = |detail: String| {
            let lockfile = kind.file.to_owned();
            Err(Error::Package(PackageError::LockMismatch { lockfile, detail, how: kind.how }))
        };
        let Some(locked) = packages.iter().find(|package| package.name == name) else {
            return stale(format!("{manifest} requires {name}, which is not locked"));
        };
        let Some(VersionOrUrl::VersionSpecifier(range)) = &wanted.need.version_or_url else { continue };
        // What comes from elsewhere has the version that it has there.
        if matches!(locked.origin, Origin::Index(_)) && !range.contains(&locked.version) {
            return stale(format!("{manifest} requires {name} {range}, but {} is locked", locked.version));
        }
    }
    Ok(())
}

/// What `[project]` asks for; a table that only one tool reads is that tool's own.
fn of_project(tree: &SourceTree, options: &BuildpackOptions) -> Result<Option<(&'static str, Asked)>> {
    let Some(text) = tree.read(crate::PROJECT)? else { return Ok(None) };
    match Asked::of_project(&text, options) {
        Ok(asked) => Ok(Some((crate::PROJECT, asked))),
        Err(Error::Survey(SurveyError::Unsupported { .. })) => of_poetry(&text),
        Err(error) => Err(error),
    }
}

/// The names in poetry's own table, whose ranges have a form of their own.
fn of_poetry(text: &str) -> Result<Option<(&'static str, Asked)>> {
    let document = crate::parse_project(text)?;
    let of_tool = || document.get("tool")?.get("poetry")?.get("dependencies")?.as_table();
    let Some(table) = of_tool() else { return Ok(None) };
    let is_always = |value: &toml::Value| {
        let of = |key: &str| value.get(key);
        of("optional").and_then(toml::Value::as_bool) != Some(true)
            && of("markers").is_none()
            && of("python").is_none()
    };
    let names = table.iter().filter(|(name, value)| *name != "python" && is_always(value));
    let needs: Vec<String> = names.map(|(name, _)| name.clone()).collect();
    let place = Place::find(crate::PROJECT, text, "[tool.poetry.dependencies]");
    Ok(Some((crate::PROJECT, Asked::of_needs(&needs, &place)?)))
}
