//! What came of a town: one summary, equal causes told once.

use super::super::Done;
use crate::surroundings::Surroundings;
use model::PathFacts;
use render::table::Table;
use render::{BAD, FAINT, GOOD, Output, STRONG, TYPED, styled, words};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use town::apps::{TownApp, together};
use town::plan::Trouble;
use town::results::{Cause, StepCounts, TownResult};
use town::shards::{Cost, Spread};
use wording::{Failure, message_and_advice};
use workshop::check::Problem;

/// How many apps are named where many share a cause.
const NAMED: usize = 6;

/// How many lines more are shown about a cause.
const DETAILS: usize = 12;

/// What keeps an app from being built, in words.
pub fn cause(trouble: &Trouble) -> Cause {
    match trouble {
        Trouble::Failed(error) => {
            let (what, advice) = message_and_advice(error);
            Cause { code: None, what, details: wording::details(error), advice: advice.unwrap_or_default() }
        }
        // The first one is what the app is told of first.
        Trouble::WillFail(problems) => problems.first().map(cause_of_problem).unwrap_or_default(),
        Trouble::Waits { after } => {
            let what = format!("the image of {after}, on which it depends, was not built");
            Cause { what, ..Cause::default() }
        }
    }
}

/// A problem as a cause. Its place is the app's own, so that many apps can share it.
pub fn cause_of_problem(problem: &Problem) -> Cause {
    Cause {
        code: Some(problem.code.to_owned()),
        what: problem.what.clone(),
        details: Vec::new(),
        advice: problem.advice.clone(),
    }
}

/// Causes with the apps that each is about.
pub fn show_causes(causes: &[(Cause, Vec<&str>)], output: &Output) {
    for (cause, apps) in causes {
        let code = cause.code.as_ref().map(|code| format!("{}  ", styled(BAD, code))).unwrap_or_default();
        output.line("");
        output.line(format!("{}  {code}{}", styled(STRONG, words::count(apps.len(), "app")), cause.what));
        for line in cause.details.iter().take(DETAILS) {
            output.line(format!("  {line}"));
        }
        if !cause.advice.is_empty() {
            output.line(format!("  {} {}", styled(TYPED, "what to do:"), cause.advice));
        }
        output.line(format!("  {}", styled(FAINT, named(apps))));
    }
}

/// The first few of many names.
pub fn named(apps: &[&str]) -> String {
    let shown = apps.iter().take(NAMED).copied().collect::<Vec<_>>().join(", ");
    match apps.len().saturating_sub(NAMED) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

/// A result for people.
pub fn show(result: &TownResult, output: &Output) {
    let failed = result.apps.iter().filter(|app| app.failure.is_some()).count();
    let built = result.apps.len() - failed;
    let unchanged = result.apps.iter().filter(|app| app.unchanged).count();
    let verdict = match failed {
        0 => styled(GOOD, format!("{} built", words::count(built, "app"))),
        _ => format!("{} built, {}", words::count(built, "app"), styled(BAD, format!("{failed} not"))),
    };
    let part =
        result.shard.map(|shard| format!("part {} of {}: ", shard.number, shard.of)).unwrap_or_default();
    output.line(format!("{part}{verdict}, {unchanged} unchanged, {}", words::duration(result.milliseconds)));
    let StepCounts { ran, found, shared } = result.steps;
    let mut steps = vec![format!("{ran} ran"), format!("{found} found")];
    if shared > 0 {
        steps.push(format!("{shared} from the shared store"));
    }
    output.line(format!("  {}  {}", styled(FAINT, "steps"), steps.join(", ")));
    let pushed = result.apps.iter().filter(|app| app.pushed.is_some()).count();
    if pushed > 0 {
        output.line(format!("  {}  {}", styled(FAINT, "pushed"), words::count(pushed, "image")));
    }
    show_causes(&result.causes(), output);
}

/// The exit code that a result stands for.
pub fn exit_code(result: &TownResult) -> ExitCode {
    ExitCode::from(u8::from(result.apps.iter().any(|app| app.failure.is_some())))
}

/// Writes a result for `town gather`.
pub fn write(result: &TownResult, path: &Path) -> Result<(), Failure> {
    let text = serde_json::to_vec_pretty(result).map_err(std::io::Error::other)?;
    let fresh = path.with_extension("fresh");
    std::fs::write(&fresh, text).and_then(|()| std::fs::rename(&fresh, path)).facts(path)?;
    Ok(())
}

/// `town gather`.
pub fn gather(files: &[PathBuf], output: &Output) -> Done {
    let read = |file: &PathBuf| Ok((file.clone(), TownResult::read(file)?));
    let parts = files.iter().map(read).collect::<model::Result<Vec<_>>>()?;
    let whole = TownResult::gather(parts)?;
    match output.is_json() {
        true => output.json(&whole),
        false => show(&whole, output),
    }
    Ok(exit_code(&whole))
}

/// `town plan`.
pub fn plan(
    apps: &[TownApp],
    shards: u32,
    out: Option<&Path>,
    surroundings: &Surroundings,
    output: &Output,
) -> Done {
    let cost = |app: &TownApp| (app.name.clone(), Cost::of(&surroundings.store, &app.image));
    let mut costs: BTreeMap<String, Cost> = apps.iter().map(cost).collect();
    Cost::agree(costs.values_mut());
    let unknown = costs.values().filter(|cost| !cost.is_known).count();
    let with_cost = |names: Vec<String>| {
        let cost = Cost::of_all(names.iter().filter_map(|name| costs.get(name)));
        (names, cost)
    };
    let sets: Vec<(Vec<String>, Cost)> = together(apps).into_iter().map(with_cost).collect();
    let spread = Spread::balanced(&sets, shards);
    if let Some(path) = out {
        let text = serde_json::to_vec_pretty(&spread).map_err(std::io::Error::other)?;
        std::fs::write(path, text).facts(path)?;
    }
    if output.is_json() {
        output.json(&spread);
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!(
        "{} in {}",
        words::count(apps.len(), "app"),
        words::count(spread.shards.len(), "part")
    ));
    let mut table = Table::new(&[1, 2]);
    for (number, shard) in spread.shards.iter().enumerate() {
        let names: Vec<&str> = shard.apps.iter().map(String::as_str).collect();
        table.row([
            format!("{}/{}", number + 1, spread.shards.len()),
            words::count(shard.apps.len(), "app"),
            words::duration(shard.milliseconds),
            styled(FAINT, named(&names)),
        ]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    if unknown > 0 {
        output.line(styled(
            FAINT,
            format!("{} never built here: estimated at 5 s each", words::count(unknown, "app")),
        ));
    }
    Ok(ExitCode::SUCCESS)
}
