//! Whether a lockfile stands for what its manifest asks for now.

use super::Kind;
use crate::locked::{LockedPackage, Origin};
use crate::requirements::Asked;
use crate::target::Target;
use model::error::PackageError;
use model::{BuildpackOptions, Error, Place, Result};
use pep508_rs::VersionOrUrl;
use remote::packages::pypi;
use source::SourceTree;

/// An error when something that the manifest asks for is not locked, or in another version than it allows.
pub(super) fn check(
    kind: &Kind,
    tree: &SourceTree,
    options: &BuildpackOptions,
    packages: &[LockedPackage],
    target: &Target,
) -> Result<()> {
    let asked = match kind.file {
        "Pipfile.lock" => of_pipfile(tree)?.map(|asked| (crate::PIPFILE, asked)),
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
            return stale(format!("{manifest} asks for {name}, which is not locked"));
        };
        let Some(VersionOrUrl::VersionSpecifier(range)) = &wanted.need.version_or_url else { continue };
        // What comes from elsewhere has the version that it has there.
        if matches!(locked.origin, Origin::Index(_)) && !range.contains(&locked.version) {
            return stale(format!("{manifest} asks for {name} {range}, and {} is locked", locked.version));
        }
    }
    Ok(())
}

/// What `[project]` asks for; a table that only one tool reads is that tool's own.
fn of_project(tree: &SourceTree, options: &BuildpackOptions) -> Result<Option<(&'static str, Asked)>> {
    let Some(text) = tree.read(crate::PROJECT)? else { return Ok(None) };
    match Asked::of_project(&text, options) {
        Ok(asked) => Ok(Some((crate::PROJECT, asked))),
        Err(_) => of_poetry(&text),
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

/// What `[packages]` of a Pipfile asks for.
pub(crate) fn of_pipfile(tree: &SourceTree) -> Result<Option<Asked>> {
    let Some(text) = tree.read(crate::PIPFILE)? else { return Ok(None) };
    // Whoever reads the file for its own sake reports what is wrong with it.
    let Ok(document) = text.parse::<toml::Table>() else { return Ok(None) };
    let table = document.get("packages").and_then(toml::Value::as_table);
    let need = |(name, value): (&String, &toml::Value)| {
        let range = value.as_str().or_else(|| value.get("version")?.as_str()).unwrap_or("*");
        let is_conditional = value.as_table().is_some_and(|t| t.contains_key("markers"));
        let range = if range == "*" { "" } else { range };
        (!is_conditional).then(|| format!("{name}{range}"))
    };
    let needs: Vec<String> = table.into_iter().flatten().filter_map(need).collect();
    let place = Place::find(crate::PIPFILE, &text, "[packages]");
    Ok(Some(Asked::of_needs(&needs, &place)?))
}
