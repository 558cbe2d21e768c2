//! Node: `package.json`, its lockfile, and the packages that it locks.

mod install;
mod lock;
mod range;

use super::{Buildpack, Context, Contribution, frameworks};
use crate::command;
use crate::config::BuildpackOptions;
use crate::error::{BuildError, Place, Result};
use crate::pipeline::own_platform;
use crate::source::SourceTree;
use crate::survey::{
    Claim, Evidence, Finding, LockFound, ProcessKind, ProcessType, RuntimeWish, configured_constraint,
    first_present,
};
use crate::worklist::{Role, Step};
use install::NodePackages;
use lock::Lock;
pub(crate) use range::Range;
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};

const MANIFEST: &str = "package.json";
const LOCKFILE: &str = "package-lock.json";
/// Files that start an app when nothing says how.
const ENTRY_FILES: [&str; 4] = ["server.js", "index.js", "app.js", "main.js"];

/// The buildpack.
pub struct Node;

/// The part of `package.json` that matters here.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct Manifest {
    main: Option<String>,
    scripts: BTreeMap<String, String>,
    engines: BTreeMap<String, String>,
    dependencies: BTreeMap<String, String>,
    dev_dependencies: BTreeMap<String, String>,
    optional_dependencies: BTreeMap<String, String>,
    workspaces: Option<serde_json::Value>,
}

impl Buildpack for Node {
    fn name(&self) -> &'static str {
        "node"
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let mut finding = Finding::nothing(self.name(), vec![MANIFEST]);
        let Some((text, manifest)) = read_manifest(tree)? else { return Ok(finding) };
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
        survey_lock(tree, &mut finding);
        finding.processes.extend(web_process(tree, &text, &manifest, &mut finding.evidence));
        let packages: BTreeSet<String> = [&manifest.dependencies, &manifest.dev_dependencies]
            .into_iter()
            .flat_map(|d| d.keys().cloned())
            .collect();
        let known = frameworks::apply(frameworks::NODE, tree, &packages, &Place::new(MANIFEST, None), ".js")?;
        finding.evidence.extend(known.evidence);
        let named: Vec<_> = finding.processes.iter().map(|p| p.name.clone()).collect();
        finding.processes.extend(known.processes.into_iter().filter(|p| !named.contains(&p.name)));
        let front_end = frameworks::FRONT_ENDS.iter().find(|f| packages.contains(**f));
        if let Some(tool) = front_end.filter(|_| manifest.scripts.contains_key("build")) {
            let place = at("\"build\"");
            finding.evidence.push(Evidence::speaks_for(place, *tool, "it builds the front end"));
        }
        finding.declared =
            manifest.dependencies.keys().chain(manifest.optional_dependencies.keys()).cloned().collect();
        finding.development = manifest.dev_dependencies.keys().cloned().collect();
        finding.build_script = manifest.scripts.get("build").map(|_| at("\"build\""));
        let serves = finding.processes.iter().any(|p| p.name == "web");
        finding.claim = if serves { Claim::Whole } else { Claim::Part };
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        Some(Range::parse(constraint)?.contains(&semver::Version::parse(version).ok()?))
    }

    fn contribute(&self, context: &Context<'_>) -> Result<Contribution> {
        let mut contribution = Contribution {
            path: vec!["/app/node_modules/.bin".to_owned(), context.runtime.bin_folder.clone()],
            env: vec![("NODE_ENV", "production".to_owned())],
            ..Contribution::default()
        };
        let Some((_, manifest)) = read_manifest(context.tree)? else { return Ok(contribution) };
        if manifest.workspaces.is_some() {
            return Err(BuildError::Unsupported {
                place: Place::new(MANIFEST, None),
                what: "workspaces".to_owned(),
                instead: "build the folder of one workspace, with a lockfile of its own",
            });
        }
        let declared = manifest.dependencies.len() + manifest.optional_dependencies.len();
        let Some(lock) = read_lock(context.tree)? else {
            let how = "run `npm install --package-lock-only` and commit package-lock.json";
            if declared == 0 {
                return Ok(contribution);
            }
            return Err(BuildError::NotLocked { manifest: MANIFEST.to_owned(), lockfile: LOCKFILE, how });
        };
        lock.check_against(
            &manifest.dependencies,
            &manifest.dev_dependencies,
            &manifest.optional_dependencies,
        )?;
        let packages = lock.for_image(&Place::new(LOCKFILE, None), context.platform)?;
        if packages.is_empty() {
            return Ok(contribution);
        }
        let work = NodePackages::new(packages, context.addresses.clone());
        let step = Step::new("node packages", Role::Dependencies, vec![work.input()], work);
        contribution.steps.push(step);
        Ok(contribution)
    }
}

fn read_manifest(tree: &SourceTree) -> Result<Option<(String, Manifest)>> {
    let Some(text) = tree.read(MANIFEST)? else { return Ok(None) };
    let manifest = serde_json::from_str(&text).map_err(|e| BuildError::Malformed {
        place: Place::new(MANIFEST, u32::try_from(e.line()).ok()),
        detail: e.to_string(),
    })?;
    Ok(Some((text, manifest)))
}

fn read_lock(tree: &SourceTree) -> Result<Option<Lock>> {
    let others = ["npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "bun.lock"];
    match (tree.read(LOCKFILE)?, first_present(tree, &others)) {
        (Some(text), _) => Lock::parse(LOCKFILE, &text).map(Some),
        (None, Some(other)) => Err(BuildError::Unsupported {
            place: Place::new(other, None),
            what: "this kind of lockfile".to_owned(),
            instead: "commit a package-lock.json (`npm install --package-lock-only`)",
        }),
        (None, None) => Ok(None),
    }
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
    Ok(said)
}

/// What the lockfile locks; one that cannot be used speaks against itself and is refused by a build.
fn survey_lock(tree: &SourceTree, finding: &mut Finding) {
    let place = Place::new(LOCKFILE, None);
    let locked = read_lock(tree).and_then(|lock| match lock {
        Some(lock) => Ok(Some((lock.count(), lock.for_image(&place, &own_platform())?.len()))),
        None => Ok(None),
    });
    match locked {
        Ok(Some((all, packages))) => {
            let development = all - packages;
            let counts = format!("{all} packages, {development} of them for development");
            finding.evidence.push(Evidence::speaks_for(place, counts, "exact versions"));
            finding.lock = Some(LockFound { file: LOCKFILE.to_owned(), packages, development });
        }
        Ok(None) => {}
        Err(error) => {
            finding.evidence.push(Evidence::against(place, error.to_string(), "a build will refuse it"));
        }
    }
}

/// How the app is started: the start script, the main file, or a file with a telling name.
fn web_process(
    tree: &SourceTree,
    text: &str,
    manifest: &Manifest,
    evidence: &mut Vec<Evidence>,
) -> Option<ProcessType> {
    let (command, place) = if let Some(script) = manifest.scripts.get("start") {
        let place = Place::find(MANIFEST, text, "\"start\"");
        evidence.push(Evidence::speaks_for(place.clone(), script, "the start script"));
        match command::split(script, Some(&place)) {
            Ok(words) => (words, place),
            Err(_) => {
                let tells = "it needs a shell; give the command in [process.web]";
                evidence.push(Evidence::against(place, script, tells));
                return None;
            }
        }
    } else {
        let main = manifest.main.as_deref().filter(|m| tree.has(m));
        let (file, place) = match main {
            Some(main) => (main, Place::find(MANIFEST, text, "\"main\"")),
            None => {
                let file = first_present(tree, &ENTRY_FILES)?;
                (file, Place::new(file, None))
            }
        };
        evidence.push(Evidence::speaks_for(place.clone(), file, "the file that starts the app"));
        (vec!["node".to_owned(), file.to_owned()], place)
    };
    let words: Vec<&str> = command.iter().map(String::as_str).collect();
    Some(ProcessType::found("web", ProcessKind::Process, &words, place))
}
