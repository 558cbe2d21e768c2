//! Rules of settings.

use crate::check::imports::reached_files;
use crate::check::{Found, Subject, error, warning};
use crate::survey::{looks_needed, looks_secret};
use model::{Place, Result};

/// Where a setting is declared, whichever of its keys comes first.
fn place_of(subject: &Subject<'_>, name: &str) -> Option<Place> {
    let prefix = format!("settings.{name}.");
    let mut said = subject.app.origins.iter().filter(|(key, _)| key.starts_with(&prefix));
    said.next().map(|(_, origin)| origin.place.clone())
}

pub(super) fn undeclared(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    let reached = reached_files(subject);
    // Where the way from the start can be followed, only what lies on it counts.
    let is_script = |file: &str| [".js", ".mjs", ".cjs"].iter().any(|ending| file.ends_with(ending));
    let is_on_way = |place: &Place| {
        reached.as_ref().is_none_or(|files| !is_script(&place.file) || files.contains(&place.file))
    };
    for (name, read) in &subject.survey.reads {
        if !std::iter::once(&read.place).chain(&read.also).any(is_on_way) {
            continue;
        }
        if read.is_optional() || subject.survey.settings.contains_key(name) {
            continue;
        }
        let rule =
            if read.looks_secret { "{ required = true, secret = true }" } else { "{ required = true }" };
        let advice = format!("in shtetl.toml, under [settings]: {name} = {rule}");
        let place = read.place.clone();
        if read.fails_without {
            found.push(error(place, format!("the code fails without {name}, which is not declared"), advice));
        } else if looks_needed(name) {
            found.push(warning(
                place,
                format!("{name} is read without a default and is not declared"),
                advice,
            ));
        }
    }
    Ok(found)
}

pub(super) fn reserved(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let advice = |name: &str| match name {
        "PORT" => "in [process.web]: port = N".to_owned(),
        _ => "leave it out".to_owned(),
    };
    let named = subject.survey.settings.keys().filter(|n| matches!(n.as_str(), "PORT" | "PATH" | "HOME"));
    Ok(named
        .map(|name| error(place_of(subject, name), format!("shtetl itself sets {name}"), advice(name)))
        .collect())
}

/// Names that tools read while something is built, and the key that means it here.
const BUILD_PARAMETERS: [(&str, &str); 6] = [
    ("NODE_VERSION", "[buildpacks.node]: version"),
    ("PYTHON_VERSION", "[buildpacks.python]: version"),
    ("RUBY_VERSION", "[buildpacks.ruby]: version"),
    ("PHP_VERSION", "[buildpacks.php]: version"),
    ("NPM_CONFIG_REGISTRY", "[addresses]: npm"),
    ("PIP_INDEX_URL", "[addresses]: pypi"),
];

pub(super) fn misplaced(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let named = |name: &&String| BUILD_PARAMETERS.iter().find(|(n, _)| n.eq_ignore_ascii_case(name));
    let settings = subject.survey.settings.keys().filter_map(|name| Some((name, named(&name)?.1)));
    Ok(settings
        .map(|(name, key)| {
            let what =
                format!("{name} is a build parameter, but settings are known only when the app starts");
            warning(place_of(subject, name), what, format!("use {key} instead"))
        })
        .collect())
}

pub(super) fn secret(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let plain = subject.survey.settings.iter().filter(|(name, rule)| {
        let told = rule.value.as_deref().is_some_and(|v| !v.is_empty());
        told && !rule.secret && looks_secret(name)
    });
    Ok(plain
        .map(|(name, _)| {
            let what = format!("{name} looks like a secret, and this file contains its value");
            let advice = format!(
                "{name} = {{ required = true, secret = true }}, and give the value when the app is started"
            );
            error(place_of(subject, name), what, advice)
        })
        .collect())
}
