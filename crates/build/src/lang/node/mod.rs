//! Node: `package.json`, its lockfile, and the packages that it locks.

mod install;
mod lock;
mod range;

use super::{Buildpack, Context, Contribution};
use crate::command;
use crate::config::BuildpackOptions;
use crate::error::{BuildError, Place, Result};
use crate::source::SourceTree;
use crate::survey::{
    Evidence, Finding, LockFound, ProcessKind, ProcessType, RuntimeWish, configured_constraint, first_present,
};
use crate::worklist::{Role, Step};
use install::NodePackages;
use lock::Lock;
use range::Range;
use serde::Deserialize;
use std::collections::BTreeMap;

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
        finding.claims = true;
        let at = |needle: &str| Place::find(MANIFEST, &text, needle);
        finding.evidence.push(Evidence::speaks_for(Place::new(MANIFEST, None), "present", "an app for Node"));
        let engine = manifest.engines.get("node").map(|range| (range.clone(), at("\"node\"")));
        if let Some((range, place)) = &engine {
            finding.evidence.push(Evidence::speaks_for(
                place.clone(),
                range,
                "versions of Node that will do",
            ));
        }
        let constraint = configured_constraint(options).or(engine);
        finding.runtime = Some(RuntimeWish { runtime: "node", constraint, for_app: true });
        if let Some(lock) = read_lock(tree)? {
            let packages = lock.for_image(&Place::new(LOCKFILE, None))?;
            let development = lock.count() - packages.len();
            let counts = format!("{} packages, {development} of them for development", lock.count());
            finding.evidence.push(Evidence::speaks_for(Place::new(LOCKFILE, None), counts, "exact versions"));
            finding.lock =
                Some(LockFound { file: LOCKFILE.to_owned(), packages: packages.len(), development });
        }
        finding.processes.extend(web_process(tree, &text, &manifest, &mut finding.evidence));
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
        let packages = lock.for_image(&Place::new(LOCKFILE, None))?;
        if packages.is_empty() {
            return Ok(contribution);
        }
        let work = NodePackages::new(packages, context.addresses.clone());
        let inputs = vec![work.input()];
        contribution.steps.push(Step {
            name: "node packages".to_owned(),
            role: Role::Dependencies,
            inputs,
            work: Box::new(work),
        });
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
    Some(ProcessType {
        name: "web".to_owned(),
        kind: ProcessKind::Process,
        command,
        port: None,
        health: None,
        memory: None,
        instances: None,
        before: None,
        said: place,
    })
}
