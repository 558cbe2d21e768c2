//! Drafts a configuration from a survey: what was found stands there as a comment, what only people
//! can know as a key to fill in.

use crate::survey::Survey;
use model::{Place, ProcessKind, ProcessType, ServiceKind, files, shell_words};

/// What only people know, and were asked.
#[derive(Debug, Clone, Default)]
pub struct Answers {
    /// The command of the `web` process, where the survey found none.
    pub start: Option<String>,
    /// The services, of those that the survey found, that the app needs.
    pub services: Vec<ServiceKind>,
}

/// The text of a new `shtetl.toml`; its first line names the schema for editors, if there is one beside it.
pub fn draft(survey: &Survey, answers: &Answers, has_schema: bool) -> String {
    let mut text = if has_schema { format!("#:schema ./{}\n\n", files::SCHEMA) } else { String::new() };
    text.push_str(
        "# How this app becomes images. Everything is optional: commented-out lines show what `shtetl survey`\n# finds by itself.\n\n",
    );
    line(&mut text, "", &format!("# name = {:?}", survey.name), "the folder's name");
    text.push_str("\n[base]\n");
    line(&mut text, "", &format!("# from = {:?}", survey.base.0), "the default");
    for finding in survey.chosen_findings() {
        let Some((version, place)) = finding.runtime.as_ref().and_then(|r| r.constraint.as_ref()) else {
            continue;
        };
        text.push_str(&format!("\n# [buildpacks.{}]\n", finding.buildpack));
        line(&mut text, "# ", &format!("version = {version:?}"), &said(place));
    }
    processes(&mut text, survey, answers);
    services(&mut text, survey, answers);
    settings(&mut text, survey, answers);
    variant(&mut text, survey);
    text
}

/// A line with a comment behind it, in one column as far as that goes.
fn line(text: &mut String, indent: &str, content: &str, comment: &str) {
    let content = format!("{indent}{content}");
    text.push_str(&format!("{content:<40} # {comment}\n"));
}

fn said(place: &Place) -> String {
    match place.line {
        Some(line) => format!("found in {} line {line}", place.file),
        None => format!("found in {}", place.file),
    }
}

fn processes(text: &mut String, survey: &Survey, answers: &Answers) {
    for process in &survey.processes {
        let kind = if process.kind == ProcessKind::Task { "task" } else { "process" };
        let is_migration = process.kind == ProcessKind::Task && process.name.starts_with("migrat");
        let mark = if is_migration { "" } else { "# " };
        text.push_str(&format!("\n{mark}[{kind}.{}]\n", process.name));
        line(text, "# ", &format!("run = {:?}", shell_words::join(&process.command)), &said(&process.said));
        if is_migration {
            line(text, "", "before = \"release\"", "runs once before a new release takes over");
        }
        details(text, process);
    }
    if survey.processes.iter().any(|p| p.kind == ProcessKind::Process) {
        return;
    }
    match &answers.start {
        Some(start) => text.push_str(&format!("\n[process.web]\nrun = {start:?}\n")),
        None => text.push_str("\n# No start command found:\n# [process.web]\n# run = \"the command\"\n"),
    }
}

fn details(text: &mut String, process: &ProcessType) {
    if let Some(port) = process.port {
        line(text, "# ", &format!("port = {port}"), "the process reads it from PORT");
    }
    if process.kind == ProcessKind::Process && process.health.is_none() && process.port.is_some() {
        line(
            text,
            "# ",
            "health = \"/healthz\"",
            "a path that answers with success when the process is healthy",
        );
    }
}

/// What only people know: how one place to run the app differs from others.
fn variant(text: &mut String, survey: &Survey) {
    let Some(process) = survey.processes.iter().find(|process| process.kind == ProcessKind::Process) else {
        return;
    };
    text.push_str(&format!("\n# [variant.live.process.{}]\n", process.name));
    line(text, "# ", "instances = 2", "a named set of changes: build --variant live");
}

/// The default name of a service.
fn service_name(kind: ServiceKind) -> &'static str {
    match kind {
        ServiceKind::Postgresql | ServiceKind::Mysql | ServiceKind::Mariadb => "database",
        ServiceKind::Redis => "redis",
        ServiceKind::Memcached => "cache",
        ServiceKind::Rabbitmq => "queue",
        ServiceKind::ObjectStore => "files",
    }
}

fn services(text: &mut String, survey: &Survey, answers: &Answers) {
    for found in &survey.found_services {
        let mark = if answers.services.contains(&found.kind) { "" } else { "# " };
        text.push_str(&format!("\n{mark}[service.{}]\n", service_name(found.kind)));
        let comment = format!("used by {}", found.driver);
        line(text, mark, &format!("kind = {:?}", found.kind.name()), &comment);
        let given = found.kind.default_gives();
        let gives = given
            .iter()
            .map(|(setting, template)| format!("{setting} = {template:?}").replace(['{', '}'], ""));
        let comment = if given.len() == 1 {
            "the setting that holds its address"
        } else {
            "the settings that it provides"
        };
        line(text, mark, &format!("gives = {{ {} }}", gives.collect::<Vec<_>>().join(", ")), comment);
    }
}

fn settings(text: &mut String, survey: &Survey, answers: &Answers) {
    text.push_str("\n[settings]\n");
    if survey.reads.is_empty() {
        text.push_str("# LOG_LEVEL = \"info\"\n");
    }
    let is_given = |name: &String| {
        answers.services.iter().flat_map(|kind| kind.default_gives()).any(|(given, _)| given == name)
    };
    for (name, read) in survey.reads.iter().filter(|(name, _)| !is_given(name)) {
        let place = said(&read.place).replace("found in", "read in");
        match (read.is_optional(), read.looks_secret) {
            (true, _) => line(text, "# ", &format!("{name} = \"\""), &format!("has a default, {place}")),
            (false, true) => {
                line(text, "", &format!("{name} = {{ required = true, secret = true }}"), &place)
            }
            (false, false) => line(text, "", &format!("{name} = {{ required = true }}"), &place),
        }
    }
}
