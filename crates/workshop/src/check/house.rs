//! Rules of the house: what an organisation demands of every app. What only the finished image shows is in
//! [`crate::house`].

use crate::check::{Found, Subject, error};
use bases::catalogue::unsupported_since;
use config::Origin;
use globset::GlobBuilder;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use model::{Place, Result};
use remote::server_in;

const DAY: i64 = 86_400 * 1_000_000_000;

/// The day of a moment, in nanoseconds since 1970.
pub(crate) fn day_of(now: i64) -> Date {
    let now = Timestamp::from_nanosecond(i128::from(now)).unwrap_or(Timestamp::UNIX_EPOCH);
    now.to_zoned(TimeZone::UTC).date()
}

/// Whether a rule holds for the app today.
fn holds(subject: &Subject<'_>, rule: &str) -> bool {
    let app = subject.app;
    app.config.limits.holds(rule, &app.survey.name, day_of(app.now))
}

fn origin<'s>(subject: &'s Subject<'_>, key: &str) -> Option<&'s Origin> {
    subject.app.origins.get(key)
}

fn place(subject: &Subject<'_>, key: &str) -> Option<Place> {
    origin(subject, key).map(|origin| origin.place.clone())
}

/// Who says what is allowed.
fn said(subject: &Subject<'_>, key: &str) -> String {
    place(subject, key).map_or_else(|| "the house rules".to_owned(), |place| place.to_string())
}

/// Whether a text fits one of the patterns.
fn fits(patterns: &[String], text: &str) -> bool {
    let glob = |pattern: &String| GlobBuilder::new(pattern).literal_separator(false).build().ok();
    patterns.iter().filter_map(glob).any(|glob| glob.compile_matcher().is_match(text))
}

pub(super) fn base(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let allowed = &subject.app.config.limits.bases;
    let base = &subject.survey.base.0;
    if allowed.is_empty() || fits(allowed, base) || !holds(subject, "house-base") {
        return Ok(Vec::new());
    }
    let what = format!(
        "the base {base} is not allowed: {} allows {}",
        said(subject, "allow.bases"),
        allowed.join(", ")
    );
    Ok(vec![error(place(subject, "base.from"), what, "in shtetl.toml, under [base]: from = one of these")])
}

pub(super) fn buildpack(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let allowed = &subject.app.config.limits.buildpacks;
    if allowed.is_empty() || !holds(subject, "house-buildpack") {
        return Ok(Vec::new());
    }
    let chosen = subject.survey.chosen_findings().map(|finding| &finding.buildpack);
    let refused = chosen.filter(|name| !allowed.contains(name)).map(|name| {
        let by = said(subject, "allow.buildpacks");
        let what = format!("the buildpack {name} is not allowed: {by} allows {}", allowed.join(", "));
        error(None, what, "ask for an exception: [exception.APP] in the house rules")
    });
    Ok(refused.collect())
}

pub(super) fn registry(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let allowed = &subject.app.config.limits.registries;
    if allowed.is_empty() || !holds(subject, "house-registry") {
        return Ok(Vec::new());
    }
    let by = said(subject, "allow.registries");
    let refused = |server: &str, key: &str| {
        let what = format!("{server} is not allowed: {by} allows {}", allowed.join(", "));
        error(place(subject, key), what, "remove it, so that the house's value applies")
    };
    let mut found = Vec::new();
    let base = subject.survey.base.0.strip_prefix("oci:").and_then(|reference| reference.split('/').next());
    if let Some(server) =
        base.filter(|server| server.contains(['.', ':']) && !subject.app.config.limits.may_use(server))
    {
        found.push(refused(server, "base.from"));
    }
    for (kind, address) in &subject.app.config.addresses {
        if let Some(server) = server_in(address).filter(|server| !subject.app.config.limits.may_use(server)) {
            found.push(refused(server, &format!("addresses.{kind}")));
        }
    }
    Ok(found)
}

pub(super) fn setting(subject: &Subject<'_>) -> Result<Vec<Found>> {
    if !holds(subject, "house-setting") {
        return Ok(Vec::new());
    }
    let wanted = subject.app.config.limits.settings.iter();
    let missing = wanted.filter(|name| !subject.survey.settings.contains_key(*name)).map(|name| {
        let what = format!(
            "the setting {name} is not declared, but {} requires it",
            said(subject, "require.settings")
        );
        error(None, what, format!("in shtetl.toml, under [settings]: {name} = {{ required = true }}"))
    });
    Ok(missing.collect())
}

pub(super) fn support(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(days) = subject.app.config.limits.support_days.filter(|_| holds(subject, "house-support"))
    else {
        return Ok(Vec::new());
    };
    let then = subject.app.now.saturating_add(i64::from(days).saturating_mul(DAY));
    let by = said(subject, "require.support-days");
    let mut found = Vec::new();
    let mut look = |name: &str, version: &str, shown: String| {
        if let Some(until) = unsupported_since(name, version, then) {
            let what = format!("{shown} is supported until {until}, but {by} requires {days} more days");
            found.push(error(
                None,
                what,
                "choose a newer one; `shtetl runtimes` lists the available versions",
            ));
        }
    };
    if let Some(suite) = subject.survey.base.0.strip_prefix("debian:") {
        look("debian", suite, subject.survey.base.0.clone());
    }
    for runtime in subject.planned.iter().flat_map(|planned| &planned.runtimes) {
        look(&runtime.name, &runtime.version, format!("{} {}", runtime.name, runtime.version));
    }
    Ok(found)
}
