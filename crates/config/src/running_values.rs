//! The keys of what runs: process types, tasks, services and settings. A variant may change them, and no step depends on them.

use crate::reader::{Table, Value};
use crate::{AppConfig, ProcessConfig};
use model::error::ConfigError;
use model::names::{check, is_variable};
use model::process::moments;
use model::service::{PARTS, parts_of};
use model::shell_words::CommandLine;
use model::{Error, Service, ServiceKind, SettingRule};
use std::collections::BTreeMap;

/// Process types, tasks and settings: what a variant may change, and what never runs a step.
pub(super) fn read_running(root: &Table<'_, '_>, config: &mut AppConfig) {
    for (key, what, is_task) in [("process", "process type", false), ("task", "task", true)] {
        let Some(table) = root.value(key).and_then(|v| v.table()) else { continue };
        for (name, _, value) in table.each() {
            check_name(&value, what, name);
            if is_task && config.processes.contains_key(name) {
                value.bad("a process type already has this name; rename the task".to_owned());
            }
            let process = value.table().map(|t| read_process(t, is_task));
            let into = if is_task { &mut config.tasks } else { &mut config.processes };
            into.extend(process.map(|p| (name.to_owned(), p)));
        }
    }
    if let Some(table) = root.value("service").and_then(|v| v.table()) {
        for (name, _, value) in table.each() {
            check_name(&value, "service", name);
            if config.processes.contains_key(name) || config.tasks.contains_key(name) {
                value.bad("a process type or task already has this name; rename the service".to_owned());
            }
            config.services.extend(read_service(&value).map(|service| (name.to_owned(), service)));
        }
    }
    if let Some(table) = root.value("settings").and_then(|v| v.table()) {
        for (name, _, value) in table.each() {
            if !is_variable(name) {
                let rule = "the name must be letters, digits and underscores, not beginning with a digit";
                value.bad(rule.to_owned());
            }
            config.settings.extend(read_setting(&value).map(|rule| (name.to_owned(), rule)));
        }
    }
}

/// A service: its kind, and the settings that it provides.
fn read_service(value: &Value<'_, '_>) -> Option<Service> {
    let table = value.table()?;
    let (kind, gives) = (table.value("kind"), table.value("gives").and_then(|v| v.table()));
    let mut filled = BTreeMap::new();
    for (setting, _, template) in gives.iter().flat_map(Table::each) {
        if !is_variable(setting) {
            template.bad("the name of a setting must be letters, digits and underscores".to_owned());
        }
        filled.extend(read_template(&template).map(|text| (setting.to_owned(), text)));
    }
    table.done();
    let known = || ServiceKind::ALL.map(ServiceKind::name).join(", ");
    let Some(kind) = kind else {
        value.bad(format!("needs a kind, one of {}", known()));
        return None;
    };
    let Some(named) = ServiceKind::named(&kind.string()?) else {
        kind.bad(format!("must be one of {}", known()));
        return None;
    };
    if filled.is_empty() {
        let usual = named.default_gives().iter();
        filled.extend(usual.map(|(setting, template)| ((*setting).to_owned(), (*template).to_owned())));
    }
    Some(Service { kind: named, gives: filled })
}

/// The name of a part, or a text with names of parts in braces.
fn read_template(value: &Value<'_, '_>) -> Option<String> {
    let text = value.string()?;
    if PARTS.contains(&text.as_str()) {
        return Some(format!("{{{text}}}"));
    }
    match parts_of(&text) {
        Ok(parts) if !parts.is_empty() => Some(text),
        _ => {
            value.bad(format!("must be one of {}, or a string with them in braces", PARTS.join(", ")));
            None
        }
    }
}

pub(super) fn check_name(value: &Value<'_, '_>, what: &'static str, name: &str) {
    if let Err(Error::Config(ConfigError::Name { suggestion, .. })) = check(what, name) {
        let rule = "a name has lower-case letters, digits and dashes, begins with a letter, and has at most 63 characters";
        value.bad(match suggestion {
            Some(suggestion) => format!("{rule}; for example {suggestion:?}"),
            None => rule.to_owned(),
        });
    }
}

fn read_process(table: Table<'_, '_>, is_task: bool) -> ProcessConfig {
    let mut process = ProcessConfig {
        run: None,
        writable: table.value("writable").map(|value| folders(&value)).unwrap_or_default(),
        port: None,
        health: None,
        health_every: None,
        start_within: None,
        memory: None,
        instances: None,
        before: None,
    };
    if let Some(run) = table.value("run") {
        process.run = read_command(&run);
    }
    if is_task {
        if let Some(value) = table.value("before") {
            process.before = value.string();
            if process.before.as_deref().is_some_and(|moment| !moments::ALL.contains(&moment)) {
                value.bad(format!(
                    "must be {}",
                    moments::ALL.map(|moment| format!("{moment:?}")).join(" or ")
                ));
            }
        }
    } else {
        if let Some(value) = table.value("port") {
            process.port = value.number("a port from 1 to 65535");
            if process.port == Some(0) {
                value.bad("must be a port from 1 to 65535".to_owned());
            }
        }
        process.instances = table.value("instances").and_then(|v| v.number("0 or more"));
        process.health_every = table.value("health-every").and_then(|value| read_seconds(&value));
        process.start_within = table.value("start-within").and_then(|value| read_seconds(&value));
        if let Some(value) = table.value("health") {
            process.health = value.string();
            if process.health.as_deref().is_some_and(|h| !h.starts_with('/')) {
                value.bad("must begin with a slash".to_owned());
            }
        }
    }
    if let Some(value) = table.value("memory") {
        process.memory = value.string().and_then(|text| read_size(&value, &text));
    }
    table.done();
    process
}

/// Folders inside the app; a dot is all of it.
fn folders(value: &Value<'_, '_>) -> Vec<String> {
    let mut inside = Vec::new();
    for folder in value.strings().unwrap_or_default() {
        let plain = folder.trim_start_matches("./").trim_end_matches('/');
        match folder.starts_with('/') || plain.is_empty() || plain.split('/').any(|part| part == "..") {
            true => value.bad(format!("{folder:?} is not a folder inside the app")),
            false => inside.push(plain.to_owned()),
        }
    }
    inside
}

pub(super) fn read_command(value: &Value<'_, '_>) -> Option<CommandLine> {
    let line = match value.is_string() {
        true => CommandLine::parse(&value.string()?),
        false => CommandLine { env: Vec::new(), words: value.strings()? },
    };
    if line.words.first().is_none_or(String::is_empty) {
        value.bad("must not be empty".to_owned());
        return None;
    }
    Some(line)
}

/// A number above 0.
pub(super) fn positive(table: &Table<'_, '_>, key: &'static str) -> Option<u64> {
    let value = table.value(key)?;
    let number = value.number("a number above 0")?;
    if number == 0 {
        value.bad("must be a number above 0".to_owned());
    }
    Some(number)
}

/// `256MiB`, `1GiB`, `512MB`: bytes.
pub(super) fn read_size(value: &Value<'_, '_>, text: &str) -> Option<u64> {
    const UNITS: [(&str, u64); 6] = [
        ("KiB", 1 << 10),
        ("MiB", 1 << 20),
        ("GiB", 1 << 30),
        ("kB", 1_000),
        ("MB", 1_000_000),
        ("GB", 1_000_000_000),
    ];
    let size = UNITS.iter().find_map(|(unit, bytes)| {
        let number: u64 = text.strip_suffix(unit)?.trim().parse().ok()?;
        number.checked_mul(*bytes)
    });
    if size.is_none() {
        value.bad("must be a number with KiB, MiB, GiB, kB, MB or GB".to_owned());
    }
    size
}

/// `30s`, `2m`: seconds, at least one.
fn read_seconds(value: &Value<'_, '_>) -> Option<u32> {
    let text = value.string()?;
    let number = |unit: &str, seconds: u32| -> Option<u32> {
        let number: u32 = text.strip_suffix(unit)?.trim().parse().ok()?;
        number.checked_mul(seconds).filter(|all| *all > 0)
    };
    let seconds = number("s", 1).or_else(|| number("m", 60));
    if seconds.is_none() {
        value.bad("must be a number of seconds or minutes, as in \"30s\" or \"2m\"".to_owned());
    }
    seconds
}

fn read_setting(value: &Value<'_, '_>) -> Option<SettingRule> {
    if !value.is_table() {
        return Some(SettingRule { value: Some(value.string()?), ..SettingRule::default() });
    }
    let table = value.table()?;
    let rule = SettingRule {
        value: table.value("value").and_then(|v| v.string()),
        required: table.value("required").and_then(|v| v.truth()).unwrap_or_default(),
        secret: table.value("secret").and_then(|v| v.truth()).unwrap_or_default(),
        about: table.value("about").and_then(|v| v.string()),
    };
    if rule.secret && rule.value.is_some() {
        value.bad("a secret cannot have a value here; set it when the app is started".to_owned());
    }
    table.done();
    Some(rule)
}
