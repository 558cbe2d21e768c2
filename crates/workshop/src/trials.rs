//! Trials of a buildpack that a folder defines: samples of sources, and what is concluded of each.
//!
//! ```text
//! FOLDER/trials/NAME/…        a sample
//! FOLDER/trials/NAME.expected what the buildpack concludes of it, a line each
//! ```

use crate::buildpacks::Buildpacks;
use content::store::Store;
use definitions::Defined;
use model::folder::entries;
use model::{BuildpackOptions, Claim, Finding, PathFacts, ProcessKind, Result, shell_words};
use planning::Buildpack;
use source::{Asked, Opened, SourceRules, take_in};
use std::fs;
use std::path::Path;
use std::sync::Arc;

/// What became of a trial.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// What is concluded is as expected.
    Passed,
    /// The expectation was written.
    Accepted,
    /// Lines that were expected and are not there (`-`), and others (`+`).
    Differs(Vec<String>),
}

impl Outcome {
    /// What it is called.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Passed => "as expected",
            Self::Accepted => "written",
            Self::Differs(_) => "differs",
        }
    }

    /// The lines that differ.
    pub fn differences(&self) -> &[String] {
        match self {
            Self::Differs(lines) => lines,
            _ => &[],
        }
    }
}

/// Runs the trials of the buildpack in `folder`; with `accept`, what is concluded becomes what is expected. `now` is in
/// nanoseconds since 1970.
pub fn trial(
    folder: &Path,
    others: &Buildpacks,
    store: &Store,
    now: i64,
    accept: bool,
) -> Result<Vec<(String, Outcome)>> {
    let shown = folder.display().to_string();
    let buildpack = Arc::new(Defined::read(folder, &shown, store)?);
    // A name that is taken already would show only when it is used.
    let _ = others.clone().with_added(vec![buildpack.clone()])?;
    let mut outcomes = Vec::new();
    for sample in entries(&folder.join("trials"))?.into_iter().filter(|path| path.is_dir()) {
        let name = sample.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let asked = Asked::of(&sample);
        let source = take_in(&Opened::open(&asked, store, now)?, &SourceRules::default())?;
        let finding = buildpack.survey(&source.tree, &BuildpackOptions::default())?;
        let steps =
            if finding.claim == Claim::None { Vec::new() } else { buildpack.step_names(&source.tree)? };
        let found = lines(&finding, steps);
        let file = sample.with_extension("expected");
        let expected = fs::read_to_string(&file).unwrap_or_default();
        let outcome = if accept {
            fs::write(&file, found.join("\n") + "\n").facts(&file)?;
            Outcome::Accepted
        } else {
            compared(&expected, &found)
        };
        outcomes.push((name, outcome));
    }
    Ok(outcomes)
}

fn compared(expected: &str, found: &[String]) -> Outcome {
    let expected: Vec<&str> =
        expected.lines().filter(|line| !line.is_empty() && !line.starts_with('#')).collect();
    let gone =
        expected.iter().filter(|line| !found.iter().any(|own| own == *line)).map(|line| format!("- {line}"));
    let new = found.iter().filter(|line| !expected.contains(&line.as_str())).map(|line| format!("+ {line}"));
    let differences: Vec<String> = gone.chain(new).collect();
    if differences.is_empty() { Outcome::Passed } else { Outcome::Differs(differences) }
}

/// What is concluded, a line each.
fn lines(finding: &Finding, steps: Vec<String>) -> Vec<String> {
    let claims = match finding.claim {
        Claim::None => "nothing",
        Claim::Addition => "an addition",
        Claim::Part => "a part",
        Claim::Whole => "the app",
    };
    let mut lines = vec![format!("claims    {claims}")];
    let evidence =
        finding.evidence.iter().map(|one| format!("evidence  {}: {} ({})", one.place, one.value, one.tells));
    lines.extend(evidence);
    lines.extend(finding.runtime.iter().map(|wish| {
        let versions =
            wish.constraint.as_ref().map(|(versions, _)| format!(" {versions}")).unwrap_or_default();
        format!("runtime   {}{versions}", wish.runtime)
    }));
    let problems = &finding.problems;
    lines.extend(problems.iter().map(|one| format!("problem   {}: {} ({})", one.code, one.says, one.place)));
    lines.extend(finding.processes.iter().map(|process| {
        let kind = if process.kind == ProcessKind::Task { "task   " } else { "process" };
        format!("{kind}   {}: {}", process.name, shell_words::join(&process.command))
    }));
    lines.extend(steps.into_iter().map(|name| format!("step      {name}")));
    lines
}
