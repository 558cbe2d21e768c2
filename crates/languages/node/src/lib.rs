//! Node: `package.json`, its lockfile, and the packages that it locks.
//!
//! ```text
//! lock/ (one reader per kind) ─► graph ─► tree: packages by folder ─► settled ─► install, compile, scripts: steps
//! package.json ─► resolve ───────┘
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | `lock`, `tree` | lockfiles, and the one form that they end in |
//! | `graph`, `placing`, `overrides`, `workspaces` | which folder each package goes into |
//! | `resolve` | versions that no file locks |
//! | `app`, `app_scripts`, `frameworks` | how the app is built and started |
//! | `settled` | what the app needs, with a hash for each package |
//! | `install`, `tarball`, `patch`, `packing` | layers of packages |
//! | `compile`, `scripts`, `helpers` | install scripts and add-ons, and what they need |

mod app;
mod app_scripts;
mod compile;
mod frameworks;
mod graph;
mod helpers;
mod install;
mod lock;
mod members;
mod overrides;
mod packing;
mod patch;
mod placing;
mod resolve;
mod scripts;
mod settled;
mod tarball;
mod tree;
mod workspaces;

use install::Purpose;
use model::Sign;
use model::error::SurveyError;
use model::npm_range::Range;
use model::platform::own_platform;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, LockFound, Place, Result, RuntimeWish,
    configured_constraint,
};
use model::{Ecosystem, OptionSpec, Takes};
use planning::{Buildpack, Context, Contribution, Member, Resolution, Resolving};
use serde::Deserialize;
use settled::{ForBuildCommand, Installation};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use tree::{LockedPackage, PackageTree};

/// Packages whose install scripts are run.
const RUN_SCRIPTS_OF: OptionSpec = OptionSpec::new(
    "run-scripts-of",
    Takes::AddedTexts,
    "Packages whose install scripts are run, apart from the machine",
);
/// Packages whose install scripts are known not to matter.
const SKIP_SCRIPTS_OF: OptionSpec =
    OptionSpec::new("skip-scripts-of", Takes::AddedTexts, "Packages whose install scripts need not be run");
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
        "node"
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
        let Some(folder) = tree.member() else {
            let (mut finding, at) = self.survey_app(tree, options, None)?;
            if finding.processes.is_empty() && finding.pages.is_none() {
                finding.evidence.extend(self.members_that_start(tree, options)?);
            }
            survey_lock(tree, &mut finding, at);
            return Ok(finding);
        };
        let before = members::built_before(tree, folder)?;
        let (mut finding, at) = self.survey_app(&tree.below(folder), options, before)?;
        finding.move_into(folder);
        members::with_whole(&mut finding, tree)?;
        survey_lock(tree, &mut finding, at);
        Ok(finding)
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

impl Node {
    /// The members of a workspace that start, or are served, by themselves, and that no other one needs.
    fn members_that_start(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Vec<Evidence>> {
        let mut found = Vec::new();
        // What is wrong with the members is reported by whoever needs their packages.
        for folder in members::not_needed_by_others(tree).unwrap_or_default() {
            let (own, _) = self.survey_app(&tree.below(&folder), options, None)?;
            if own.processes.iter().any(|process| process.name == "web") || own.pages.is_some() {
                let place = Place::new(format!("{folder}/{MANIFEST}"), None);
                let evidence = Evidence::speaks_for(place, &folder, "a member that starts by itself");
                found.push(evidence.as_sign(Sign::Member));
            }
        }
        Ok(found)
    }

    /// What a tree says of itself, but for its lockfile, and the place of what that says among the evidence; `before`
    /// is what has to be built before it.
    fn survey_app(
        &self,
        tree: &SourceTree,
        options: &BuildpackOptions,
        before: Option<String>,
    ) -> Result<(Finding, usize)> {
        let mut finding = Finding::nothing(self.name(), vec![MANIFEST]);
        let Some((text, manifest)) = read_manifest(tree)? else { return Ok((finding, 0)) };
        let at = |needle: &str| Place::find(MANIFEST, &text, needle);
        finding.evidence.push(Evidence::speaks_for(Place::new(MANIFEST, None), "present", "an app for Node"));
        let engine = manifest.engines.get("node").map(|range| (range.clone(), at("\"node\"")));
        let said: Vec<_> = engine.into_iter().chain(version_files(tree)?).collect();
        for (range, place) in &said {
            finding.evidence.push(Evidence::speaks_for(
                place.clone(),
                range,
                "versions of Node that will do",
            ));
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
fn survey_lock(tree: &SourceTree, finding: &mut Finding, at: usize) {
    let present = lock::names().find(|name| tree.has(name));
    let Some(file) = present else {
        let count = finding.declared.len();
        if count > 0 {
            let counts = format!("{count} {}", if count == 1 { "package" } else { "packages" });
            let tells = "no exact versions: a build resolves them, and keeps them in shtetl.lock";
            finding.evidence.insert(at, Evidence::speaks_for(Place::new(MANIFEST, None), counts, tells));
        }
        return;
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
            let counts = format!("{all} packages, {development} of them for development");
            finding.evidence.insert(at, Evidence::speaks_for(place, counts, "exact versions"));
            finding.lock = Some(LockFound { file: file.to_owned(), packages, development });
        }
        Ok(None) => {}
        Err(error) => {
            let refused = Evidence::against(place, error.to_string(), "a build will refuse it");
            finding.evidence.insert(at, refused.as_sign(Sign::Refused));
        }
    }
}
