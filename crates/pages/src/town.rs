//! The pages of a town: its apps at a glance, and a simulated day.

use crate::{Section, page};
use maud::{Markup, html};
use render::words;
use std::collections::BTreeMap;
use town::outdated::Behind;
use town::overview::Overview;
use town::simulate::Simulated;

/// A town at a glance.
pub fn town(name: &str, overview: &Overview) -> String {
    let list = |map: &BTreeMap<String, usize>| {
        let mut all: Vec<(String, usize)> = map.iter().map(|(name, count)| (name.clone(), *count)).collect();
        all.sort_by_key(|(name, count)| (std::cmp::Reverse(*count), name.clone()));
        all
    };
    let classes = |all: &[(&'static str, usize)]| -> Vec<(String, usize)> {
        all.iter().map(|(name, count)| ((*name).to_owned(), *count)).collect()
    };
    let head = html! {
        p {
            (words::count(overview.apps, "app")) ", " (words::count(overview.built, "image")) " here, "
            (words::size(overview.bytes)) " of layers, each counted once"
        }
    };
    let failing = match overview.failing.is_empty() {
        true => html! { p { "No last build failed." } },
        false => html! {
            div.wide { table {
                thead { tr { th { "App" } th { "Message" } } }
                tbody { @for (app, what) in &overview.failing { tr { th scope="row" { (app) } td { (what) } } } }
            } }
        },
    };
    let support = match overview.support.is_empty() {
        true => html! { p { "Everything is supported for at least another six months." } },
        false => bars(
            "Images with components past their end of support, or close to it",
            &overview.support.iter().map(|(behind, count)| (told(behind), *count)).collect::<Vec<_>>(),
        ),
    };
    let largest: Vec<(String, u64)> = overview.largest.clone();
    let most = largest.iter().map(|(_, size)| *size).max().unwrap_or(1);
    let sections = [
        Section {
            id: "languages",
            title: "Languages",
            body: bars("Images by language", &list(&overview.languages)),
        },
        Section { id: "bases", title: "Bases", body: bars("Images by base", &list(&overview.bases)) },
        Section {
            id: "runtimes",
            title: "Runtimes",
            body: bars("Images by runtime", &list(&overview.runtimes)),
        },
        Section { id: "support", title: "Support", body: support },
        Section {
            id: "ages",
            title: "Ages",
            body: bars("Images by their last build", &classes(&overview.ages)),
        },
        Section { id: "sizes", title: "Sizes", body: bars("Images by size", &classes(&overview.sizes)) },
        Section {
            id: "largest",
            title: "Largest images",
            body: html! { div.wide { table.bars {
                @for (name, size) in &largest { tr {
                    th scope="row" { (name) }
                    td.number { (words::size(*size)) }
                    td.share { span.bar style={ "width:" (share(*size, most)) } {} }
                } }
            } } },
        },
        Section { id: "failing", title: "Failing", body: failing },
    ];
    page(name, &head, &sections)
}

/// A simulated day.
pub fn simulation(name: &str, simulated: &Simulated) -> String {
    let day = &simulated.day;
    let head = html! {
        p {
            (words::count(day.apps, "app")) ", " (words::count(day.pushes, "commit")) " that change "
            (format!("{:.2} %", day.changed * 100.0)) " of them each, " (words::count(day.workers, "worker"))
        }
    };
    let rows = [
        ("A commit, median", words::duration(milliseconds(simulated.median))),
        ("A commit, 95th percentile", words::duration(milliseconds(simulated.slow))),
        ("The first build, with an empty store", words::duration(milliseconds(simulated.cold))),
        ("Total total work of all workers that day", words::duration(milliseconds(simulated.work))),
        ("Steps found", format!("{:.2} %", simulated.hit_rate * 100.0)),
        ("Stored in the shared store", words::size(milliseconds(simulated.bytes_stored))),
    ];
    let figures = html! { table { @for (what, value) in rows { tr { th scope="row" { (what) } td.number { (value) } } } } };
    let sections = [
        Section { id: "figures", title: "Figures", body: figures },
        Section {
            id: "times",
            title: "Times of commits",
            body: bars("Commits by how long they take", &classes(simulated)),
        },
    ];
    page(name, &head, &sections)
}

/// Commits in classes of their time, which double.
fn classes(simulated: &Simulated) -> Vec<(String, usize)> {
    let mut classes = Vec::new();
    let fastest = simulated.pushes.iter().copied().fold(f64::INFINITY, f64::min);
    let slowest = simulated.pushes.iter().copied().fold(0.0, f64::max);
    let mut bound = 1.0;
    while bound < slowest * 2.0 && classes.len() < 40 {
        let count = simulated.pushes.iter().filter(|time| **time < bound && **time >= bound / 2.0).count();
        if bound >= fastest {
            let [from, to] = [bound / 2.0, bound].map(|bound| words::duration(milliseconds(bound)));
            classes.push((format!("{from} to {to}"), count));
        }
        bound *= 2.0;
    }
    classes
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "never negative, and saturates")]
fn milliseconds(value: f64) -> u64 {
    value.max(0.0) as u64
}

fn told(behind: &Behind) -> String {
    match behind {
        Behind::Base { base, since } => format!("{base}, unsupported since {since}"),
        Behind::Runtime { runtime, version, since } => {
            format!("{runtime} {version}, unsupported since {since}")
        }
        Behind::RuntimeSoon { runtime, version, until } => {
            format!("{runtime} {version}, supported until {until}")
        }
        Behind::Package { name, version, .. } => format!("{name} {version}"),
    }
}

/// Counts as bars, with the numbers beside them.
fn bars(about: &str, counts: &[(String, usize)]) -> Markup {
    let most = counts.iter().map(|(_, count)| *count).max().unwrap_or_default().max(1);
    html! {
        div.wide { table.bars aria-label=(about) {
            @for (name, count) in counts { tr {
                th scope="row" { (name) }
                td.number { (count) }
                td.share { @if *count > 0 { span.bar style={ "width:" (share(*count as u64, most as u64)) } {} } }
            } }
        } }
    }
}

#[allow(clippy::cast_precision_loss, reason = "bars on a screen")]
fn share(part: u64, whole: u64) -> String {
    format!("{:.1}%", part as f64 * 100.0 / whole.max(1) as f64)
}
