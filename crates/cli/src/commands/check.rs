//! `check`: everything that would break the build or the start.

use super::Done;
use super::build::order;
use crate::arguments::CheckOptions;
use crate::documents::CheckDocument;
use crate::interrupt;
use crate::render::table::Table;
use crate::render::{BAD, BUSY, FAINT, GOOD, Output, STRONG, TYPED, styled, words};
use crate::surroundings::Surroundings;
use engine::{Budget, StepContext};
use remote::Network;
use std::process::ExitCode;
use workshop::build::plan_offline;
use workshop::check::{Problem, RULES, Severity, check};
use workshop::inspect::DEFAULT_TAG;

pub fn run(options: &CheckOptions, surroundings: &Surroundings, output: &Output) -> Done {
    if options.rules {
        list_rules(output);
        return Ok(ExitCode::SUCCESS);
    }
    let fetcher = surroundings.fetcher(if options.online { Network::Allowed } else { Network::Forbidden });
    let order = order(DEFAULT_TAG, "zstd", surroundings, &fetcher);
    let app = surroundings.look(&options.source, order.now)?;
    let planned = plan_offline(&app, &order, &surroundings.store);
    interrupt::cancels(&surroundings.cancel)?;
    let budget = Budget::new(surroundings.jobs);
    let tools = StepContext {
        app: &app.survey.name,
        step: "check",
        root: &[],
        note: &|_| {},
        fetcher: &fetcher,
        budget: &budget,
        progress: &|_, _| (),
        cancel: &surroundings.cancel,
    };
    let problems = check(&app, &planned, &tools)?;
    let failing = problems.iter().filter(|p| p.severity == Severity::Breaks).count();
    if output.is_json() {
        let name = &app.survey.name;
        output.json(&CheckDocument { format: "shtetl/check/1", name, failing, problems: &problems });
    } else {
        text(&app.survey.name, &problems, failing, output);
    }
    Ok(ExitCode::from(u8::from(failing > 0)))
}

fn text(name: &str, problems: &[Problem], failing: usize, output: &Output) {
    let doubts = problems.len() - failing;
    let verdict = match (failing, doubts) {
        (0, 0) => styled(GOOD, "no problems found"),
        (0, n) => format!("{}, {}", styled(GOOD, "nothing will fail"), words::count(n, "doubt")),
        (n, 0) => styled(BAD, format!("{} will break it", words::count(n, "problem"))),
        (n, d) => format!(
            "{}, {}",
            styled(BAD, format!("{} will break it", words::count(n, "problem"))),
            words::count(d, "doubt")
        ),
    };
    output.line(format!("{}  {verdict}", styled(STRONG, name)));
    for problem in problems {
        let style = if problem.severity == Severity::Breaks { BAD } else { BUSY };
        let place = problem.place.as_ref().map(|p| format!("{}: ", words::place(p))).unwrap_or_default();
        output.line("");
        output.line(format!("  {}  {place}{}", styled(style, problem.code), problem.what));
        output.line(format!("    {} {}", styled(TYPED, "what to do:"), problem.advice));
    }
}

fn list_rules(output: &Output) {
    if output.is_json() {
        let rules: Vec<_> =
            RULES.iter().map(|r| serde_json::json!({ "code": r.code, "about": r.about })).collect();
        output.json(&serde_json::json!({ "format": "shtetl/rules/1", "rules": rules }));
        return;
    }
    let mut table = Table::new(&[]);
    for rule in RULES {
        table.row([rule.code.to_owned(), styled(FAINT, rule.about)]);
    }
    for line in table.lines() {
        output.line(line);
    }
}
