//! Rules of declared and locked packages.

use super::{Found, Subject, breaks, doubt};
use crate::error::{BuildError, Place, Result};

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
        let other_lock = ["yarn.lock", "pnpm-lock.yaml", "bun.lock", "npm-shrinkwrap.json"]
            .iter()
            .any(|l| subject.tree.has(l));
        if declares && subject.tree.has(manifest) && !subject.tree.has(lockfile) && !other_lock {
            let what = format!("{manifest} declares packages, and there is no {lockfile}");
            found.push(breaks(Place::new(manifest, None), what, format!("run {how} and commit {lockfile}")));
        }
    }
    for finding in subject.survey.chosen_findings().filter(|f| f.buildpack == "python") {
        let unlocked = finding.lock.is_none() && !finding.declared.is_empty();
        if let Some(place) =
            finding.evidence.iter().find(|e| e.tells == "a build will refuse it").filter(|_| unlocked)
        {
            let what = format!("the packages are not locked: {}", place.value);
            found.push(breaks(
                place.place.clone(),
                what,
                "give exact versions with their hashes in requirements.txt",
            ));
        } else if unlocked {
            let what =
                "packages are declared, and there is no requirements.txt with exact versions and hashes";
            found.push(breaks(Place::new("pyproject.toml", None), what, "write and commit it"));
        }
    }
    Ok(found)
}

fn declares_for_php(subject: &Subject<'_>) -> Result<bool> {
    let text = subject.tree.read("composer.json")?.unwrap_or_default();
    let document: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
    let required = document.get("require").and_then(|r| r.as_object());
    Ok(required.is_some_and(|r| r.keys().any(|name| name.contains('/'))))
}

pub(super) fn stale(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    if let Err(BuildError::LockMismatch { lockfile, detail, how }) = subject.planned {
        found.push(breaks(Place::new(lockfile.as_str(), None), detail.as_str(), *how));
    }
    if let Some(ruby) = subject.survey.chosen_findings().find(|f| f.buildpack == "ruby")
        && let Some(lock) = subject.tree.read("Gemfile.lock")?
    {
        let locked = |gem: &str| lock.lines().any(|l| l.trim_start().split([' ', '!']).next() == Some(gem));
        for gem in ruby.declared.iter().filter(|g| !locked(g)) {
            let what = format!("Gemfile declares {gem}, which Gemfile.lock does not have");
            found.push(breaks(
                Place::new("Gemfile.lock", None),
                what,
                "run `bundle lock` and commit the result",
            ));
        }
    }
    Ok(found)
}

/// Packages that load a library of the system, and the Debian package that has it.
const LIBRARIES: [(&str, &str, &str, &str); 7] = [
    ("python", "psycopg2", "libpq.so.5", "libpq5"),
    ("python", "mysqlclient", "libmariadb.so.3", "libmariadb3"),
    ("python", "python-magic", "libmagic.so.1", "libmagic1"),
    ("python", "weasyprint", "libpango-1.0.so.0", "libpango-1.0-0"),
    ("node", "pg-native", "libpq.so.5", "libpq5"),
    ("ruby", "pg", "libpq.so.5", "libpq5"),
    ("ruby", "mysql2", "libmariadb.so.3", "libmariadb3"),
];

pub(super) fn system_library(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    for finding in subject.survey.chosen_findings() {
        for (buildpack, package, library, debian) in LIBRARIES {
            if finding.buildpack == buildpack && finding.declared.contains(package) {
                let place = finding.evidence.first().map(|e| e.place.clone());
                let what =
                    format!("{package} loads {library} (Debian: {debian}), which the base does not have");
                found.push(doubt(place, what, "use a package that brings its own library, if there is one"));
            }
        }
    }
    Ok(found)
}
