//! What the source says of itself: how it is built and started, which versions of Node it supports, what its lockfile locks.

use crate::package::LockedPackage;
use crate::tree::PackageTree;
use crate::{APP, MANIFEST, NAME, app, install, lock, members, read_manifest};
use model::platform::own_platform;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, LockFound, Place, Result, RuntimeWish, Sign,
    configured_constraint,
};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};

/// What is concluded about a source, or about the member of a workspace that is the app.
pub(super) fn survey(tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
    let Some(folder) = tree.member() else {
        let (mut finding, at) = survey_app(tree, options, None)?;
        if finding.processes.is_empty() && finding.pages.is_none() {
            finding.evidence.extend(members_that_start(tree, options)?);
        }
        survey_lock(tree, &mut finding, at)?;
        return Ok(finding);
    };
    let before = members::built_before(tree, folder)?;
    let (mut finding, at) = survey_app(&tree.below(folder), options, before)?;
    finding.move_into(folder);
    with_whole(&mut finding, tree)?;
    survey_lock(tree, &mut finding, at)?;
    Ok(finding)
}

/// Adds to what was found in a member what the whole says of the runtime, and what it declares for all.
fn with_whole(finding: &mut Finding, tree: &SourceTree) -> Result<()> {
    let Some((text, manifest)) = read_manifest(tree)? else { return Ok(()) };
    finding.development.extend(manifest.dev_dependencies.keys().cloned());
    let Some(wish) = &mut finding.runtime else { return Ok(()) };
    let engine = manifest.engines.get("node");
    let engine = engine.map(|range| (range.clone(), Place::find(MANIFEST, &text, "\"node\"")));
    let said = engine.into_iter().chain(version_files(tree)?);
    for one in said {
        match &wish.constraint {
            None => wish.constraint = Some(one),
            Some(_) => wish.also_said.push(one),
        }
    }
    Ok(())
}

/// The members of a workspace that start, or are served, by themselves, and that no other one needs.
fn members_that_start(tree: &SourceTree, options: &BuildpackOptions) -> Result<Vec<Evidence>> {
    let mut found = Vec::new();
    // Errors in members are reported where their packages are needed.
    for folder in members::not_needed_by_others(tree).unwrap_or_default() {
        let (own, _) = survey_app(&tree.below(&folder), options, None)?;
        if own.processes.iter().any(|process| process.name == "web") || own.pages.is_some() {
            let place = Place::new(format!("{folder}/{MANIFEST}"), None);
            let evidence = Evidence::speaks_for(place, &folder, "a member that can be started by itself");
            found.push(evidence.as_sign(Sign::Member));
        }
    }
    Ok(found)
}

/// What a tree says of itself, but for its lockfile, and the place of what that says among the evidence; `before`
/// is what has to be built before it.
fn survey_app(
    tree: &SourceTree,
    options: &BuildpackOptions,
    before: Option<String>,
) -> Result<(Finding, usize)> {
    let mut finding = Finding::nothing(NAME, vec![MANIFEST]);
    let Some((text, manifest)) = read_manifest(tree)? else { return Ok((finding, 0)) };
    let at = |needle: &str| Place::find(MANIFEST, &text, needle);
    finding.evidence.push(Evidence::speaks_for(Place::new(MANIFEST, None), "present", "an app for Node"));
    let engine = manifest.engines.get("node").map(|range| (range.clone(), at("\"node\"")));
    let said: Vec<_> = engine.into_iter().chain(version_files(tree)?).collect();
    for (range, place) in &said {
        finding.evidence.push(Evidence::speaks_for(place.clone(), range, "supported Node versions"));
    }
    finding.runtime = Some(RuntimeWish::of("node", configured_constraint(options), said));
    finding.declared =
        manifest.dependencies.keys().chain(manifest.optional_dependencies.keys()).cloned().collect();
    let at = finding.evidence.len();
    app::App { tree, text: &text, manifest: &manifest, before }.survey(&mut finding)?;
    let packages: BTreeSet<String> = [&manifest.dependencies, &manifest.dev_dependencies]
        .into_iter()
        .flat_map(|d| d.keys().cloned())
        .collect();
    let known = planning::frameworks::apply(
        planning::frameworks::NODE,
        tree,
        &packages,
        &Place::new(MANIFEST, None),
        ".js",
    )?;
    finding.evidence.extend(known.evidence);
    let named: Vec<_> = finding.processes.iter().map(|p| p.name.clone()).collect();
    finding.processes.extend(known.processes.into_iter().filter(|p| !named.contains(&p.name)));
    finding.development = manifest.dev_dependencies.keys().cloned().collect();
    // Pages alone may be the front end of another language's app.
    let serves = finding.processes.iter().any(|p| p.name == "web");
    finding.claim = if serves { Claim::Whole } else { Claim::Part };
    Ok((finding, at))
}

/// Files that name an exact version for people's own machines.
fn version_files(tree: &SourceTree) -> Result<Vec<(String, Place)>> {
    let mut said = Vec::new();
    for file in [".node-version", ".nvmrc"] {
        let text = tree.read(file)?.unwrap_or_default();
        let version =
            text.lines().map(str::trim).find(|l| l.starts_with(|c: char| c.is_ascii_digit() || c == 'v'));
        said.extend(version.map(|v| (v.trim_start_matches('v').to_owned(), Place::find(file, &text, v))));
    }
    said.extend(planning::tool_version(tree, &["nodejs", "node"])?);
    Ok(said)
}

/// The versions of Node that the packages of the image want, and those of the build where there is one.
fn engines(
    tree: &SourceTree,
    lock: &PackageTree,
    packages: &[LockedPackage],
    builds: bool,
) -> Result<Vec<(String, String)>> {
    let mut all = lock.engines(packages);
    if builds && let Some(lock) = lock::read_for_build(tree)? {
        all.extend(lock.engines(&lock.with_development(&own_platform())?));
        all.sort();
        all.dedup_by(|one, other| one.0 == other.0);
    }
    Ok(all)
}

/// What the lockfile locks; one that cannot be used speaks against itself and is refused by a build.
fn survey_lock(tree: &SourceTree, finding: &mut Finding, at: usize) -> Result<()> {
    let present = lock::names().find(|name| tree.has(name));
    let Some(file) = present else {
        let count = finding.declared.len();
        if count > 0 {
            let counts = format!("{count} {}", if count == 1 { "package" } else { "packages" });
            let tells = "no exact versions: a build resolves them and pins them in shtetl.lock";
            finding.evidence.insert(at, Evidence::speaks_for(Place::new(MANIFEST, None), counts, tells));
        }
        return Ok(());
    };
    let place = Place::new(file, None);
    let locked = lock::read(tree).and_then(|locked| match locked {
        Some(lock) => {
            let packages = lock.for_image(&own_platform())?;
            let links = install::commands(APP, &packages, &BTreeMap::new());
            let folders = [Some(String::new()), tree.member().map(|folder| format!("{folder}/"))];
            let own = |link: &String| {
                let inside = link.strip_prefix("app/")?;
                let of = |folder: &String| {
                    inside.strip_prefix(folder.as_str())?.strip_prefix("node_modules/.bin/")
                };
                folders.iter().flatten().find_map(of).map(str::to_owned)
            };
            finding.commands = lock.says_all.then(|| links.keys().filter_map(own).collect());
            let top = |package: &LockedPackage| {
                let of = |folder: &String| {
                    package.path.strip_prefix(folder.as_str())?.strip_prefix("node_modules/")
                };
                let name = folders.iter().flatten().find_map(of)?;
                (!name.contains("node_modules/")).then(|| name.to_owned())
            };
            finding.locked = packages.iter().filter_map(top).collect();
            let of_packages = engines(tree, &lock, &packages, finding.build.is_some())?;
            if let Some(wish) = &mut finding.runtime {
                wish.of_packages = of_packages;
            }
            Ok(Some((lock.count(), packages.len())))
        }
        None => Ok(None),
    });
    match locked {
        Ok(Some((all, packages))) => {
            let development = all - packages;
            let found = LockFound { file: file.to_owned(), packages, development };
            finding.evidence.insert(at, Evidence::speaks_for(place, found.counts(), "exact versions"));
            finding.lock = Some(found);
        }
        Ok(None) => {}
        // What this machine cannot read says nothing of the app.
        Err(error @ Error::Source(_)) => return Err(error),
        Err(error) => {
            let refused = Evidence::against(place, error.to_string(), "a build will refuse it");
            finding.evidence.insert(at, refused.as_sign(Sign::Refused));
        }
    }
    Ok(())
}
