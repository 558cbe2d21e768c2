//! `town list`: the apps, and the results of their last builds.

use super::super::Done;
use crate::surroundings::Surroundings;
use render::table::Table;
use render::{BAD, FAINT, Output, STRONG, styled, words};
use std::process::ExitCode;
use town::apps::TownApp;
use workshop::ledger::{self, Entry};

pub fn run(apps: &[TownApp], failing: bool, surroundings: &Surroundings, output: &Output) -> Done {
    let with_last = |app: &TownApp| (app.clone(), ledger::last(&surroundings.store, &app.image));
    let mut all: Vec<(TownApp, Option<Entry>)> = apps.iter().map(with_last).collect();
    all.retain(|(_, last)| !failing || last.as_ref().is_some_and(|last| last.failure.is_some()));
    if output.is_json() {
        let apps: Vec<_> = all.iter().map(|(app, last)| document(app, last.as_ref())).collect();
        output.json(&serde_json::json!({ "format": "shtetl/town-list/1", "apps": apps }));
        return Ok(ExitCode::SUCCESS);
    }
    if all.is_empty() {
        output.line("no apps");
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = Table::new(&[]);
    table.row(["app", "group", "last build", "image"].map(|heading| styled(FAINT, heading)));
    for (app, last) in &all {
        let when = last.as_ref().map_or_else(|| "never here".to_owned(), |last| words::date(last.started));
        let what = match last {
            None => String::new(),
            Some(Entry { failure: Some(failure), .. }) => styled(BAD, format!("failed: {failure}")),
            Some(last) => {
                let digest = last.digest.map(|digest| digest.short()).unwrap_or_default();
                format!("{}:{} {}", app.image, last.tag, styled(FAINT, digest))
            }
        };
        table.row([styled(STRONG, &app.name), app.groups.join(", "), when, what]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    output.line("");
    output.line(words::count(all.len(), "app"));
    Ok(ExitCode::SUCCESS)
}

fn document(app: &TownApp, last: Option<&Entry>) -> serde_json::Value {
    serde_json::json!({
        "app": app.name, "image": app.image, "path": app.path, "groups": app.groups, "after": app.after, "variant": app.variant,
        "last": last.map(|last| serde_json::json!({
            "number": last.number, "tag": last.tag, "started": last.started, "milliseconds": last.milliseconds,
            "digest": last.digest, "failure": last.failure,
        })),
    })
}
