//! `buildpacks`: lists them, writes a starter, and runs trials.

use super::Done;
use crate::surroundings::Surroundings;
use arguments::{BuildpacksCommand, BuildpacksOptions, ScaffoldOptions, TrialOptions};
use model::PathFacts;
use render::table::Table;
use render::{FAINT, Output, STRONG, styled};
use serde_json::json;
use std::fs;
use std::path::Path;
use std::process::ExitCode;
use wording::Failure;
use workshop::buildpacks::Buildpacks;
use workshop::trials::{Outcome, trial};

/// What a new buildpack begins with, by paths in its folder.
const SCAFFOLD: [(&str, &str); 4] = [
    ("definition.toml", include_str!("scaffold/definition.toml")),
    ("files/export", include_str!("scaffold/export")),
    ("trials/two-forms/forms/tide.form", "title: Tide table\n"),
    ("trials/two-forms.expected", include_str!("scaffold/two-forms.expected")),
];

pub fn run(options: &BuildpacksOptions, surroundings: &Surroundings, output: &Output) -> Done {
    match &options.command {
        None => list(options, surroundings, output),
        Some(BuildpacksCommand::Scaffold(options)) => scaffold(options, output),
        Some(BuildpacksCommand::Trial(options)) => run_trials(options, surroundings, output),
    }
}

fn list(options: &BuildpacksOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let named = surroundings.buildpacks_of(&options.source, Surroundings::now())?;
    let all: Vec<_> =
        named.iter().map(|one| (one.name(), one.version(), one.origin(), one.about())).collect();
    if output.is_json() {
        let shown = all.iter().map(|(name, version, origin, about)| {
            json!({ "name": name, "version": version, "origin": origin.unwrap_or("built in"), "about": about })
        });
        output.json(&json!({ "format": "shtetl/buildpacks/1", "buildpacks": shown.collect::<Vec<_>>() }));
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = Table::new(&[]);
    for (name, version, origin, about) in all {
        let origin = origin.unwrap_or("built in").to_owned();
        table.row([styled(STRONG, name), version.to_owned(), origin, styled(FAINT, about)]);
    }
    table.lines().iter().for_each(|line| output.line(line));
    Ok(ExitCode::SUCCESS)
}

fn scaffold(options: &ScaffoldOptions, output: &Output) -> Done {
    let folder = &options.folder;
    let name = folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    model::names::check("buildpack", &name)?;
    if folder.join(definitions::DEFINITION).exists() {
        return Err(Failure::Usage {
            message: format!("{} already has a {}", folder.display(), definitions::DEFINITION),
            hint: "choose another folder".to_owned(),
        });
    }
    for (path, text) in SCAFFOLD {
        let file = folder.join(path);
        fs::create_dir_all(file.parent().unwrap_or(Path::new("."))).facts(&file)?;
        fs::write(&file, text.replace("NAME", &name)).facts(&file)?;
        output.line(format!("wrote {}", file.display()));
    }
    output.line("");
    output.line(format!("try it:  shtetl buildpacks trial {}", folder.display()));
    output.line(format!("use it:  in shtetl.toml, under [buildpacks]: add = [\"{}\"]", folder.display()));
    Ok(ExitCode::SUCCESS)
}

fn run_trials(options: &TrialOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let now = Surroundings::now();
    let outcomes = trial(&options.folder, &Buildpacks::built_in(), &surroundings.store, now, options.accept)?;
    let failed = outcomes.iter().filter(|one| matches!(one.1, Outcome::Differs(_))).count();
    if output.is_json() {
        let shown = outcomes.iter().map(|(name, outcome)| {
            json!({ "name": name, "passed": !matches!(outcome, Outcome::Differs(_)), "differences": outcome.differences() })
        });
        output.json(&json!({ "format": "shtetl/buildpack-trial/1", "trials": shown.collect::<Vec<_>>() }));
    } else {
        for (name, outcome) in &outcomes {
            output.line(format!("{}  {}", styled(STRONG, name), outcome.word()));
            outcome.differences().iter().for_each(|line| output.line(format!("  {line}")));
        }
        if outcomes.is_empty() {
            output.line(format!(
                "{} has no trials: add a folder with a sample under trials/",
                options.folder.display()
            ));
        }
    }
    Ok(if failed == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
