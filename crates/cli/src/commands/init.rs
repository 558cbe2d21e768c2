//! `init`: writes a commented `shtetl.toml` from the survey.

use super::Done;
use crate::documents;
use crate::surroundings::Surroundings;
use arguments::{InitOptions, SourceOptions};
use model::files::{CONFIG, SCHEMA};
use model::{ProcessKind, shell_words};
use remote::Network;
use render::{FAINT, GOOD, Output, STRONG, TYPED, styled};
use std::fs::File;
use std::io::{BufRead, ErrorKind, IsTerminal, Write};
use std::process::ExitCode;
use wording::Failure;
use workshop::init::{Answers, draft};
use workshop::survey::FoundService;

pub fn run(options: &InitOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let path = options.path.join(CONFIG);
    if path.exists() {
        return Err(already_there(&path.display().to_string()));
    }
    let app = surroundings.look(
        &SourceOptions::of(&options.path),
        &surroundings.fetcher(Network::Allowed),
        Surroundings::now(),
    )?;
    if !options.path.is_dir() {
        return Err(Failure::Usage {
            message: format!("{} is not a folder, so it cannot hold a configuration", options.path.display()),
            hint: "give the folder of the app".to_owned(),
        });
    }
    let mut answers = Answers::default();
    let starts = app.survey.processes.iter().any(|p| p.kind == ProcessKind::Process);
    if !options.yes && std::io::stdin().is_terminal() && !output.is_json() {
        if !starts {
            answers.start = ask_for_start(output);
        }
        let found = app.survey.found_services.iter();
        answers.services =
            found.filter(|found| ask_for_service(found, output)).map(|found| found.kind).collect();
    }
    let text = draft(&app.survey, &answers, options.schema);
    // Created only if it does not exist, atomically, so no file is overwritten.
    let mut file = File::create_new(&path).map_err(|error| match error.kind() {
        ErrorKind::AlreadyExists => already_there(&path.display().to_string()),
        _ => Failure::System(error),
    })?;
    file.write_all(text.as_bytes())?;
    if options.schema {
        let schema = format!("{:#}\n", documents::configuration());
        std::fs::write(options.path.join(SCHEMA), schema)?;
    }
    if output.is_json() {
        output.json(&serde_json::json!({ "format": "shtetl/init/1", "written": path.display().to_string(), "text": text }));
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!("{} {}", styled(GOOD, "written:"), styled(STRONG, path.display())));
    if options.schema {
        output.line(format!("{} {}", styled(GOOD, "written:"), options.path.join(SCHEMA).display()));
    }
    output.line("");
    for line in text.lines() {
        let shown = if line.starts_with('#') { styled(FAINT, line) } else { line.to_owned() };
        output.line(format!("  {shown}").trim_end());
    }
    output.line("");
    output.line(format!(
        "next: {}",
        styled(TYPED, format!("shtetl check {}", shell_words::join(&[options.path.display().to_string()])))
    ));
    Ok(ExitCode::SUCCESS)
}

fn already_there(path: &str) -> Failure {
    Failure::Usage {
        message: format!("{path} already exists"),
        hint: "it is never overwritten; `shtetl settings` shows the effective values".to_owned(),
    }
}

/// Whether the app needs a service that was found.
fn ask_for_service(found: &FoundService, output: &Output) -> bool {
    let (kind, driver) = (found.kind.name(), &found.driver);
    output.aside(format!(
        "{driver} is a client of {kind}. Does the app need {kind} at run time? (y, or Enter for no)"
    ));
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer).is_ok() && answer.trim().to_lowercase().starts_with('y')
}

/// The command that starts the app; `None` when the answer is empty or needs a shell.
fn ask_for_start(output: &Output) -> Option<String> {
    output.aside("No start command found. Which command starts the app? (Enter to skip)");
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer).ok()?;
    let answer = answer.trim();
    if answer.is_empty() {
        return None;
    }
    Some(answer.to_owned())
}
