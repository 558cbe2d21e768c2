//! PHP: surveyed and checked; building comes later.

use super::Buildpack;
use crate::config::BuildpackOptions;
use crate::error::{BuildError, Place, Result};
use crate::source::SourceTree;
use crate::survey::{
    Claim, Evidence, Finding, LockFound, ProcessKind, ProcessType, RuntimeWish, configured_constraint,
    first_present,
};
use serde::Deserialize;
use std::collections::BTreeMap;

const MANIFEST: &str = "composer.json";
const LOCKFILE: &str = "composer.lock";
/// Folders that pages are served from, in the order in which they are looked for.
const DOCROOTS: [&str; 4] = ["public", "web", "html", ""];

/// The buildpack.
pub struct Php;

#[derive(Default, Deserialize)]
#[serde(default)]
struct Manifest {
    require: BTreeMap<String, String>,
    config: Config,
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct Config {
    platform: BTreeMap<String, serde_json::Value>,
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct Lock {
    packages: Vec<serde_json::Value>,
    #[serde(rename = "packages-dev")]
    packages_dev: Vec<serde_json::Value>,
}

impl Buildpack for Php {
    fn name(&self) -> &'static str {
        "php"
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let candidates = [MANIFEST, "index.php", "public/index.php", "web/index.php"];
        let mut finding = Finding::nothing(self.name(), candidates.to_vec());
        let Some(seen) = first_present(tree, &candidates) else { return Ok(finding) };
        finding.claim = Claim::Whole;
        finding.evidence.push(Evidence::speaks_for(Place::new(seen, None), "present", "an app for PHP"));
        let said = said_versions(tree)?;
        for (version, place) in &said {
            finding.evidence.push(Evidence::speaks_for(
                place.clone(),
                version,
                "versions of PHP that will do",
            ));
        }
        finding.runtime = Some(RuntimeWish::of("php", configured_constraint(options), said));
        if let Some(text) = tree.read(LOCKFILE)? {
            let lock: Lock = parse(LOCKFILE, &text)?;
            let (packages, development) = (lock.packages.len(), lock.packages_dev.len());
            let counts =
                format!("{} packages, {development} of them for development", packages + development);
            finding.evidence.push(Evidence::speaks_for(Place::new(LOCKFILE, None), counts, "exact versions"));
            finding.lock = Some(LockFound { file: LOCKFILE.to_owned(), packages, development });
        }
        processes(tree, options, &mut finding);
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        super::loosely_accepts(constraint, version)
    }

    fn builds(&self) -> bool {
        false
    }
}

fn parse<T: serde::de::DeserializeOwned>(file: &str, text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|e| BuildError::Malformed {
        place: Place::new(file, u32::try_from(e.line()).ok()),
        detail: e.to_string(),
    })
}

fn said_versions(tree: &SourceTree) -> Result<Vec<(String, Place)>> {
    let Some(text) = tree.read(MANIFEST)? else { return Ok(Vec::new()) };
    let manifest: Manifest = parse(MANIFEST, &text)?;
    let mut said = Vec::new();
    if let Some(range) = manifest.require.get("php") {
        said.push((range.clone(), Place::find(MANIFEST, &text, "\"php\"")));
    }
    if let Some(serde_json::Value::String(version)) = manifest.config.platform.get("php") {
        let line = text.lines().enumerate().filter(|(_, l)| l.contains("\"php\"")).last();
        said.push((version.clone(), Place::new(MANIFEST, line.and_then(|(n, _)| u32::try_from(n + 1).ok()))));
    }
    Ok(said)
}

fn processes(tree: &SourceTree, options: &BuildpackOptions, finding: &mut Finding) {
    let index =
        |root: &str| if root.is_empty() { "index.php".to_owned() } else { format!("{root}/index.php") };
    let configured = options.docroot.as_deref().map(|d| d.trim_matches('/'));
    let root = configured.or_else(|| DOCROOTS.into_iter().find(|r| tree.has(&index(r))));
    if let Some(root) = root {
        let said = Place::new(index(root), None);
        finding.evidence.push(Evidence::speaks_for(
            said.clone(),
            "present",
            "pages are served from its folder",
        ));
        let folder = if root.is_empty() { "." } else { root };
        let command = ["php", "-S", "0.0.0.0:8080", "-t", folder];
        finding.processes.push(ProcessType::found("web", ProcessKind::Process, &command, said));
    }
    if tree.has("artisan") {
        let said = Place::new("artisan", None);
        finding.evidence.push(Evidence::speaks_for(said.clone(), "present", "the framework's own commands"));
        if tree.files().keys().any(|f| f.starts_with("database/migrations/")) {
            let command = ["php", "artisan", "migrate", "--force"];
            finding.processes.push(ProcessType::found("migrate", ProcessKind::Task, &command, said.clone()));
        }
        if tree.files().keys().any(|f| f.starts_with("app/Jobs/")) {
            finding.processes.push(ProcessType::found(
                "worker",
                ProcessKind::Process,
                &["php", "artisan", "queue:work"],
                said,
            ));
        }
    }
}
