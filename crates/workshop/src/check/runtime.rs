//! Rules of runtimes.

use crate::check::{Found, Subject, breaks, doubt};
use bases::catalogue;
use model::error::BaseError;
use model::{Error, Result};

pub(super) fn unmet(subject: &Subject<'_>) -> Result<Vec<Found>> {
    Ok(match subject.planned {
        Err(Error::Base(BaseError::RuntimeMismatch { runtime, found, origin, wanted, place })) => {
            let what = format!("{runtime} {wanted} is wanted, and the base {origin} has {found}");
            let advice = match origin.as_str() {
                "host" => format!("install a fitting {runtime}, or change the constraint"),
                _ => "choose another base in [base] from, or change the constraint".to_owned(),
            };
            vec![breaks(place.clone(), what, advice)]
        }
        Err(Error::Base(BaseError::RuntimeNotInBase { runtime, base })) => {
            let what = format!("the base {base} has no {runtime}");
            vec![breaks(None, what, "choose another base in [base] from")]
        }
        Err(Error::Base(BaseError::RuntimeMissing { runtime, .. })) => {
            let what = format!("the base `host` takes {runtime} from this machine, which has none");
            vec![breaks(None, what, format!("install {runtime}"))]
        }
        _ => Vec::new(),
    })
}

/// An exact version in one place that the range in another place does not admit.
pub(super) fn contradiction(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    for finding in subject.survey.chosen_findings() {
        let (Some(wish), Some(buildpack)) =
            (&finding.runtime, subject.app.buildpacks.named(&finding.buildpack))
        else {
            continue;
        };
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
                    let what =
                        format!("{} {one} is wanted here, and {other} in {}{line}", wish.runtime, there.file);
                    found.push(doubt(here.clone(), what, "make them agree; the first one is used"));
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
        let what = format!("{} {}: its makers supported it until {last}", runtime.name, runtime.version);
        let newest = catalogue::supported(&runtime.name, now).into_iter().next();
        let advice = match newest {
            Some(series) => {
                format!("in shtetl.toml, under [buildpacks.{}]: version = {series:?}", runtime.name)
            }
            None => "choose a newer version".to_owned(),
        };
        Some(doubt(None, what, advice))
    });
    Ok(past.collect())
}
