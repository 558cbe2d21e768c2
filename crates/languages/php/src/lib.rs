//! PHP, behind a web server.
#![forbid(unsafe_code)]

mod extensions;

use engine::support_files;
use engine::support_files::SupportFile;
use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, LockFound, Place, ProcessKind, ProcessType, Result,
    RuntimeWish, configured_constraint,
};
use model::{OptionSpec, Takes};
use planning::{Buildpack, Context, Contribution, Resolution, first_present};
use serde::Deserialize;
use source::SourceTree;
use std::collections::BTreeMap;

const MANIFEST: &str = "composer.json";
const LOCKFILE: &str = "composer.lock";
/// What a project has when its packages are with it.
const INSTALLED: &str = "vendor/autoload.php";
/// How many requests are answered at once, unless the environment says otherwise.
const WORKERS: &str = "16";
/// The configuration of the web server; see there.
const WEB: &str = include_str!("web.conf");
/// The configuration of FPM, which nothing starts by itself; see there.
const FPM: &str = include_str!("fpm.conf");
/// The configuration of PHP that images need.
const IMAGE: &str = include_str!("image.ini");
/// The program that log lines go through.
const LOG: &str = include_str!("log");
/// Folders that pages are served from, in the order in which they are looked for.
const DOCROOTS: [&str; 7] = ["public", "web", "html", "htdocs", "www", "docroot", ""];

/// The folder with the pages.
const DOCROOT: OptionSpec = OptionSpec::new("docroot", Takes::Text, "The folder with the pages");
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
    fn name(&self) -> &str {
        "php"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![OptionSpec::VERSION, DOCROOT]
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let mut finding = Finding::nothing(
            self.name(),
            vec![MANIFEST, "index.php", "public/index.php", "htdocs/index.php"],
        );
        let pages = |root: &str| {
            format!("{}index.php", if root.is_empty() { String::new() } else { format!("{root}/") })
        };
        let configured = options.text(&DOCROOT.key).map(|root| root.trim_matches('/'));
        let candidates: Vec<String> = std::iter::once(MANIFEST.to_owned())
            .chain(configured.into_iter().chain(DOCROOTS).map(pages))
            .collect();
        let candidates: Vec<&str> = candidates.iter().map(String::as_str).collect();
        let Some(seen) = first_present(tree, &candidates) else { return Ok(finding) };
        finding.claim = Claim::Whole;
        finding.evidence.push(Evidence::speaks_for(Place::new(seen, None), "present", "an app for PHP"));
        let text = tree.read(MANIFEST)?;
        let manifest: Manifest = text.as_deref().map(|t| parse(MANIFEST, t)).transpose()?.unwrap_or_default();
        let text = text.unwrap_or_default();
        let said = said_versions(&manifest, &text);
        for (version, place) in &said {
            finding.evidence.push(Evidence::speaks_for(
                place.clone(),
                version,
                "versions of PHP that will do",
            ));
        }
        let mut wish = RuntimeWish::of("php", configured_constraint(options), said);
        wish.parts = wanted_parts(&manifest, &text);
        for (part, place) in &wish.parts {
            finding.evidence.push(Evidence::speaks_for(place.clone(), part, "an extension of PHP"));
        }
        finding.runtime = Some(wish);
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
        planning::loosely_accepts(constraint, version)
    }

    fn contribute(&self, context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        if let Some(text) = context.tree.read(LOCKFILE)? {
            let lock: Lock = parse(LOCKFILE, &text)?;
            let installed = context.tree.has(INSTALLED) || context.build_command.is_some();
            if !lock.packages.is_empty() && !installed {
                return Err(Error::Survey(SurveyError::Unsupported {
                    place: Place::new(LOCKFILE, None),
                    what: "installing packages of PHP".to_owned(),
                    instead: "install them before, and take them in: in shtetl.toml, under [source]: include = [\"vendor/**\"]",
                }));
            }
        }
        let version = &context.runtime()?.version;
        let series = version.match_indices('.').nth(1).map_or(version.as_str(), |(at, _)| &version[..at]);
        let file = |path, text: &str, executable| SupportFile { path, text: text.to_owned(), executable };
        let files = vec![
            file("opt/php/fpm.conf", FPM, false),
            file("opt/php/image.ini", IMAGE, false),
            file("opt/php/log", LOG, true),
            file("opt/php/web.conf", &WEB.replace("SERIES", series), false),
        ];
        Ok(Contribution {
            path: vec![context.runtime()?.bin_folder.clone(), "/usr/sbin".to_owned()],
            env: vec![
                ("LANG", "C.UTF-8".to_owned()),
                // After the usual folder, which the empty name stands for, ours is read.
                ("PHP_INI_SCAN_DIR", ":/opt/php".to_owned()),
                ("PHP_WORKERS", WORKERS.to_owned()),
            ],
            steps: vec![support_files::step("web server", files)],
            ..Contribution::default()
        })
    }
}

fn parse<T: serde::de::DeserializeOwned>(file: &str, text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|e| {
        Error::Survey(SurveyError::Malformed {
            place: Place::new(file, u32::try_from(e.line()).ok()),
            detail: e.to_string(),
        })
    })
}

/// The parts of the runtime that the manifest asks for.
fn wanted_parts(manifest: &Manifest, text: &str) -> Vec<(String, Place)> {
    let names = manifest.require.keys().filter_map(|name| name.strip_prefix("ext-"));
    let part = |name: &str| {
        let place = Place::find(MANIFEST, text, &format!("\"ext-{name}\""));
        extensions::part(name).map(|part| (part, place))
    };
    names.filter_map(part).collect()
}

fn said_versions(manifest: &Manifest, text: &str) -> Vec<(String, Place)> {
    let mut said = Vec::new();
    if let Some(range) = manifest.require.get("php") {
        said.push((range.clone(), Place::find(MANIFEST, text, "\"php\"")));
    }
    if let Some(serde_json::Value::String(version)) = manifest.config.platform.get("php") {
        let line = text.lines().enumerate().filter(|(_, l)| l.contains("\"php\"")).last();
        said.push((version.clone(), Place::new(MANIFEST, line.and_then(|(n, _)| u32::try_from(n + 1).ok()))));
    }
    said
}

fn processes(tree: &SourceTree, options: &BuildpackOptions, finding: &mut Finding) {
    let index =
        |root: &str| if root.is_empty() { "index.php".to_owned() } else { format!("{root}/index.php") };
    let configured = options.text(&DOCROOT.key).map(|d| d.trim_matches('/'));
    let root = configured.or_else(|| DOCROOTS.into_iter().find(|r| tree.has(&index(r))));
    if let Some(root) = root {
        let said = Place::new(index(root), None);
        finding.evidence.push(Evidence::speaks_for(
            said.clone(),
            "present",
            "pages are served from its folder",
        ));
        let folder = if root.is_empty() { "/app".to_owned() } else { format!("/app/{root}") };
        let pages = format!("DocumentRoot {folder}");
        let command = ["apache2", "-D", "FOREGROUND", "-f", "/opt/php/web.conf", "-c", &pages];
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
