//! `check`: everything that would break the build or the start.

use super::order::order;
use super::{Done, advisories, machine};
use crate::documents::CheckDocument;
use crate::interrupt;
use crate::surroundings::Surroundings;
use arguments::CheckOptions;
use engine::{Budget, StepContext};
use model::PackageFact;
use planning::PlannedPackage;
use remote::{Fetcher, Network};
use render::table::Table;
use render::{BAD, FAINT, GOOD, Output, STRONG, problem, styled, words};
use std::path::Path;
use std::process::ExitCode;
use wording::{Failure, message_and_advice};
use workshop::app::App;
use workshop::check::{PLAN_FAILS, Problem, RULES, Scope, Severity, check};
use workshop::inspect::DEFAULT_TAG;
use workshop::plan::Worklist;
use workshop::prepare::plan_offline;

pub fn run(options: &CheckOptions, surroundings: &Surroundings, output: &Output) -> Done {
    if options.rules {
        list_rules(output);
        return Ok(ExitCode::SUCCESS);
    }
    if options.machine {
        return machine::run(surroundings, output);
    }
    let fetcher = surroundings.fetcher(if options.online { Network::Allowed } else { Network::Forbidden });
    let order = order(DEFAULT_TAG, "zstd", surroundings, &fetcher);
    let app = surroundings.look(&options.source, &surroundings.fetcher(Network::Allowed), order.now)?;
    let planned = plan_offline(&app, &order, &surroundings.store);
    interrupt::cancels(&surroundings.cancel)?;
    let problems = problems(&app, &planned, &fetcher, surroundings, Scope::All)?;
    let failing = problems.iter().filter(|p| p.severity == Severity::Error).count();
    let packages = planned.as_ref().map(packages).unwrap_or_default();
    let find = |path: &Path| advisories::find(path, &packages, &app.config.accepted);
    let found = options.advisories.as_deref().map(find).transpose()?;
    if output.is_json() {
        let name = &app.survey.name;
        let advisories = found.as_ref().map(|found| serde_json::json!(found));
        output.json(&CheckDocument {
            format: "shtetl/check/1",
            name,
            failing,
            problems: &problems,
            advisories,
        });
    } else {
        text(&app.survey.name, &problems, failing, output);
        if let Some(found) = &found {
            advisories::show(found, output);
        }
    }
    let is_affected = found.is_some_and(|found| advisories::reaches(&found, options.fail_on));
    Ok(ExitCode::from(u8::from(failing > 0 || is_affected)))
}

/// The packages of languages that lockfiles and pins name. What is known only after a build is not among them.
fn packages(worklist: &Worklist) -> Vec<PackageFact> {
    let fact = |(url, package): (&String, &PlannedPackage)| {
        PackageFact::new(package.name.clone(), &package.version, url.clone(), "")
    };
    worklist.packages.iter().map(fact).collect()
}

/// What the rules find; registries are asked as far as `fetcher` may.
pub fn problems(
    app: &App,
    planned: &model::Result<Worklist>,
    fetcher: &Fetcher,
    surroundings: &Surroundings,
    scope: Scope,
) -> Result<Vec<Problem>, Failure> {
    let budget = Budget::new(surroundings.jobs);
    let tools = StepContext {
        app: &app.survey.name,
        step: "check",
        root: &[],
        read: &[],
        note: &|_| {},
        fetcher,
        budget: &budget,
        progress: &|_, _| (),
        limits: surroundings.step_limits(),
        app_limits: app.config.step_limits,
        gateway: None,
        failed_root: None,
        cancel: &surroundings.cancel,
    };
    let mut problems = check(app, planned, &tools, scope)?;
    // The error says more than the rule can.
    for problem in problems.iter_mut().filter(|problem| problem.code == PLAN_FAILS) {
        if let Err(error) = planned {
            let (message, advice) = message_and_advice(error);
            // It names the place, too.
            problem.place = None;
            problem.what = message;
            problem.advice = advice.unwrap_or_default();
        }
    }
    Ok(problems)
}

fn text(name: &str, problems: &[Problem], failing: usize, output: &Output) {
    let warnings = problems.len() - failing;
    let counted = |count: usize, what: &str| (count > 0).then(|| words::count(count, what));
    let counts: Vec<String> =
        [counted(failing, "error"), counted(warnings, "warning")].into_iter().flatten().collect();
    let verdict = match failing {
        0 if counts.is_empty() => styled(GOOD, "no problems found"),
        0 => format!("{}: {}", styled(GOOD, "no errors"), counts.join(", ")),
        _ => format!("{}: {}", styled(BAD, "will fail"), counts.join(", ")),
    };
    output.line(format!("{}  {verdict}", styled(STRONG, name)));
    for problem in problems {
        output.line("");
        problem::lines(problem).into_iter().for_each(|line| output.prose(line));
    }
    if !problems.is_empty() {
        output.line("");
        output.line(styled(FAINT, "more about a code: shtetl explain CODE"));
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
