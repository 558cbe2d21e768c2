//! Rules of declared and locked packages.

use crate::check::packages::Installed;
use crate::check::{Found, Subject, error, warning};
use crate::shared_libraries;
use config::pins::Pins;
use model::dev_packages::{SYSTEM_NEEDS, SystemNeed, library_packages};
use model::error::PackageError;
use model::{Error, Finding, Place, Result, Role, Sign, Withdrawn};
use std::collections::BTreeSet;

/// Manifest, lockfile, and how to make it, by buildpack.
const LOCKS: [(&str, &str, &str, &str); 3] = [
    ("node", "package.json", "package-lock.json", "`npm install --package-lock-only`"),
    ("ruby", "Gemfile", "Gemfile.lock", "`bundle lock`"),
    ("php", "composer.json", "composer.lock", "`composer update --no-install`"),
];

pub(super) fn missing(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    for (buildpack, manifest, lockfile, how) in LOCKS {
        let Some(finding) = subject.survey.chosen_findings().find(|f| f.buildpack == buildpack) else {
            continue;
        };
        let declares = !finding.declared.is_empty() || buildpack == "php" && declares_for_php(subject)?;
        let other_lock = lockfiles(subject, buildpack).next().is_some();
        if declares && subject.tree.has(manifest) && !subject.tree.has(lockfile) && !other_lock {
            let what = format!("packages are declared, but there is no {lockfile}");
            let advice = format!("run {how} and commit {lockfile}");
            if !is_resolved(subject, buildpack)? {
                let advice =
                    format!("{advice}; until then, a build resolves them and pins them in shtetl.lock");
                found.push(warning(Place::new(manifest, None), what, advice));
            }
        }
    }
    for finding in subject.survey.chosen_findings().filter(|f| f.buildpack == "python") {
        let unlocked = finding.lock.is_none() && !finding.declared.is_empty();
        if let Some(place) =
            finding.evidence.iter().find(|e| e.sign == Some(Sign::Refused)).filter(|_| unlocked)
        {
            let what = format!("the packages cannot be read: {}", place.value);
            found.push(error(place.place.clone(), what, "declare the packages in another way"));
        } else if let Some(file) = unread_requirements(subject, finding) {
            let what = "these requirements are not used: none of their packages are in the image";
            let advice = format!("in shtetl.toml, under [buildpacks.python]: requirements = [{file:?}]");
            found.push(warning(Place::new(file, None), what, advice));
        } else if unlocked && !is_resolved(subject, "python")? {
            let manifest = finding.evidence.first().map_or("pyproject.toml", |e| e.place.file.as_str());
            let what = "packages are declared without exact versions and hashes";
            let advice =
                "a build resolves them and pins them in shtetl.lock: commit that file, or a lockfile";
            found.push(warning(Place::new(manifest, None), what, advice));
        }
    }
    Ok(found)
}

/// The lockfiles of a buildpack that the source has, the strongest first.
fn lockfiles(subject: &Subject<'_>, buildpack: &str) -> impl Iterator<Item = &'static str> {
    let all =
        subject.app.buildpacks.named(buildpack).map(|buildpack| buildpack.lockfiles()).unwrap_or_default();
    all.into_iter().filter(|file| subject.tree.has(file))
}

/// A file of requirements under a name of its own, where the app says no packages otherwise.
fn unread_requirements<'s>(subject: &'s Subject<'_>, finding: &Finding) -> Option<&'s str> {
    if finding.lock.is_some() || !finding.declared.is_empty() || subject.tree.has("requirements.txt") {
        return None;
    }
    let is_meant = |path: &&str| {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let named = name.contains("requirements") && !name.contains("dev") && !name.contains("test");
        name.ends_with(".txt") && (folder == "requirements" || folder.is_empty() && named)
    };
    let mut all: Vec<&str> = subject.tree.files().keys().map(String::as_str).filter(is_meant).collect();
    // What is for the live app, goes before what is for all.
    all.sort_by_key(|path| !path.contains("prod"));
    all.first().copied().filter(|_| {
        subject.app.config.buildpacks.get("python").is_none_or(|o| o.texts("requirements").is_empty())
    })
}

/// Whether `shtetl.lock` says the packages of a language.
fn is_resolved(subject: &Subject<'_>, language: &str) -> Result<bool> {
    let pins = Pins::read(&subject.app.opened.config_folder())?;
    Ok(pins.is_some_and(|pins| pins.resolved.contains_key(language)))
}

fn declares_for_php(subject: &Subject<'_>) -> Result<bool> {
    Ok(!required_by_php(subject)?.is_empty())
}

/// Packages that composer.json requires; what has no slash is the runtime or a part of it.
fn required_by_php(subject: &Subject<'_>) -> Result<Vec<String>> {
    let text = subject.tree.read("composer.json")?.unwrap_or_default();
    let document: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
    let required = document.get("require").and_then(|r| r.as_object());
    Ok(required.into_iter().flat_map(|r| r.keys()).filter(|name| name.contains('/')).cloned().collect())
}

pub(super) fn stale(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    if let Err(Error::Package(PackageError::LockMismatch { lockfile, detail, how })) = subject.planned {
        found.push(error(Place::new(lockfile.as_str(), None), detail.as_str(), *how));
    }
    for finding in subject.survey.chosen_findings() {
        let mut several = lockfiles(subject, &finding.buildpack);
        if let (Some(read), Some(other)) = (several.next(), several.next()) {
            let what = format!("{other} is ignored, because {read} exists too");
            found.push(warning(Place::new(other, None), what, "remove the one that is out of date"));
        }
        let (manifest, lockfile, how, declared) = match finding.buildpack.as_str() {
            "go" => ("go.mod", "go.sum", "`go mod tidy`", required_by_go(subject)?),
            _ => continue,
        };
        let Some(lock) = subject.tree.read(lockfile)? else { continue };
        for package in declared.iter().filter(|package| !names(&lock, package)) {
            let what = format!("{manifest} declares {package}, which is missing from {lockfile}");
            found.push(error(Place::new(lockfile, None), what, format!("run {how} and commit the result")));
        }
    }
    Ok(found)
}

/// Modules that go.mod requires, each with its version.
fn required_by_go(subject: &Subject<'_>) -> Result<Vec<String>> {
    let text = subject.tree.read("go.mod")?.unwrap_or_default();
    let requirement = |line: &str| {
        let line = line.trim_start().trim_start_matches("require ");
        let mut words = line.split_whitespace();
        let (module, version) = (words.next()?, words.next()?);
        (module.contains('.') && version.starts_with('v')).then(|| format!("{module} {version}"))
    };
    // A module that is replaced is locked under another name.
    let replaced = text.contains("=>");
    Ok(if replaced { Vec::new() } else { text.lines().filter_map(requirement).collect() })
}

/// Whether a lockfile has a line that begins with `package`, quoted or not.
fn names(lock: &str, package: &str) -> bool {
    lock.lines().any(|line| {
        let line = line.trim_start().trim_start_matches("\"name\": ").trim_start_matches('"');
        line.strip_prefix(package)
            .is_some_and(|rest| !rest.starts_with(|c: char| c.is_alphanumeric() || c == '-' || c == '_'))
    })
}

pub(super) fn withdrawn(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Ok(planned) = subject.planned else { return Ok(Vec::new()) };
    // Modules of Go are only in the root that compiles them.
    let roots = planned.steps.iter().filter(|step| step.role == Role::Built).flat_map(|step| &step.root);
    let steps = planned.steps.iter().chain(roots).flat_map(|step| step.action.withdrawn(subject.tools));
    let all: BTreeSet<Withdrawn> = steps.collect();
    Ok(all
        .into_iter()
        .map(|w| {
            let place = Place::new(w.lockfile, None);
            let what = format!("{}: {}", w.package, w.reason);
            if w.gone {
                error(place, what, "lock another version, or configure a registry that still has it")
            } else {
                warning(place, what, "lock another version")
            }
        })
        .collect())
}

pub(super) fn system_library(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    let config = &subject.app.config;
    let on_debian = subject.survey.base.0.starts_with("debian:");
    for (need, place) in system_needs(subject) {
        let SystemNeed { package, library, run, .. } = need;
        let lacking =
            lacking(run, &there(&config.base_packages, subject, |finding| &finding.system_packages));
        if on_debian && lacking.is_empty() {
            continue;
        }
        let what = format!("{package} loads {library} (Debian: {run}), which the base does not have");
        let advice = if on_debian {
            format!("in shtetl.toml, under [base]: packages = {lacking:?}")
        } else {
            "use a package that bundles the library, if there is one, or a Debian base".to_owned()
        };
        found.push(warning(place, what, advice));
    }
    Ok(found)
}

pub(super) fn build_package(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Ok(planned) = subject.planned else { return Ok(Vec::new()) };
    let is_built = |package: &str| planned.steps.iter().any(|step| step.compiles.as_deref() == Some(package));
    let mut found = Vec::new();
    for (SystemNeed { package, build, .. }, place) in system_needs(subject) {
        let configured = &subject.app.config.build_packages;
        let lacking = lacking(build, &there(configured, subject, |finding| &finding.build_packages));
        if !lacking.is_empty() && is_built(package) {
            let what = format!("{package} has to be built from source, which needs {build}");
            let advice = format!("in shtetl.toml, under [base]: build-packages = {lacking:?}");
            found.push(error(place, what, advice));
        }
    }
    Ok(found)
}

/// What the last image lacked; what packages bring that were named since then counts as there.
pub(super) fn libraries(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let configured = &subject.app.config.base_packages;
    let is_named = |library: &String| {
        let packages = library_packages(library);
        !packages.is_empty() && packages.iter().all(|name| configured.iter().any(|known| known == name))
    };
    let mut missing = subject.app.missing_libraries.clone();
    missing.retain(|library, _| !is_named(library));
    let Some(what) = shared_libraries::told(&missing) else { return Ok(Vec::new()) };
    let advice = shared_libraries::advice(&missing).unwrap_or_else(|| {
        "add the Debian packages that contain them, in shtetl.toml, under [base]: packages".to_owned()
    });
    Ok(vec![warning(None, format!("found by the last build: {what}"), advice)])
}

/// What is configured, and what buildpacks add by themselves.
fn there(configured: &[String], subject: &Subject<'_>, of: fn(&Finding) -> &Vec<String>) -> Vec<String> {
    configured.iter().chain(subject.survey.chosen_findings().flat_map(of)).cloned().collect()
}

/// Those of `names`, with spaces between, that are not there.
fn lacking(names: &'static str, there: &[String]) -> Vec<&'static str> {
    names.split_whitespace().filter(|name| !there.iter().any(|known| known == name)).collect()
}

/// What the app's packages need of the system, as far as it is known, and where they are declared.
fn system_needs(subject: &Subject<'_>) -> Vec<(&'static SystemNeed, Option<Place>)> {
    let of = |finding: &Finding| {
        let place = finding.evidence.first().map(|e| e.place.clone());
        let own = SYSTEM_NEEDS.iter().filter(|need| need.buildpack == finding.buildpack);
        let installed = Installed::of(subject, finding);
        // A package beside it may bring the library along; which there are is known once they are settled.
        let brings = |need: &&SystemNeed| {
            need.package == "psycopg"
                && installed.as_ref().is_ok_and(|all| !all.all_names || all.names.contains("psycopg-binary"))
        };
        let declared = own.filter(|need| finding.declared.contains(need.package) && !brings(need));
        declared.map(|need| (need, place.clone())).collect::<Vec<_>>()
    };
    subject.survey.chosen_findings().flat_map(of).collect()
}
