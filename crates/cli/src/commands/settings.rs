//! `settings`: the effective configuration, and where each value comes from.

use super::Done;
use crate::surroundings::Surroundings;
use arguments::SettingsOptions;
use config::{Layer, Origin};
use model::{SettingRule, shell_words};
use remote::Network;
use render::table::Table;
use render::{BUSY, FAINT, Output, STRONG, styled, words};
use serde_json::json;
use std::collections::BTreeMap;
use std::process::ExitCode;
use workshop::app::App;
use workshop::survey::looks_secret;

pub fn run(options: &SettingsOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let app =
        surroundings.look(&options.source, &surroundings.fetcher(Network::Allowed), Surroundings::now())?;
    if output.is_json() {
        let shown = |(name, rule): (&String, &SettingRule)| {
            let hidden = rule.value.is_some() && looks_secret(name);
            let value = if hidden { Some("(secret)".to_owned()) } else { rule.value.clone() };
            (name.clone(), SettingRule { value, ..rule.clone() })
        };
        let settings: BTreeMap<_, _> = app.survey.settings.iter().map(shown).collect();
        output.json(&json!({
            "format": "shtetl/settings/1",
            "name": app.survey.name,
            "variant": options.source.variant,
            "settings": settings,
            "reads": app.survey.reads,
            "processes": app.survey.processes,
            "origins": app.origins,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let variant = options.source.variant.as_ref().map(|v| format!("  variant {v}")).unwrap_or_default();
    output.line(format!("{}{variant}", styled(STRONG, &app.survey.name)));
    section(output, "settings", &settings(&app));
    section(output, "process types and tasks", &processes(&app));
    section(output, "build", &others(&app));
    Ok(ExitCode::SUCCESS)
}

fn section(output: &Output, heading: &str, table: &Table) {
    let lines = table.lines();
    if !lines.is_empty() {
        output.line("");
        output.line(styled(STRONG, heading));
        lines.iter().for_each(|line| output.line(line));
    }
}

/// `variant live, shtetl.toml line 30`.
fn said(origin: &Origin) -> String {
    let place = words::place(&origin.place);
    let locked = if origin.locked { ", locked" } else { "" };
    match &origin.layer {
        Layer::HouseRules => format!("house rules, {place}{locked}"),
        Layer::App => place,
        Layer::Variant(name) => format!("variant {name}, {place}"),
        Layer::Variable => format!("the variable {place}"),
        Layer::Option => format!("the option {place}"),
    }
}

/// The strongest origin of a setting: its value is what matters most.
fn origin_of<'a>(app: &'a App, name: &str) -> Option<&'a Origin> {
    let key = format!("settings.{name}");
    let value = app.origins.get(&format!("{key}.value"));
    value.or_else(|| app.origins.iter().find(|(k, _)| k.starts_with(&format!("{key}."))).map(|(_, o)| o))
}

fn settings(app: &App) -> Table {
    let mut table = Table::new(&[]);
    for (name, rule) in &app.survey.settings {
        let place = origin_of(app, name).map(said).unwrap_or_default();
        table.row([name.clone(), words::setting(name, rule), styled(FAINT, place)]);
    }
    for (name, read) in app.survey.reads.iter().filter(|(name, _)| !app.survey.settings.contains_key(*name)) {
        let rule =
            if read.is_optional() { "default in the code".to_owned() } else { styled(BUSY, "not declared") };
        table.row([name.clone(), rule, styled(FAINT, format!("read in {}", words::place(&read.place)))]);
    }
    table
}

fn processes(app: &App) -> Table {
    let mut table = Table::new(&[]);
    for process in &app.survey.processes {
        let name = process.name.clone();
        table.row([name, shell_words::join(&process.command), styled(FAINT, words::place(&process.said))]);
        for table_name in ["process", "task"] {
            let prefix = format!("{table_name}.{}.", process.name);
            for (key, origin) in
                app.origins.iter().filter(|(key, _)| key.starts_with(&prefix) && !key.ends_with(".run"))
            {
                let field = format!("  {}", &key[prefix.len()..]);
                table.row([field, origin.text.clone(), styled(FAINT, said(origin))]);
            }
        }
        if process.port.is_some() && !app.origins.contains_key(&format!("process.{}.port", process.name)) {
            let port = process.port.unwrap_or_default().to_string();
            table.row(["  port".to_owned(), port, styled(FAINT, "default")]);
        }
    }
    table
}

/// All effective values with their origins: process types, settings, and the rest.
pub fn in_force(app: &App) -> Table {
    let mut table = Table::new(&[]);
    for (key, origin) in &app.origins {
        let is_secret = key.strip_prefix("settings.").is_some_and(|rest| {
            let (name, field) = rest.split_once('.').unwrap_or((rest, "value"));
            field == "value" && looks_secret(name)
        });
        let value = if is_secret { "(secret)".to_owned() } else { origin.text.clone() };
        table.row([key.clone(), value, styled(FAINT, said(origin))]);
    }
    if !app.origins.contains_key("base.from") {
        table.row(["base.from".to_owned(), app.survey.base.0.clone(), styled(FAINT, "default")]);
    }
    if !app.origins.contains_key("name") {
        table.row(["name".to_owned(), app.survey.name.clone(), styled(FAINT, "default: the folder's")]);
    }
    table
}

/// All other values, and the base.
fn others(app: &App) -> Table {
    let mut table = Table::new(&[]);
    let elsewhere = ["settings.", "process.", "task."];
    for (key, origin) in app.origins.iter().filter(|(key, _)| !elsewhere.iter().any(|e| key.starts_with(e))) {
        table.row([key.clone(), origin.text.clone(), styled(FAINT, said(origin))]);
    }
    if !app.origins.contains_key("base.from") {
        table.row(["base.from".to_owned(), app.survey.base.0.clone(), styled(FAINT, "default")]);
    }
    table
}
