//! Words of steps that run programs.

use super::sandbox::{app_limit_advice, limit_advice};
use super::worded::{FAILED, Worded, worded};
use model::dev_packages::Missing;
use model::error::StepError;
use model::failures::Cause;
use render::instances::over_limit;
use std::collections::BTreeSet;

pub(super) fn words_of(error: &StepError) -> Worded {
    match error {
        StepError::NotMade { wanted, made } => Worded {
            details: made.iter().map(|path| format!("  it made {path}")).collect(),
            ..worded(
                FAILED,
                format!("the build command did not produce {wanted}, which the image needs"),
                "correct the start command, docroot, or the command under [build] in shtetl.toml",
            )
        },
        StepError::NothingMade { keep } => worded(
            FAILED,
            match keep.is_empty() {
                true => "the build command produced no new files".to_owned(),
                false => format!("the build command produced no file that matches {}", keep.join(", ")),
            },
            "correct run or keep under [build] in shtetl.toml",
        ),
        StepError::NotStarted { step, program, detail } => worded(
            FAILED,
            format!("{step}: {program:?} cannot be started: {detail}"),
            "correct the command, or add what provides it: tools under [build], build-packages under [base]",
        ),
        StepError::NotPinned { step, asked } => Worded {
            details: shown(asked),
            ..worded(
                FAILED,
                format!("{step}: its programs requested files that are not pinned"),
                "to allow them, run `shtetl build --update`, which pins these downloads",
            )
        },
        StepError::NotAllowed { step, asked } => Worded {
            details: shown(asked),
            ..worded(
                FAILED,
                format!("{step}: its programs made requests that cannot be pinned"),
                "steps may only read files (GET and HEAD) of the kinds listed in fetch",
            )
        },
        StepError::NoAddress { step, kind } => worded(
            FAILED,
            format!("{step}: its programs requested {kind} files, which the step may not fetch"),
            "add the kind to fetch, under [build] in shtetl.toml",
        ),
        StepError::OverLimit { step, command, limit, by_app } => worded(
            FAILED,
            format!("{step}: the command {}: {command}", over_limit(*limit)),
            if *by_app { app_limit_advice(*limit) } else { limit_advice(*limit) },
        ),
        StepError::Failed { step, command, status, said, missing, causes, not_there } => Worded {
            details: [failure_details(said, missing, not_there), cause_words(causes)].concat(),
            ..worded(
                FAILED,
                format!("{step}: the command ended with {status}: {command}"),
                failure_advice(missing, causes, not_there),
            )
        },
    }
}

/// What a failure means; the advice about the first cause is part of the error itself.
fn cause_words(causes: &[Cause]) -> Vec<String> {
    let told = |(number, Cause { means, advice, .. }): (usize, &Cause)| match number {
        0 => vec![format!("  cause: {means}")],
        _ => vec![format!("  perhaps also: {means}"), format!("    what to do: {advice}")],
    };
    causes.iter().enumerate().flat_map(told).collect()
}

fn failure_advice(missing: &[Missing], causes: &[Cause], not_there: &[String]) -> String {
    let packages: BTreeSet<&str> = missing.iter().filter_map(|missing| missing.package).collect();
    match (packages.len(), not_there, causes) {
        (0, [], [cause, ..]) => cause.advice.clone(),
        (0, [], []) => "fix the error above; builds have no network and see only packed files".to_owned(),
        (0, ..) => {
            "fix the error above; `shtetl addresses` shows the address of each kind of package".to_owned()
        }
        _ => {
            let list = packages.iter().map(|name| format!("{name:?}")).collect::<Vec<_>>().join(", ");
            format!("in shtetl.toml, under [base]: build-packages = [{list}]")
        }
    }
}

/// A program's output, and what it did not find.
fn failure_details(said: &[String], missing: &[Missing], not_there: &[String]) -> Vec<String> {
    let mut lines: Vec<String> =
        said.iter().chain(&missing_words(missing)).map(|line| format!("  {line}")).collect();
    if !not_there.is_empty() {
        lines.push("  not found at the configured addresses:".to_owned());
        lines.extend(shown(not_there).into_iter().map(|line| format!("  {line}")));
    }
    lines
}

/// The first few of what was asked for.
fn shown(asked: &[String]) -> Vec<String> {
    const FEW: usize = 10;
    let mut lines: Vec<String> = asked.iter().take(FEW).map(|path| format!("  {path}")).collect();
    if asked.len() > FEW {
        lines.push(format!("  and {} more", asked.len() - FEW));
    }
    lines
}

/// What a program did not find, each with the package that has it.
fn missing_words(missing: &[Missing]) -> Vec<String> {
    let told = missing.iter().map(|Missing { what, package }| match package {
        Some(package) => format!("missing: {what}, provided by the Debian package {package}"),
        None => format!("missing: {what}"),
    });
    told.collect()
}
