//! `ledger`: past builds.

use super::Done;
use crate::surroundings::Surroundings;
use arguments::LedgerOptions;
use engine::{MissReason, StepOutcome};
use model::names;
use pages;
use render::events;
use render::table::Table;
use render::{BAD, FAINT, Output, STRONG, styled, words};
use std::process::ExitCode;
use wording::Failure;
use workshop::ledger;
use workshop::ledger::Entry;

pub fn run(options: &LedgerOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let store = &surroundings.store;
    let known = ledger::apps(store);
    let chosen: Vec<&String> =
        known.iter().filter(|a| options.app.as_ref().is_none_or(|app| app == *a)).collect();
    if let (Some(app), true) = (&options.app, chosen.is_empty()) {
        return Err(unknown(app, &known));
    }
    if let (Some(app), Some(number)) = (&options.app, options.log) {
        let entry = ledger::entry(store, app, number).ok_or_else(|| Failure::Usage {
            message: format!("{app} has no build {number}"),
            hint: format!("`shtetl ledger {app}` lists its builds"),
        })?;
        show_log(&entry, output);
        return Ok(ExitCode::SUCCESS);
    }
    if let Some(file) = &options.page {
        let builds = chosen.iter().map(|app| ((*app).clone(), ledger::entries(store, app)));
        super::pages::write(file, &pages::ledger(&builds.collect::<Vec<_>>()), surroundings)?;
        output.aside(format!("page written to {}", file.display()));
    }
    if output.is_json() {
        let apps: Vec<_> = chosen
            .iter()
            .map(|a| serde_json::json!({ "app": a, "builds": ledger::entries(store, a) }))
            .collect();
        output.json(&serde_json::json!({ "format": "shtetl/ledger/1", "apps": apps }));
        return Ok(ExitCode::SUCCESS);
    }
    if chosen.is_empty() {
        output.line("nothing has been built here yet");
    }
    for (number, app) in chosen.into_iter().enumerate() {
        if number > 0 {
            output.line("");
        }
        output.line(styled(STRONG, app));
        for line in table(&ledger::entries(store, app)).lines() {
            output.line(line);
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn unknown(app: &str, known: &[String]) -> Failure {
    let hint = match names::nearest(app, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near:?}?"),
        None if known.is_empty() => "build it with `shtetl build`".to_owned(),
        None => format!("built here: {}", known.join(", ")),
    };
    Failure::Usage { message: format!("no build of {app:?} is recorded here"), hint }
}

fn table(entries: &[Entry]) -> Table {
    let mut table = Table::new(&[0, 3]);
    let mut before = None;
    for entry in entries {
        let ran = what_ran(entry);
        let what = match (&entry.failure, ran.is_empty()) {
            (Some(failure), _) => styled(BAD, format!("failed: {failure}")),
            (None, true) if entry.digest == before => "nothing changed".to_owned(),
            (None, true) => "only the image's documents".to_owned(),
            (None, false) => ran.join("; "),
        };
        let digest = entry.digest.map_or_else(|| "-".to_owned(), |d| d.short());
        before = entry.digest.or(before);
        table.row([
            entry.number.to_string(),
            words::date(entry.started),
            entry.tag.clone(),
            words::duration(entry.milliseconds),
            styled(FAINT, digest),
            what,
        ]);
    }
    table
}

/// Steps that ran for the first time are only counted; the others come with their reasons.
fn what_ran(entry: &Entry) -> Vec<String> {
    let because = |step: &StepOutcome| step.because.clone().filter(|b| *b != MissReason::First);
    let first = entry.steps.iter().filter(|s| s.because == Some(MissReason::First)).count();
    let first = (first > 0).then(|| format!("{} for the first time", words::count(first, "step")));
    let others =
        entry.steps.iter().filter_map(|s| Some(format!("{} ({})", s.step, words::reason(&because(s)?))));
    first.into_iter().chain(others).collect()
}

fn show_log(entry: &Entry, output: &Output) {
    if output.is_json() {
        output.json(&serde_json::json!({ "format": "shtetl/ledger/1", "build": entry }));
        return;
    }
    for line in entry.log.iter().filter_map(events::line) {
        output.line(line);
    }
    if let Some(failure) = &entry.failure {
        output.line(format!("{} {failure}", styled(BAD, "failed:")));
    }
}
