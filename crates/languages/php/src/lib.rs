//! PHP, behind a web server.
#![forbid(unsafe_code)]

mod autoloader;
mod dist;
mod extensions;
mod frameworks;
mod install;
mod lock;
mod offers;
mod resolve;
mod settled;
mod unlocked;
mod version;

use engine::Step;
use engine::support_files::{self, SupportFile};
use frameworks::Framework;
use lock::{LOCKFILE, Lock, MANIFEST, Manifest, parse};
use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Ecosystem, Error, Evidence, Finding, LockFound, OptionSpec, Place, ProcessKind,
    ProcessType, Result, RuntimeWish, Takes, configured_constraint,
};
use planning::{
    Buildpack, Context, Contribution, PlannedPackages, Resolution, Resolving, by_name, first_present,
};
use settled::{Installed, Needed};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};

/// What a project has when its packages are with it.
const INSTALLED: &str = "vendor/autoload.php";
/// The extension that so many packages require that an image has it where no lockfile tells whether one does.
const OF_MOST_PACKAGES: &str = "xml";
/// How many requests are answered at once, unless the environment says otherwise.
const WORKERS: &str = "16";
/// The most that follow from the memory of the process.
const MOST_WORKERS: u64 = 64;
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

/// The folder that holds the index page.
const DOCROOT: OptionSpec = OptionSpec::new("docroot", Takes::Text, "The folder that holds the index page");
/// Further lines of PHP's own configuration.
const INI: OptionSpec =
    OptionSpec::new("ini", Takes::AddedTexts, "Lines of php.ini, for example \"upload_max_filesize = 20M\"");
/// What is loaded before the first request.
const PRELOAD: OptionSpec = OptionSpec::new(
    "preload",
    Takes::Text,
    "A script that loads classes into memory before the first request",
);
/// What a worker may take, and the web server itself, in bytes. Workers of a small Symfony app were seen with 24 MB.
const WORKER_MEMORY: u64 = 48 << 20;
const SERVER_MEMORY: u64 = 64 << 20;

/// The buildpack.
pub struct Php;

impl Buildpack for Php {
    fn name(&self) -> &str {
        "php"
    }

    fn about(&self) -> &str {
        "PHP: packages of composer.lock, behind a web server"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![OptionSpec::VERSION, DOCROOT, INI, PRELOAD]
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
            finding.evidence.push(Evidence::speaks_for(place.clone(), version, "supported PHP versions"));
        }
        let mut wish = RuntimeWish::of("php", configured_constraint(options), said);
        let lock: Lock = lock::read(tree, LOCKFILE)?.unwrap_or_default();
        wish.parts = wanted_parts(&manifest, &text);
        for (part, place) in parts_of_packages(&lock) {
            if !wish.parts.iter().any(|(known, _)| *known == part) {
                wish.parts.push((part, place));
            }
        }
        let is_unlocked = !tree.has(LOCKFILE) && manifest.require.keys().any(|name| name.contains('/'));
        if is_unlocked && !wish.parts.iter().any(|(known, _)| known == OF_MOST_PACKAGES) {
            wish.parts.push((OF_MOST_PACKAGES.to_owned(), Place::new(MANIFEST, None)));
        }
        for (part, place) in &wish.parts {
            finding.evidence.push(Evidence::speaks_for(place.clone(), part, "an extension of PHP"));
        }
        finding.runtime = Some(wish);
        if tree.has(LOCKFILE) {
            let (packages, development) = (lock.packages.len(), lock.packages_dev.len());
            let found = LockFound { file: LOCKFILE.to_owned(), packages, development };
            let place = Place::new(LOCKFILE, None);
            finding.evidence.push(Evidence::speaks_for(place, found.counts(), "exact versions"));
            finding.lock = Some(found);
        }
        processes(tree, options, &mut finding);
        let packages = names_of(&manifest, &lock);
        if let Some(framework) = Framework::of(tree, &packages) {
            framework.apply(tree, &packages, &mut finding);
        }
        finding.locked = packages;
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        planning::loosely_accepts(constraint, version)
    }

    fn keep_within_memory(&self, process: &mut ProcessType) {
        let is_server = process.command.first().is_some_and(|program| program == "apache2");
        if let Some(memory) = process.memory.filter(|_| is_server) {
            let workers = (memory.saturating_sub(SERVER_MEMORY) / WORKER_MEMORY).clamp(1, MOST_WORKERS);
            process.env.entry("PHP_WORKERS".to_owned()).or_insert_with(|| workers.to_string());
        }
    }

    fn ecosystems(&self) -> Vec<Ecosystem> {
        vec![Ecosystem::COMPOSER]
    }

    fn lockfiles(&self) -> Vec<&'static str> {
        vec![LOCKFILE]
    }

    fn resolve(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        settled::settle(context, resolving)
    }

    fn resolve_for_build(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        settled::settle(context, resolving)
    }

    fn contribute_for_build(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let (mut steps, compiling) = packages(context, resolution)?;
        for step in &mut steps {
            step.name = format!("{} to build the app", step.name);
        }
        let package_folders = resolution.settled::<Needed>().map(|needed| vec![needed.vendor.clone()]);
        let package_folders = package_folders.unwrap_or_default();
        Ok(Contribution { steps, compiling, package_folders, ..Contribution::default() })
    }

    fn contribute(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let (mut steps, compiling) = packages(context, resolution)?;
        let version = &context.runtime()?.version;
        let series = version.match_indices('.').nth(1).map_or(version.as_str(), |(at, _)| &version[..at]);
        let file = |path, text: &str, executable| SupportFile { path, text: text.to_owned(), executable };
        let files = vec![
            file("opt/php/fpm.conf", FPM, false),
            file("opt/php/image.ini", &ini(context.options)?, false),
            file("opt/php/log", LOG, true),
            file("opt/php/web.conf", &WEB.replace("SERIES", series), false),
        ];
        steps.push(support_files::step("web server", files));
        let framework = Framework::of(context.tree, &context.finding.locked);
        if let Some(file) = framework.and_then(Framework::file) {
            steps.push(support_files::step("framework settings", vec![file]));
        }
        let variables = framework.map(Framework::variables).unwrap_or_default();
        Ok(Contribution {
            path: vec![context.runtime()?.bin_folder.clone(), "/usr/sbin".to_owned()],
            env: [
                ("LANG", "C.UTF-8".to_owned()),
                // After the usual folder, which the empty name stands for, ours is read.
                ("PHP_INI_SCAN_DIR", ":/opt/php".to_owned()),
                ("PHP_WORKERS", WORKERS.to_owned()),
            ]
            .into_iter()
            .chain(variables)
            .collect(),
            steps,
            compiling,
            packages: planned_packages(resolution),
            ..Contribution::default()
        })
    }
}

/// Name and version of a package, and the names that it needs.
fn named(Installed { package, .. }: &Installed) -> (&str, &str, Vec<&str>) {
    (&package.name, &package.version, package.require.keys().map(String::as_str).collect())
}

/// What is known of the packages before the build.
fn planned_packages(resolution: &Resolution) -> PlannedPackages {
    let packages = resolution.settled::<Needed>().into_iter().flat_map(|needed| &needed.packages);
    by_name("composer", packages.map(named))
}

/// PHP's configuration in the image.
fn ini(options: &BuildpackOptions) -> Result<String> {
    let mut text = IMAGE.to_owned();
    if let Some(file) = options.text(&PRELOAD.key) {
        text.push_str(&format!(
            "opcache.preload = /app/{}\n",
            file.trim_start_matches("./").trim_start_matches('/')
        ));
    }
    for line in options.texts(&INI.key) {
        if !line.contains('=') || line.contains('\n') {
            let place = Place::new(model::files::CONFIG, None);
            let detail = format!("{line:?} is not a line of PHP configuration: NAME = VALUE");
            return Err(Error::Survey(SurveyError::Malformed { place, detail }));
        }
        text.push_str(&format!("{line}\n"));
    }
    Ok(text)
}

/// The steps that put packages down, and the one that writes what loads their classes.
fn packages(context: &Context<'_>, resolution: &Resolution) -> Result<(Vec<Step>, Vec<Step>)> {
    let Some(needed) = resolution.settled::<Needed>() else { return Ok(Default::default()) };
    let autoloader = autoloader::step(needed, context.tree, install::steps(&needed.packages))?;
    Ok((install::steps(&needed.packages), vec![autoloader]))
}

/// The names of packages that the image has.
fn names_of(manifest: &Manifest, lock: &Lock) -> BTreeSet<String> {
    let locked = lock.packages.iter().filter_map(|package| package["name"].as_str().map(str::to_owned));
    locked.chain(manifest.require.keys().filter(|name| name.contains('/')).cloned()).collect()
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

/// The parts of the runtime that locked packages ask for, and the lockfile as a whole.
fn parts_of_packages(lock: &Lock) -> BTreeMap<String, Place> {
    let of_packages = lock.packages.iter().filter_map(|package| package["require"].as_object());
    let all = of_packages.chain(lock.platform.as_object()).flat_map(|required| required.keys());
    let extensions = all.filter_map(|name| name.strip_prefix("ext-"));
    extensions.filter_map(|name| Some((extensions::part(name)?, Place::new(LOCKFILE, None)))).collect()
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
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn workers_follow_the_memory_of_the_web_server_unless_somebody_says_how_many() {
        let workers = |program: &str, memory: Option<u64>, said: Option<&str>| {
            let process =
                ProcessType::found("web", ProcessKind::Process, &[program], Place::new("index.php", None));
            let mut process = ProcessType { memory: memory.map(|mebibytes| mebibytes << 20), ..process };
            process.env.extend(said.map(|said| ("PHP_WORKERS".to_owned(), said.to_owned())));
            Php.keep_within_memory(&mut process);
            process.env.get("PHP_WORKERS").cloned()
        };
        for (memory, expected) in [(32, "1"), (160, "2"), (512, "9"), (64 << 10, "64")] {
            assert_eq!(workers("apache2", Some(memory), None).as_deref(), Some(expected), "{memory} MiB");
        }
        assert_eq!(workers("apache2", Some(512), Some("3")).as_deref(), Some("3"));
        assert_eq!(workers("apache2", None, None), None);
        assert_eq!(workers("php", Some(512), None), None);
    }

    #[test]
    fn lines_of_configuration_are_added_and_checked() {
        let mut options = BuildpackOptions::default();
        options.set(&PRELOAD.key, model::OptionValue::Text("./config/preload.php".to_owned()));
        options.set(&INI.key, model::OptionValue::AddedTexts(vec!["upload_max_filesize = 20M".to_owned()]));
        let text = ini(&options).unwrap();
        assert!(
            text.ends_with("opcache.preload = /app/config/preload.php\nupload_max_filesize = 20M\n"),
            "{text}"
        );
        options.set(&INI.key, model::OptionValue::AddedTexts(vec!["whatever".to_owned()]));
        assert!(ini(&options).is_err());
    }
}
