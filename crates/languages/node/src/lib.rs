//! Node: `package.json`, its lockfile, and the packages that it locks.
//!
//! ```text
//! lock/ (one reader per kind) ─► graph ─► tree: packages by folder ─► settled ─► install, compile, scripts: steps
//! package.json ─► resolve ───────┘
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | `lock`, `tree`, `package` | lockfiles, the one form that they end in, and one package of it |
//! | `need`, `graph`, `placing`, `overrides`, `workspaces` | which folder each package goes into |
//! | `resolve` | versions that no file locks |
//! | `survey`, `members` | what the source, or a member of a workspace, says of itself |
//! | `app`, `app_scripts`, `frameworks` | how the app is built and started |
//! | `settled` | what the app needs, with a hash for each package |
//! | `install`, `tarball`, `patch`, `packing` | layers of packages |
//! | `compile`, `scripts`, `helpers` | install scripts and add-ons, and what they need |
#![forbid(unsafe_code)]

mod app;
mod app_scripts;
mod compile;
mod frameworks;
mod graph;
mod helpers;
mod inputs;
mod install;
mod lock;
mod members;
mod need;
mod overrides;
mod package;
mod packing;
mod patch;
mod placing;
mod resolve;
mod scripts;
mod settled;
mod survey;
mod tarball;
mod tree;
mod workspaces;

pub use inputs::first_script;

use install::Purpose;
use model::error::SurveyError;
use model::npm_range::Range;
use model::platform::own_platform;
use model::{BuildpackOptions, Error, Finding, Place, Result};
use model::{Ecosystem, OptionSpec, Takes};
use package::LockedPackage;
use planning::{Buildpack, Context, Contribution, Member, Resolution, Resolving};
use serde::Deserialize;
use settled::{ForBuildCommand, Installation};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use tree::PackageTree;

/// Packages whose install scripts are run.
const RUN_SCRIPTS_OF: OptionSpec = OptionSpec::new(
    "run-scripts-of",
    Takes::AddedTexts,
    "Packages whose install scripts to run, in isolation",
);
/// Packages whose install scripts are known not to matter.
const SKIP_SCRIPTS_OF: OptionSpec =
    OptionSpec::new("skip-scripts-of", Takes::AddedTexts, "Packages whose install scripts to skip");
/// The name of the buildpack and of its runtime.
const NAME: &str = "node";
/// The folder of the app, from the root of the image.
const APP: &str = "app";
const MANIFEST: &str = "package.json";
/// The scripts of a package that belong to its installation, in order.
const INSTALL_SCRIPTS: [&str; 3] = ["preinstall", "install", "postinstall"];
/// Files that start an app when nothing says how.
const ENTRY_FILES: [&str; 4] = ["server.js", "index.js", "app.js", "main.js"];

/// The buildpack.
pub struct Node;

/// The part of `package.json` that matters here.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct Manifest {
    name: Option<String>,
    version: Option<String>,
    /// Patterns, or a table with them.
    workspaces: serde_json::Value,
    /// One file, or several by their commands.
    bin: serde_json::Value,
    main: Option<String>,
    scripts: BTreeMap<String, String>,
    engines: BTreeMap<String, String>,
    dependencies: BTreeMap<String, String>,
    dev_dependencies: BTreeMap<String, String>,
    optional_dependencies: BTreeMap<String, String>,
    peer_dependencies: BTreeMap<String, String>,
    peer_dependencies_meta: BTreeMap<String, PeerFacts>,
    overrides: serde_json::Map<String, serde_json::Value>,
    /// The same in other tools' words, which their lockfiles follow.
    resolutions: serde_json::Value,
    pnpm: serde_json::Value,
}

/// What a manifest says of a package that is to be found beside its own.
#[derive(Debug, Clone, Copy, Default, Deserialize)]
#[serde(default)]
struct PeerFacts {
    optional: bool,
}

impl Buildpack for Node {
    fn name(&self) -> &str {
        NAME
    }

    fn about(&self) -> &str {
        "Node: lockfiles of npm, yarn, pnpm and bun, front ends, workspaces"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![OptionSpec::VERSION, RUN_SCRIPTS_OF, SKIP_SCRIPTS_OF]
    }

    fn ecosystems(&self) -> Vec<Ecosystem> {
        vec![Ecosystem::NPM]
    }

    fn lockfiles(&self) -> Vec<&'static str> {
        lock::names().collect()
    }

    fn workspace_above(&self, folder: &Path) -> Option<PathBuf> {
        members::workspace_above(folder)
    }

    fn members(&self, tree: &SourceTree) -> Result<Vec<Member>> {
        members::all(tree)
    }

    fn unneeded_members(&self, tree: &SourceTree, folder: &str) -> Result<Vec<String>> {
        members::unneeded(tree, folder)
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        survey::survey(tree, options)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        Some(Range::parse(constraint)?.contains(&semver::Version::parse(version).ok()?))
    }

    fn resolve(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        settled::settle(context, resolving)
    }

    fn resolve_for_build(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        settled::settle_for_build(context, resolving)
    }

    fn contribute(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let runtime = context.runtime()?;
        let mut contribution = Contribution {
            path: vec![format!("/{APP}/node_modules/.bin"), runtime.bin_folder.clone()],
            env: vec![("NODE_ENV", "production".to_owned())],
            ..Contribution::default()
        };
        if let Some(folder) = context.tree.member() {
            contribution.path.insert(0, format!("/{APP}/{folder}/node_modules/.bin"));
        }
        let Some(settled) = resolution.settled::<Installation>() else { return Ok(contribution) };
        let Installation { tree, packages, scripts } = settled;
        let installing = install::Installing {
            source: context.tree,
            addresses: context.addresses,
            platform: context.platform,
            options: Some(context.options),
            folder: APP,
            name: "node packages",
            purpose: Purpose::Image,
        };
        let beside = || install::steps(packages.clone(), tree.clone(), &installing);
        contribution.compiling = compile::steps(scripts, beside, context, &installing)?;
        contribution.steps = beside();
        contribution.packages = tree.planned(packages);
        Ok(contribution)
    }

    fn contribute_for_build(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let mut contribution = Contribution::default();
        let Some(settled) = resolution.settled::<ForBuildCommand>() else { return Ok(contribution) };
        let ForBuildCommand { packages, runners } = settled;
        let platform = own_platform();
        let installing = install::Installing {
            name: "node packages to build the app",
            // Beside the app's own files: bundlers look nowhere else.
            folder: APP,
            purpose: Purpose::BuildCommand,
            source: context.tree,
            addresses: context.addresses,
            platform: &platform,
            options: None,
        };
        if let Some(Installation { tree, packages, scripts }) = packages {
            // What a part of the app has for itself alone lies in that part.
            let of_part = packages.iter().filter_map(|p| Some(p.path.split_once("/node_modules/")?.0));
            let parts: BTreeSet<&str> = of_part.filter(|part| !part.starts_with("node_modules/")).collect();
            let of_parts = parts.iter().map(|part| format!("{part}/node_modules"));
            contribution.package_folders =
                std::iter::once("node_modules".to_owned()).chain(of_parts).collect();
            let beside = || install::steps(packages.clone(), tree.clone(), &installing);
            contribution.compiling = compile::steps(scripts, beside, context, &installing)?;
            contribution.steps = beside();
            contribution.path.extend(parts.iter().map(|part| format!("/{APP}/{part}/node_modules/.bin")));
            contribution.path.push(format!("/{APP}/node_modules/.bin"));
        }
        if let Some(runners) = runners {
            contribution.path.push(format!("/{}/node_modules/.bin", helpers::FOLDER));
            contribution.steps.extend(runners.steps("node packages to run scripts", &installing));
        }
        Ok(contribution)
    }
}

impl Manifest {
    /// The manifest in a folder; an empty one, when there is none.
    fn in_folder(folder: &Path) -> Result<Self> {
        parse_manifest(
            MANIFEST,
            &fs::read_to_string(folder.join(MANIFEST)).unwrap_or_else(|_| "{}".to_owned()),
        )
    }

    /// Its commands with their files.
    fn commands(&self) -> BTreeMap<String, String> {
        tarball::commands(self.name.as_deref().unwrap_or_default(), &self.bin)
    }

    /// Whether something has to run before its files are there, when they come from a commit.
    fn runs_scripts(&self) -> bool {
        INSTALL_SCRIPTS.iter().chain(&packing::MAKING).any(|name| self.scripts.contains_key(*name))
    }

    /// The packages that are to be found beside its own, and whether it can do without.
    fn peers(&self) -> BTreeMap<String, bool> {
        let may_lack =
            |name: &String| self.peer_dependencies_meta.get(name).is_some_and(|facts| facts.optional);
        self.peer_dependencies.keys().map(|name| (name.clone(), may_lack(name))).collect()
    }

    /// As it is for a build: what only development needs is needed, too.
    fn with_development(mut self) -> Self {
        self.dependencies.extend(std::mem::take(&mut self.dev_dependencies));
        self
    }
}

fn read_manifest(tree: &SourceTree) -> Result<Option<(String, Manifest)>> {
    let Some(text) = tree.read(MANIFEST)? else { return Ok(None) };
    let manifest = parse_manifest(MANIFEST, &text)?;
    Ok(Some((text, manifest)))
}

fn parse_manifest(file: &str, text: &str) -> Result<Manifest> {
    serde_json::from_str(text).map_err(|e| {
        Error::Survey(SurveyError::Malformed {
            place: Place::new(file, u32::try_from(e.line()).ok()),
            detail: e.to_string(),
        })
    })
}

/// Packages that their authors advise against, as the lock says.
fn deprecated(packages: &[LockedPackage]) -> Option<String> {
    let told = |p: &LockedPackage| p.deprecated.as_ref().map(|why| format!("{}: {why}", p.label()));
    let all: Vec<String> = packages.iter().filter_map(told).collect();
    let first = all.first()?;
    let rest = if all.len() == 1 { String::new() } else { format!("; and {} more packages", all.len() - 1) };
    Some(format!("deprecated: {first}{rest}"))
}

/// Packages that the app changes.
fn patched(packages: &[LockedPackage]) -> Option<String> {
    let told = |p: &LockedPackage| {
        let paths: Vec<&str> = p.patches.iter().map(|patch| patch.path.as_str()).collect();
        (!paths.is_empty()).then(|| format!("{} by {}", p.label(), paths.join(" and ")))
    };
    let all: BTreeSet<String> = packages.iter().filter_map(told).collect();
    let all: Vec<String> = all.into_iter().collect();
    (!all.is_empty()).then(|| format!("patched: {}", all.join(", ")))
}

/// Whether the lock was made from the manifests as they are: that of the app and those of its parts.
fn check_lock(tree: &SourceTree, locked: &PackageTree) -> Result<()> {
    if !locked.says_ranges {
        let manifest = read_manifest(tree)?.map(|(_, manifest)| manifest).unwrap_or_default();
        return locked.check_ranges(&manifest.dependencies);
    }
    let parts = locked.packages.keys().filter(|path| !path.contains("node_modules/"));
    for folder in parts {
        let file = if folder.is_empty() { MANIFEST.to_owned() } else { format!("{folder}/{MANIFEST}") };
        let Some(text) = tree.read(&file)? else { continue };
        let manifest = parse_manifest(&file, &text)?;
        let declared = [&manifest.dependencies, &manifest.dev_dependencies, &manifest.optional_dependencies];
        locked.check_against(folder, declared)?;
    }
    Ok(())
}
