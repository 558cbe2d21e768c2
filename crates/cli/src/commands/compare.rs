//! `compare`: what is different between two images, and why.

use super::Done;
use super::opened::open_anywhere;
use crate::interrupt;
use crate::surroundings::Surroundings;
use arguments::CompareOptions;
use images::compare::{Comparison, FileChange, FileFact, LayerChange, Move, PackageChange, Pair, compare};
use model::shell_words;
use pages;
use render::table::Table;
use render::{BAD, BUSY, FAINT, GOOD, Output, STRONG, styled, words};
use std::process::ExitCode;

/// How many changed files of a layer are listed, unless all are asked for.
const FIRST_FILES: usize = 10;
/// How many changed packages are.
const FIRST_PACKAGES: usize = 30;

pub fn run(options: &CompareOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let (before, _) = open_anywhere(&options.before, surroundings, output)?;
    let (after, _) = open_anywhere(&options.after, surroundings, output)?;
    let comparison = compare(&surroundings.store, &before, &after)?;
    if let Some(file) = &options.page {
        let page = pages::comparison(&before.label, &after.label, &comparison);
        super::pages::write(file, &page, surroundings)?;
        output.aside(format!("page written to {}", file.display()));
    }
    if output.is_json() {
        let mut document = serde_json::to_value(&comparison).map_err(std::io::Error::other)?;
        document["format"] = "shtetl/compare/1".into();
        document["before"] = before.label.into();
        document["after"] = after.label.into();
        output.json(&document);
        return Ok(ExitCode::SUCCESS);
    }
    let Pair { before: old, after: new } = comparison.size;
    let title = format!("{} and {}", styled(STRONG, &before.label), styled(STRONG, &after.label));
    if comparison.is_same() {
        output.line(format!("{title}  the same image, {}", words::size(new)));
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!("{title}  {} and {}, {}", words::size(old), words::size(new), grown(old, new)));
    facts(&comparison, output);
    packages(&comparison.packages, options.all, output);
    layers(&comparison, options.all, output);
    Ok(ExitCode::SUCCESS)
}

/// `+1.2 MB`.
fn grown(before: u64, after: u64) -> String {
    match after.checked_sub(before) {
        Some(0) => "no change in size".to_owned(),
        Some(more) => format!("+{}", words::size(more)),
        None => format!("−{}", words::size(before - after)),
    }
}

/// What the image is made of and how it runs.
fn facts(comparison: &Comparison, output: &Output) {
    let mut table = Table::new(&[]);
    let mut row = |what: &str, before: &str, after: &str| {
        table.row([styled(FAINT, what), format!("{before} → {after}")]);
    };
    let pairs =
        [("source", &comparison.source), ("base", &comparison.base), ("platform", &comparison.platform)];
    for (what, pair) in pairs {
        if let Some(Pair { before, after }) = pair {
            row(what, &shortened(before), &shortened(after));
        }
    }
    let none = || "none".to_owned();
    for (name, Pair { before, after }) in &comparison.runtimes {
        row(name, &before.clone().unwrap_or_else(none), &after.clone().unwrap_or_else(none));
    }
    let told = |is_there: bool| if is_there { "there" } else { "not there" };
    for (name, Pair { before, after }) in &comparison.processes {
        let (before, after) = match (before, after) {
            (Some(before), Some(after)) if before.command != after.command => {
                (shell_words::join(&before.command), shell_words::join(&after.command))
            }
            (Some(before), Some(after)) => {
                let (before, after) = (words::process_details(before), words::process_details(after));
                let is_told = before != after;
                (
                    before,
                    if is_told {
                        after
                    } else {
                        "the same, but with different environment variables or folders".to_owned()
                    },
                )
            }
            (before, after) => (told(before.is_some()).to_owned(), told(after.is_some()).to_owned()),
        };
        row(&format!("process {name}"), &before, &after);
    }
    for (name, Pair { before, after }) in &comparison.settings {
        let is_rule = *before && *after;
        let told = |is_there, rule| if is_rule { rule } else { told(is_there) };
        row(&format!("setting {name}"), told(*before, "a rule"), told(*after, "another one"));
    }
    table.lines().into_iter().for_each(|line| output.line(line));
}

/// A digest or commit in short.
fn shortened(text: &str) -> String {
    match text.len() >= 40 && !text.contains([' ', '/']) {
        true => text.chars().take(text.find(':').map_or(0, |at| at + 1) + 12).collect(),
        false => text.to_owned(),
    }
}

fn packages(changes: &[PackageChange], all: bool, output: &Output) {
    if changes.is_empty() {
        return;
    }
    let count = |wanted: Move| changes.iter().filter(|one| one.change == wanted).count();
    let kinds = [Move::Up, Move::Down, Move::Added, Move::Removed, Move::Rebuilt];
    let told: Vec<String> = kinds
        .into_iter()
        .filter(|kind| count(*kind) > 0)
        .map(|kind| format!("{} {}", count(kind), word(kind)))
        .collect();
    output.line(format!("\n{}  {}", styled(STRONG, "packages"), told.join(", ")));
    let mut table = Table::new(&[]);
    let most = if all { usize::MAX } else { FIRST_PACKAGES };
    for PackageChange { change, name, kind, before, after, licence } in changes.iter().take(most) {
        let versions = match (before.is_empty(), after.is_empty()) {
            (false, false) => format!("{} → {}", before.join(", "), after.join(", ")),
            _ => [before.join(", "), after.join(", ")].concat(),
        };
        let licence = licence.as_ref().map(|Pair { before, after }| {
            let said = |licence: &Option<String>| licence.clone().unwrap_or_else(|| "none".to_owned());
            format!("licence {} → {}", said(before), said(after))
        });
        let note = licence.unwrap_or_else(|| kind.clone());
        table.row([coloured(*change), name.clone(), versions, styled(FAINT, note)]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    more(changes.len(), most, "package", output);
}

fn word(change: Move) -> &'static str {
    match change {
        Move::Up => "up",
        Move::Down => "down",
        Move::Added => "added",
        Move::Removed => "removed",
        Move::Rebuilt => "other contents",
    }
}

fn coloured(change: Move) -> String {
    let style = match change {
        Move::Up | Move::Added => GOOD,
        Move::Down | Move::Removed => BAD,
        Move::Rebuilt => BUSY,
    };
    styled(style, word(change))
}

fn more(count: usize, most: usize, what: &str, output: &Output) {
    if count > most {
        output.line(styled(
            FAINT,
            format!("  {}; --all lists them", words::count(count - most, &format!("more {what}"))),
        ));
    }
}

fn layers(comparison: &Comparison, all: bool, output: &Output) {
    let (changed, same) = (comparison.layers.len(), comparison.same_layers);
    let note = if changed == 0 { "; only documents about how it was built and runs differ" } else { "" };
    output.line(format!("\n{}  {changed} changed, {same} the same{note}", styled(STRONG, "layers")));
    for LayerChange { step, size, because, files } in &comparison.layers {
        let sizes = match (size.before, size.after) {
            (Some(before), Some(after)) => format!("{}, {}", words::size(after), grown(before, after)),
            (None, Some(after)) => format!("{}, new", words::size(after)),
            (before, None) => format!("{}, gone", words::size(before.unwrap_or_default())),
        };
        let why = match &because[..] {
            [] => String::new(),
            inputs => styled(FAINT, format!("  because of {}", inputs.join(", "))),
        };
        output.line(format!("  {}  {sizes}{why}", styled(BUSY, step)));
        let most = if all { usize::MAX } else { FIRST_FILES };
        let mut table = Table::new(&[2]);
        for FileChange { path, fact } in files.iter().take(most) {
            let (change, size, note) = file(fact);
            table.row([format!("  {change}"), path.clone(), size, styled(FAINT, note)]);
        }
        table.lines().into_iter().for_each(|line| output.line(line));
        more(files.len(), most, "file", output);
    }
}

/// How a file changed, its size, and details.
fn file(fact: &Pair<Option<FileFact>>) -> (String, String, String) {
    let size = |fact: &FileFact| if fact.link.is_some() { "link".to_owned() } else { words::size(fact.size) };
    match (&fact.before, &fact.after) {
        (None, Some(after)) => (styled(GOOD, "added"), size(after), String::new()),
        (Some(before), None) => (styled(BAD, "removed"), size(before), String::new()),
        (Some(before), Some(after)) => {
            let note = match () {
                () if before.mode != after.mode => {
                    format!("mode {:o} → {:o}", before.mode & 0o7777, after.mode & 0o7777)
                }
                () if before.size != after.size => grown(before.size, after.size),
                () => String::new(),
            };
            (styled(BUSY, "changed"), size(after), note)
        }
        (None, None) => Default::default(),
    }
}
