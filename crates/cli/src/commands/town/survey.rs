//! `town survey`: what each app is.

use super::super::Done;
use super::place::{Planning, at_place};
use super::results::{cause, show_causes};
use crate::surroundings::Surroundings;
use render::table::Table;
use render::{FAINT, Output, STRONG, styled, words};
use std::collections::BTreeMap;
use std::process::ExitCode;
use town::apps::TownApp;
use town::plan::Looked;
use town::results::Cause;

pub fn run(apps: &[TownApp], language: Option<&str>, surroundings: &Surroundings, output: &Output) -> Done {
    let looked =
        at_place(&Planning::default(), surroundings, |place, _| place.each(apps, |app| place.look(app)));
    let mut failed = BTreeMap::<Cause, Vec<&str>>::new();
    let mut found: Vec<Looked> = Vec::new();
    for (app, looked) in apps.iter().zip(looked) {
        match looked {
            Ok(looked) => found.push(looked),
            Err(trouble) => failed.entry(cause(&trouble)).or_default().push(&app.name),
        }
    }
    if surroundings.cancel.is_cancelled() {
        return Err(model::Error::Interrupted.into());
    }
    let is_meant = |looked: &Looked| language.is_none_or(|wanted| languages(looked).contains(&wanted));
    found.retain(is_meant);
    let causes: Vec<(Cause, Vec<&str>)> = failed.into_iter().collect();
    let code = ExitCode::from(u8::from(!causes.is_empty()));
    if output.is_json() {
        let surveys: Vec<_> = found
            .iter()
            .map(|looked| serde_json::json!({ "app": looked.place.name, "survey": looked.app.survey }))
            .collect();
        let causes: Vec<_> =
            causes.iter().map(|(cause, apps)| serde_json::json!({ "cause": cause, "apps": apps })).collect();
        output.json(
            &serde_json::json!({ "format": "shtetl/town-survey/1", "apps": surveys, "failures": causes }),
        );
        return Ok(code);
    }
    let mut table = Table::new(&[]);
    table.row(["app", "language", "runtimes", "base", "process types"].map(|heading| styled(FAINT, heading)));
    for looked in &found {
        let survey = &looked.app.survey;
        let runtimes: Vec<String> = survey
            .chosen_findings()
            .filter_map(|finding| finding.runtime.as_ref())
            .map(|wish| match &wish.constraint {
                Some((text, _)) => format!("{} {text}", wish.runtime),
                None => wish.runtime.clone(),
            })
            .collect();
        let processes: Vec<&str> = survey.processes.iter().map(|process| process.name.as_str()).collect();
        table.row([
            styled(STRONG, &looked.place.name),
            languages(looked).join(" + "),
            runtimes.join(", "),
            survey.base.0.clone(),
            processes.join(", "),
        ]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    output.line("");
    output.line(format!("{}: {}", words::count(found.len(), "app"), by_language(&found)));
    show_causes(&causes, output);
    Ok(code)
}

/// The buildpacks that an app is made of, the main one first.
fn languages(looked: &Looked) -> Vec<&str> {
    looked.app.survey.chosen_findings().map(|finding| finding.buildpack.as_str()).collect()
}

fn by_language(all: &[Looked]) -> String {
    let mut counts = BTreeMap::<&str, usize>::new();
    for looked in all {
        *counts.entry(languages(looked).first().copied().unwrap_or("none")).or_default() += 1;
    }
    let mut counts: Vec<_> = counts.into_iter().collect();
    counts.sort_by_key(|(name, count)| (std::cmp::Reverse(*count), *name));
    counts.iter().map(|(name, count)| format!("{count} {name}")).collect::<Vec<_>>().join(", ")
}
