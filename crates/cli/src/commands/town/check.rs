//! `town check`: what would break, and what may; equal problems of many apps once.

use super::super::Done;
use super::place::{Planning, at_place};
use super::results::{cause, cause_of_problem, show_causes};
use crate::surroundings::Surroundings;
use remote::Network;
use render::{BAD, GOOD, Output, styled, words};
use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;
use town::apps::TownApp;
use town::results::Cause;
use workshop::check::{Scope, Severity};

pub fn run(apps: &[TownApp], online: bool, surroundings: &Surroundings, output: &Output) -> Done {
    let (network, scope) =
        if online { (Network::Allowed, Scope::All) } else { (Network::Forbidden, Scope::Source) };
    let planning = Planning { network, ..Planning::default() };
    let found = at_place(&planning, surroundings, |place, _| {
        place.each(apps, |app| place.look(app).and_then(|looked| place.problems(&looked, scope)))
    });
    if surroundings.cancel.is_cancelled() {
        return Err(model::Error::Interrupted.into());
    }
    let mut causes = [BTreeMap::<Cause, Vec<&str>>::new(), BTreeMap::new()];
    for (app, found) in apps.iter().zip(found) {
        match found {
            Err(trouble) => causes[0].entry(cause(&trouble)).or_default().push(&app.name),
            Ok(problems) => {
                for problem in &problems {
                    let at = usize::from(problem.severity == Severity::Warning);
                    let apps = causes[at].entry(cause_of_problem(problem)).or_default();
                    if apps.last() != Some(&app.name.as_str()) {
                        apps.push(&app.name);
                    }
                }
            }
        }
    }
    let [breaks, warnings] = causes.map(|causes| {
        let mut causes: Vec<(Cause, Vec<&str>)> = causes.into_iter().collect();
        causes.sort_by_key(|(_, apps)| std::cmp::Reverse(apps.len()));
        causes
    });
    let failing: BTreeSet<&str> = breaks.iter().flat_map(|(_, apps)| apps).copied().collect();
    if output.is_json() {
        let list = |causes: &[(Cause, Vec<&str>)]| {
            causes
                .iter()
                .map(|(cause, apps)| serde_json::json!({ "cause": cause, "apps": apps }))
                .collect::<Vec<_>>()
        };
        output.json(&serde_json::json!({
            "format": "shtetl/town-check/1", "apps": apps.len(), "failing": failing.len(),
            "errors": list(&breaks), "warnings": list(&warnings),
        }));
        return Ok(ExitCode::from(u8::from(!failing.is_empty())));
    }
    let verdict = match failing.len() {
        0 => styled(GOOD, "none will fail"),
        count => styled(BAD, format!("{count} will fail")),
    };
    output.line(format!(
        "{}: {verdict}, {}",
        words::count(apps.len(), "app"),
        words::count(warnings.len(), "warning")
    ));
    show_causes(&breaks, output);
    show_causes(&warnings, output);
    Ok(ExitCode::from(u8::from(!failing.is_empty())))
}
