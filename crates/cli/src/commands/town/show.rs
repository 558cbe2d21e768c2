//! `town show`: a town at a glance.

use super::super::{Done, pages};
use crate::surroundings::Surroundings;
use render::table::Table;
use render::{BAD, BUSY, FAINT, Output, STRONG, styled, words};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;
use town::apps::TownApp;
use town::outdated::Behind;
use town::overview::overview;

pub fn run(apps: &[TownApp], page: Option<&Path>, surroundings: &Surroundings, output: &Output) -> Done {
    let found = overview(apps, &surroundings.store, Surroundings::now());
    if let Some(file) = page {
        pages::write(file, &::pages::town("Town", &found), surroundings)?;
    }
    if output.is_json() {
        let mut document = serde_json::json!(found);
        document["format"] = "shtetl/town-show/1".into();
        output.json(&document);
        return Ok(ExitCode::SUCCESS);
    }
    let failing = match found.failing.len() {
        0 => String::new(),
        count => format!(", {}", styled(BAD, format!("{count} failing"))),
    };
    output.line(format!(
        "{}, {} here{failing}, {} of layers",
        styled(STRONG, words::count(found.apps, "app")),
        words::count(found.built, "image"),
        words::size(found.bytes)
    ));
    let mut table = Table::new(&[]);
    let in_order = |map: &BTreeMap<String, usize>| {
        let mut all: Vec<_> = map.iter().collect();
        all.sort_by_key(|(name, count)| (std::cmp::Reverse(**count), (*name).clone()));
        all.iter().map(|(name, count)| format!("{name} ({count})")).collect::<Vec<_>>().join(", ")
    };
    let classes = |all: &[(&'static str, usize)]| {
        let some = all.iter().filter(|(_, count)| *count > 0);
        some.map(|(name, count)| format!("{name} ({count})")).collect::<Vec<_>>().join(", ")
    };
    let largest = found.largest.iter().take(3).map(|(name, size)| format!("{name} {}", words::size(*size)));
    for (what, said) in [
        ("languages", in_order(&found.languages)),
        ("bases", in_order(&found.bases)),
        ("runtimes", in_order(&found.runtimes)),
        ("ages", classes(&found.ages)),
        ("sizes", classes(&found.sizes)),
        ("largest", largest.collect::<Vec<_>>().join(", ")),
    ] {
        if !said.is_empty() {
            table.row([styled(FAINT, what), said]);
        }
    }
    for (behind, count) in &found.support {
        let said = match behind {
            Behind::Base { base, since } => format!("{base}: unsupported since {since}"),
            Behind::Runtime { runtime, version, since } => {
                format!("{runtime} {version}: unsupported since {since}")
            }
            Behind::RuntimeSoon { runtime, version, until } => {
                format!("{runtime} {version}: supported only until {until}")
            }
            Behind::Package { .. } => continue,
        };
        table.row([styled(BUSY, "support"), format!("{said}: {}", words::count(*count, "image"))]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    for (app, failure) in &found.failing {
        output.line(format!("  {}  {} {failure}", styled(BAD, "failed"), styled(STRONG, app)));
    }
    if let Some(file) = page {
        output.line(format!("  {}  {}", styled(FAINT, "written to"), file.display()));
    }
    Ok(ExitCode::SUCCESS)
}
