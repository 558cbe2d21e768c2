//! Rules of runtimes.

use crate::check::{Found, Subject, error, warning};
use bases::catalogue;
use bases::debian::{SUITES, Suite};
use model::error::BaseError;
use model::{Error, Finding, Result, RuntimeWish};
use planning::Buildpack;

pub(super) fn unmet(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = impossible(subject);
    found.extend(match subject.planned {
        Err(Error::Base(BaseError::RuntimeMismatch { runtime, found, origin, wanted, place })) => {
            let what = format!("{runtime} {wanted} is required, but the base {origin} has {found}");
            let accepts = |version: &str| {
                let buildpack = subject.app.buildpacks.named(runtime)?;
                buildpack.accepts(wanted, version)
            };
            let advice = match bases_with(runtime, |version| accepts(version) == Some(true)) {
                Some(bases) => bases,
                None if origin == "host" => format!("install a matching {runtime}, or change the constraint"),
                None => format!("{}, or change the constraint", image_with(runtime)),
            };
            vec![error(place.clone(), what, advice)]
        }
        Err(Error::Base(BaseError::RuntimeNotInBase { runtime, base })) => {
            let what = format!("the base {base} has no {runtime}");
            vec![error(None, what, bases_with(runtime, |_| true).unwrap_or_else(|| image_with(runtime)))]
        }
        Err(Error::Base(BaseError::RuntimeMissing { runtime, .. })) => {
            let what = format!("the base `host` takes {runtime} from this machine, which has none");
            vec![error(None, what, format!("install {runtime}"))]
        }
        _ => Vec::new(),
    });
    Ok(found)
}

/// The line that names the bases with a suitable version of a runtime.
fn bases_with(runtime: &str, will_do: impl Fn(&str) -> bool) -> Option<String> {
    let of_suite = |suite: &Suite| {
        let own = suite.runtimes.iter().find(|own| own.name == runtime && will_do(own.version))?;
        Some(format!("\"debian:{}\" ({runtime} {})", suite.name, own.version))
    };
    let all: Vec<String> = SUITES.iter().filter_map(of_suite).collect();
    (!all.is_empty()).then(|| format!("in shtetl.toml, under [base]: from = {}", all.join(", or ")))
}

fn image_with(runtime: &str) -> String {
    format!("in shtetl.toml, under [base]: from = \"oci:REFERENCE\" of an image that has such a {runtime}")
}

/// The runtimes that the chosen buildpacks want.
fn wishes<'s>(subject: &'s Subject<'_>) -> impl Iterator<Item = (&'s RuntimeWish, &'s dyn Buildpack)> {
    let of = |finding: &'s Finding| {
        Some((finding.runtime.as_ref()?, subject.app.buildpacks.named(&finding.buildpack)?))
    };
    subject.survey.chosen_findings().filter_map(of)
}

/// How many series beyond the newest known one there may be before this program knows of them.
const SERIES_AHEAD: u64 = 6;

/// A version of Node that no registry can have.
fn impossible(subject: &Subject<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    for (wish, buildpack) in wishes(subject).filter(|(wish, _)| wish.runtime == "node") {
        let Some((wanted, place)) = &wish.constraint else { continue };
        let newest = catalogue::newest_series("node").unwrap_or_default();
        let numbers = wanted.split(|c: char| !c.is_ascii_digit() && c != '.');
        let series = numbers.filter_map(|number| number.split('.').next()?.parse::<u64>().ok());
        let named: Vec<u64> = series.filter(|series| *series <= newest + SERIES_AHEAD).collect();
        let is_met = |series: u64| buildpack.accepts(wanted, &format!("{series}.999.0")) == Some(true);
        if named.is_empty() && !(0..=newest + SERIES_AHEAD).any(is_met) {
            let what = format!(
                "node {wanted} is required but does not exist: {newest} is the newest supported series"
            );
            found.push(error(place.clone(), what, format!("use an existing version, as in \"{newest}\"")));
        }
    }
    found
}

/// Locked packages that want a newer runtime than the image gets.
pub(super) fn older_than_wanted(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Ok(planned) = subject.planned else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    for (wish, buildpack) in wishes(subject) {
        let in_use = planned.runtimes.iter().chain(&planned.tools).find(|one| one.name == wish.runtime);
        let Some(in_use) = in_use else { continue };
        let meets = |range: &str, version: &str| buildpack.accepts(range, version) == Some(true);
        let newer = catalogue::supported(&wish.runtime, subject.app.now);
        // Ranges that end before this version are of packages that nobody looked at again.
        let wants_newer = |(range, _): &&(String, String)| {
            !meets(range, &in_use.version)
                && newer.iter().any(|series| meets(range, &format!("{series}.999.0")))
        };
        let unmet: Vec<_> = wish.of_packages.iter().filter(wants_newer).collect();
        let Some((range, package)) = unmet.first() else { continue };
        let series = in_use.version.split('.').next().unwrap_or_default();
        let what = format!("the image gets {} {series}, but {package} requires {range}", wish.runtime);
        let place = wish.constraint.as_ref().map(|(_, place)| place.clone());
        let advice = format!("in shtetl.toml, under [buildpacks.{}]: version = {range:?}", buildpack.name());
        found.push(warning(place, what, advice));
    }
    Ok(found)
}

/// An exact version in one place that the range in another place does not admit.
pub(super) fn contradiction(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    for (wish, buildpack) in wishes(subject) {
        let said: Vec<_> = wish.constraint.iter().chain(&wish.also_said).collect();
        for (number, (one, here)) in said.iter().enumerate() {
            for (other, there) in said.iter().skip(number + 1) {
                let admits = |range: &str, exact: &str| {
                    let numbers = exact.chars().all(|c| c.is_ascii_digit() || c == '.');
                    let whole = exact.matches('.').count() == 2;
                    (numbers && whole).then(|| buildpack.accepts(range, exact)).flatten()
                };
                if admits(one, other) == Some(false) || admits(other, one) == Some(false) {
                    let line = there.line.map_or(String::new(), |l| format!(" line {l}"));
                    let what = format!(
                        "{} {one} is required here, but {other} in {}{line}",
                        wish.runtime, there.file
                    );
                    found.push(warning(
                        here.clone(),
                        what,
                        "make them agree; until then, the first one is used",
                    ));
                }
            }
        }
    }
    Ok(found)
}

/// Runtimes that their makers no longer support. What this machine has is its owner's own affair.
pub(super) fn unsupported(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Ok(planned) = subject.planned else { return Ok(Vec::new()) };
    let now = subject.app.now;
    let past = planned.runtimes.iter().filter(|runtime| runtime.origin != "host").filter_map(|runtime| {
        let last = catalogue::unsupported_since(&runtime.name, &runtime.version, now)?;
        let what = format!("{} {} reached its end of support on {last}", runtime.name, runtime.version);
        // Every series of Node can be had; of others, what bases have.
        let newest =
            catalogue::supported(&runtime.name, now).into_iter().next().filter(|_| runtime.name == "node");
        let bases =
            || bases_with(&runtime.name, |version| catalogue::is_supported(&runtime.name, version, now));
        let wanted = wishes(subject).find(|(wish, _)| wish.runtime == runtime.name);
        let wanted = wanted
            .and_then(|(wish, _)| wish.constraint.clone())
            .map(|(range, place)| format!("; {place} says {range} and has to allow it"));
        let advice = match newest {
            Some(series) => format!("in shtetl.toml, under [buildpacks.node]: version = {series:?}"),
            None => format!(
                "{}{}",
                bases().unwrap_or_else(|| image_with(&runtime.name)),
                wanted.unwrap_or_default()
            ),
        };
        Some(warning(None, what, advice))
    });
    Ok(past.collect())
}
