//! Which keys there are and what each takes.

use crate::limits::read_limits;
use crate::reader::{Document, Table, Value, with_table};
use crate::running_values::{check_name, positive, read_command, read_running, read_size};
use crate::{AcceptedAdvisory, AppConfig, BuildChoice};
use model::shell_words::CommandLine;
use model::{
    BuildCommand, BuildpackOptions, Ecosystem, EmptyPart, KnownNames, OptionValue, Place, Takes, files,
};
use sandbox::AppLimits;
use std::collections::{BTreeMap, BTreeSet};

/// Reads an app's configuration; gives its variants.
pub(super) fn read(
    document: &Document<'_>,
    config: &mut AppConfig,
    names: &KnownNames,
) -> BTreeMap<String, AppConfig> {
    let root = document.root();
    read_name(&root, config);
    config.rules = root.value("rules").and_then(|v| v.string());
    read_shared(&root, config, names);
    let mut variants = BTreeMap::new();
    if let Some(table) = root.value("variant").and_then(|v| v.table()) {
        for (name, _, value) in table.each() {
            check_name(&value, "variant", name);
            let Some(inside) = value.table() else { continue };
            let mut variant = AppConfig::default();
            read_running(&inside, &mut variant);
            inside.done();
            variants.insert(name.to_owned(), variant);
        }
    }
    root.done();
    variants
}

/// Reads house rules; gives the keys that apps may not say.
pub(super) fn read_house(document: &Document<'_>, config: &mut AppConfig, names: &KnownNames) -> Vec<String> {
    let root = document.root();
    read_shared(&root, config, names);
    // An app cannot say who is trusted: an attacker who changed it could trust themselves.
    with_table(&root, "trust", |table| {
        config.trusted_keys = table.value("keys").and_then(|v| v.strings()).unwrap_or_default();
    });
    read_limits(&root, &mut config.limits);
    let locked = root.value("locked").and_then(|v| v.strings()).unwrap_or_default();
    root.done();
    locked
}

/// Reads values for one run: whatever the file may say, but no other rules and no variants.
pub(super) fn read_values(document: &Document<'_>, config: &mut AppConfig, names: &KnownNames) {
    let root = document.root();
    read_name(&root, config);
    read_shared(&root, config, names);
    root.done();
}

fn read_name(root: &Table<'_, '_>, config: &mut AppConfig) {
    if let Some(value) = root.value("name") {
        config.name = value.string().inspect(|name| check_name(&value, "app", name));
    }
}

/// What both apps and house rules may say.
fn read_shared(root: &Table<'_, '_>, config: &mut AppConfig, names: &KnownNames) {
    with_table(root, "source", |table| {
        config.exclude = patterns(table.value("exclude"));
        config.include = patterns(table.value("include"));
    });
    with_table(root, "base", |table| {
        config.base = table.value("from").and_then(|v| v.string());
        config.base_packages = table.value("packages").and_then(|v| v.strings()).unwrap_or_default();
        config.build_packages = table.value("build-packages").and_then(|v| v.strings()).unwrap_or_default();
        config.base_with = table.value("with").map(|v| empty_parts(&v)).unwrap_or_default();
        config.outdated = table.value("outdated").and_then(|v| v.truth());
        config.keyring = table.value("keyring").and_then(|v| v.string());
    });
    if let Some(table) = root.value("buildpacks").and_then(|v| v.table()) {
        read_buildpacks(table, config, names);
    }
    if let Some(table) = root.value("build").and_then(|v| v.table()) {
        config.leave_out = patterns(table.value("leave-out"));
        config.step_limits = AppLimits {
            memory: table.value("memory").and_then(|value| read_size(&value, &value.string()?)),
            minutes: positive(&table, "minutes"),
        };
        config.fetch = table.value("fetch").map(|value| kinds(&value, names)).unwrap_or_default();
        config.build = read_build(table, &names.tools);
    }
    if let Some(table) = root.value("advisory").and_then(|v| v.table()) {
        for (id, _, value) in table.each() {
            config.accepted.extend(read_accepted(&value).map(|accepted| (id.to_owned(), accepted)));
        }
    }
    config.addresses = read_addresses(root, names);
    config.ecosystems.clone_from(&names.ecosystems);
    read_running(root, config);
}

/// Why an advisory is accepted, and until when; both are required.
fn read_accepted(value: &Value<'_, '_>) -> Option<AcceptedAdvisory> {
    let table = value.table()?;
    let (reason, until) = (table.value("reason"), table.value("until"));
    table.done();
    let (Some(reason), Some(until)) = (reason, until) else {
        value.bad("needs a reason and an expiry date: { reason = \"…\", until = \"2027-03-31\" }".to_owned());
        return None;
    };
    let (reason, text) = (reason.string()?, until.string()?);
    match text.parse() {
        Ok(day) => Some(AcceptedAdvisory { reason, until: day }),
        Err(_) => {
            until.bad("must be a day, as in \"2027-03-31\"".to_owned());
            None
        }
    }
}

pub(super) fn read_addresses(root: &Table<'_, '_>, names: &KnownNames) -> BTreeMap<String, String> {
    let mut addresses = BTreeMap::new();
    let Some(table) = root.value("addresses").and_then(|v| v.table()) else { return addresses };
    // Files have no address for all of them, only for each name.
    let with_one = names.ecosystems.iter().filter(|ecosystem| **ecosystem != Ecosystem::FILES);
    for key in with_one.map(|ecosystem| ecosystem.name()) {
        let address = table.value(key).and_then(|v| v.string());
        addresses.extend(address.map(|a| (key.to_owned(), a)));
    }
    let is_bound =
        |key: &str| Ecosystem::with_bound(key, &names.ecosystems).is_some_and(|(_, bound)| bound.is_some());
    for (key, _, value) in table.each().filter(|(key, ..)| is_bound(key)) {
        addresses.extend(value.string().map(|a| (key.to_owned(), a)));
    }
    table.done_but(is_bound);
    addresses
}

fn patterns(value: Option<Value<'_, '_>>) -> Vec<String> {
    let Some(value) = value else { return Vec::new() };
    let patterns = value.strings().unwrap_or_default();
    for pattern in &patterns {
        if let Err(error) = globset::Glob::new(pattern) {
            value.bad(format!("{pattern:?} is not a valid pattern: {}", error.kind()));
        }
    }
    patterns
}

fn read_buildpacks(table: Table<'_, '_>, config: &mut AppConfig, names: &KnownNames) {
    config.add = table.value("add").and_then(|v| v.strings()).unwrap_or_default();
    config.order = table.value("order").and_then(|v| v.strings());
    config.forbid = table.value("forbid").and_then(|v| v.strings()).unwrap_or_default();
    for (name, keys) in &names.buildpacks {
        let Some(inner) = table.value(name).and_then(|value| value.table()) else { continue };
        let mut options = BuildpackOptions::default();
        for spec in keys {
            let value = inner.value(&spec.key).and_then(|value| read_option(&value, spec.takes));
            if let Some(value) = value {
                options.set(&spec.key, value);
            }
        }
        inner.done();
        config.buildpacks.insert(name.clone(), options);
    }
    table.done();
}

fn read_option(value: &Value<'_, '_>, takes: Takes) -> Option<OptionValue> {
    Some(match takes {
        Takes::Version => {
            let place = Place::new(files::CONFIG, Some(value.line()));
            OptionValue::Version(value.string()?, place)
        }
        Takes::Text => OptionValue::Text(value.string()?),
        Takes::Truth => OptionValue::Truth(value.truth()?),
        Takes::Texts => OptionValue::Texts(value.strings()?),
        Takes::AddedTexts => OptionValue::AddedTexts(value.strings()?),
    })
}

fn empty_parts(value: &Value<'_, '_>) -> Vec<EmptyPart> {
    let part = |name: &String| {
        let known = EmptyPart::ALL.map(EmptyPart::name);
        if !known.contains(&name.as_str()) {
            value.bad(format!("{name:?} must be one of {}", known.join(", ")));
        }
        EmptyPart::named(name)
    };
    value.strings().unwrap_or_default().iter().filter_map(part).collect()
}

/// Kinds of files: ecosystems, or a name that is bound to an address.
fn kinds(value: &Value<'_, '_>, names: &KnownNames) -> Vec<String> {
    let all = value.strings().unwrap_or_default();
    for kind in &all {
        let known = Ecosystem::with_bound(kind, &names.ecosystems);
        let is_one = match known {
            Some((Ecosystem::FILES, bound)) => bound.is_some(),
            known => known.is_some_and(|(_, bound)| bound.is_none()),
        };
        if !is_one {
            let named = names.ecosystems.iter().map(|ecosystem| ecosystem.name());
            let list: Vec<&str> = named.filter(|name| *name != Ecosystem::FILES.name()).collect();
            value.bad(format!("{kind:?} must be one of {}, or files:NAME", list.join(", ")));
        }
    }
    all
}

fn read_build(table: Table<'_, '_>, known: &BTreeSet<String>) -> Option<BuildChoice> {
    let run = table.value("run");
    let is_off = run.as_ref().is_some_and(|v| v.is_bool() && v.truth() == Some(false));
    let run = run.filter(|_| !is_off).and_then(|v| read_command(&v)).map(words_of);
    let tools = table.value("tools");
    let keep = patterns(table.value("keep"));
    let named = tools.as_ref().and_then(|v| v.strings()).unwrap_or_default();
    for (value, name) in tools.iter().flat_map(|value| named.iter().map(move |name| (value, name))) {
        if !known.contains(name.as_str()) {
            let all: Vec<&str> = known.iter().map(String::as_str).collect();
            value.bad(format!("{name:?} must be one of {}", all.join(", ")));
        }
    }
    table.done();
    match is_off {
        true => Some(BuildChoice::Off),
        false => Some(BuildChoice::Run(BuildCommand { run: run?, tools: named, keep, fetch: Vec::new() })),
    }
}

/// The words of a command whose variables are set by its own words.
fn words_of(line: CommandLine) -> Vec<String> {
    match line.env.is_empty() {
        true => line.words,
        false => {
            let set = line.env.into_iter().map(|(name, value)| format!("{name}={value}"));
            std::iter::once("env".to_owned()).chain(set).chain(line.words).collect()
        }
    }
}
