//! The page of past builds.

use crate::{Section, facts, page, percent};
use maud::{Markup, html};
use render::words;
use workshop::ledger::Entry;

/// How many builds of an app are listed.
const MOST_BUILDS: usize = 200;

/// The builds of each app, oldest first.
pub fn ledger(apps: &[(String, Vec<Entry>)]) -> String {
    let all: Vec<&Entry> = apps.iter().flat_map(|(_, entries)| entries).collect();
    let failed = all.iter().filter(|entry| entry.failure.is_some()).count();
    let without_work =
        all.iter().filter(|entry| entry.steps.iter().all(|step| step.because.is_none())).count();
    let head = facts([
        ("Apps", apps.len().to_string()),
        ("Builds", all.len().to_string()),
        ("Failed", failed.to_string()),
        ("Without any work", without_work.to_string()),
        ("Time", words::duration(all.iter().map(|entry| entry.milliseconds).sum())),
    ]);
    let body = html! { @for (app, entries) in apps { h3 { (app) } (builds(entries)) } };
    page("Past builds", &head, &[Section { id: "builds", title: "Builds", body }])
}

fn builds(entries: &[Entry]) -> Markup {
    let longest = entries.iter().map(|entry| entry.milliseconds).max().unwrap_or(1);
    html! {
        div.wide { table {
            @if entries.len() > MOST_BUILDS { caption { "The last " (MOST_BUILDS) " of " (entries.len()) } }
            thead { tr { th.number scope="col" { "Number" } th scope="col" { "When" } th scope="col" { "Tag" } th scope="col" { "What ran" }
                th.number scope="col" { "Time" } th.share.narrow-off scope="col" { "Relative to the longest" } } }
            tbody {
                @for entry in entries.iter().rev().take(MOST_BUILDS) {
                    tr { td.number { (entry.number) } td { (words::date(entry.started)) } td { (entry.tag) }
                        td { (what(entry)) } td.number { (words::duration(entry.milliseconds)) }
                        td.share.narrow-off { span.bar style={ "width:" (percent(entry.milliseconds, longest)) } {} } }
                }
            }
        } }
    }
}

fn what(entry: &Entry) -> Markup {
    if let Some(failure) = &entry.failure {
        return html! { span.bad { "failed: " (failure) } };
    }
    let ran = entry.steps.iter().filter(|step| step.because.is_some());
    let ran: Vec<String> = ran
        .map(|step| {
            let reason = step.because.as_ref().map(words::reason).unwrap_or_default();
            format!("{} ({reason})", step.step)
        })
        .collect();
    match ran.is_empty() {
        true => html! { span.good { "nothing: every result was in the store" } },
        false => html! { (ran.join(", ")) },
    }
}
