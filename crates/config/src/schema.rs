//! JSON Schemas (draft 2020-12) of the configuration files, so that editors complete and check them.
//!
//! They say what `values` reads; a test compares the keys of both.

use model::process::moments;
use model::service::PARTS;
use model::{Ecosystem, EmptyPart, KnownNames, OptionSpec, ServiceKind, Takes};
use serde_json::{Map, Value, json};

/// The names of variables, as a pattern.
const VARIABLE: &str = "^[A-Za-z_][A-Za-z0-9_]*$";

const NAME: &str = "^[a-z](?:[a-z0-9-]{0,61}[a-z0-9])?$";

/// The schema of `shtetl.toml`.
pub fn app(known: &KnownNames) -> Value {
    let mut keys = shared(known);
    keys.insert("name".to_owned(), name());
    keys.insert("rules".to_owned(), text("The file of the house rules, from the app's folder"));
    let variant = closed("Changes to process types, tasks and settings", running());
    keys.insert("variant".to_owned(), named("Named sets of changes", variant));
    root("shtetl.toml", "How an app becomes images; everything is optional", keys)
}

/// The schema of house rules.
pub fn house_rules(known: &KnownNames) -> Value {
    let mut keys = shared(known);
    let trust = json!({ "keys": texts("Files of public keys of which one has to have signed an image") });
    keys.insert("trust".to_owned(), closed("Who is trusted", entries(trust)));
    let allow = json!({
        "bases": texts("Patterns of bases that apps may have"),
        "registries": texts("Servers that images may go to, and that bases and packages may come from"),
        "licences": texts("Licences of packages, by their SPDX identifiers; undeclared for packages that declare none"),
        "buildpacks": texts("Buildpacks that may build"),
        "image-size": size("How large the layers of an image may be together"),
    });
    keys.insert("allow".to_owned(), closed("What apps may be made of", entries(allow)));
    let require = json!({
        "settings": texts("Settings that every app must declare"),
        "support-days": {
            "description": "For how many days bases and runtimes must still be supported", "type": "integer", "minimum": 0,
        },
    });
    keys.insert("require".to_owned(), closed("What apps must have", entries(require)));
    let exception = json!({
        "rules": { "description": "The rules", "type": "array", "items": { "enum": crate::HOUSE_RULES } },
        "reason": text("Why"),
        "until": { "description": "The last day", "type": "string", "format": "date" },
    });
    let mut exception = closed("Rules that do not hold for this app for now", entries(exception));
    exception["required"] = json!(["rules", "reason", "until"]);
    keys.insert(
        "exception".to_owned(),
        json!({ "description": "Exceptions, by app", "type": "object", "additionalProperties": exception }),
    );
    keys.insert("locked".to_owned(), texts("Keys or tables, dotted, that apps may not change"));
    root("house rules", "What an organisation says for all its apps", keys)
}

/// The schema of `town.toml`.
pub fn town() -> Value {
    let apps = json!({
        "folders": texts("Patterns of folders: each that fits is an app"),
        "except": texts("Patterns of folders that are none"),
    });
    let entry = json!({
        "from": text("A folder, a repository on this machine or an archive"),
        "revision": text("A revision of the repository"),
        "member": text("A member of a workspace"),
        "after": texts("Apps whose images it needs"),
    });
    let group = json!({
        "apps": texts("Names of apps, by pattern"),
        "rules": text("The file of house rules for them, in place of the town's"),
        "variant": text("The variant that they are built as"),
        "tag": text("The tag of their images"),
    });
    let mut group = closed("Apps that have something in common", entries(group));
    group["required"] = json!(["apps"]);
    let keys = Map::from_iter([
        ("format".to_owned(), json!({ "description": "The format of the file", "const": 1 })),
        ("registry".to_owned(), text("Registry and beginning of names there, to which images are pushed")),
        ("rules".to_owned(), text("The file of house rules for all apps")),
        ("apps".to_owned(), closed("Where apps are", entries(apps))),
        (
            "app".to_owned(),
            named(
                "Apps that are elsewhere, and more about those in folders",
                closed("An app", entries(entry)),
            ),
        ),
        (
            "group".to_owned(),
            json!({ "description": "Groups, by name", "type": "object", "additionalProperties": group }),
        ),
    ]);
    root("town.toml", "Which apps belong together", keys)
}

/// The schema of the user's own configuration.
pub fn user(known: &KnownNames) -> Value {
    let count = |about: &str| json!({ "description": about, "type": "integer", "minimum": 1 });
    let limits = json!({
        "processes": count("Processes and threads at once"),
        "memory": size("Memory of all together; what processes keep in /tmp counts"),
        "open-files": count("Open files of each process"),
        "written": size("What is written to disks; without it, `run` has no limit"),
        "minutes": count("For how long a step may run"),
    });
    let network = json!({ "network": {
        "description": "The network of processes: their own, or the host's", "enum": ["own", "host"],
    } });
    let trust = json!({
        "servers": texts("Servers, as HOST or HOST:PORT, that files of apps may send variables to"),
        "keys": texts("Files of public keys of which one has to have signed an image"),
    });
    let store = json!({
        "keep": size("How much a build leaves in the store at most"),
        "shared": text("Where results of steps are shared: oci:HOST/NAME or s3:https://HOST/BUCKET"),
        "shared-keys": texts("Files of public keys: results count that one of them signed"),
        "shared-key": text("A file with the private key that signs own results, which are shared then"),
    });
    let keys = Map::from_iter([
        ("addresses".to_owned(), addresses(known)),
        ("limits".to_owned(), closed("How much a step, or a process of `run`, may use", entries(limits))),
        ("run".to_owned(), closed("How processes are run", entries(network))),
        ("trust".to_owned(), closed("Who is trusted", entries(trust))),
        ("store".to_owned(), closed("The store", entries(store))),
    ]);
    root("config.toml", "What a user says for all apps of a machine", keys)
}

fn root(title: &str, about: &str, keys: Map<String, Value>) -> Value {
    let mut schema = closed(about, keys);
    schema["$schema"] = json!("https://json-schema.org/draft/2020-12/schema");
    schema["title"] = json!(title);
    schema
}

/// What both files may say.
fn shared(known: &KnownNames) -> Map<String, Value> {
    let source = json!({
        "exclude": texts("Patterns of files that are not packed"),
        "include": texts("Patterns of files that are packed in spite of every other rule"),
    });
    let parts = json!({
        "description": "What an empty base has all the same",
        "type": "array",
        "items": { "enum": EmptyPart::ALL.map(EmptyPart::name) },
    });
    let base = json!({
        "from": text("What lies under the app: debian:SUITE, oci:REFERENCE, empty, or host"),
        "packages": texts("Packages of the distribution, besides those that base and runtimes have"),
        "build-packages": texts("Packages of the distribution for steps that run programs; never in an image"),
        "with": parts,
        "outdated": truth("Whether a release that is past its time will do"),
        "keyring": text("A file with keys that are trusted besides the distribution's"),
    });
    let mut keys = running();
    keys.insert("source".to_owned(), closed("What is packed", entries(source)));
    keys.insert("base".to_owned(), closed("The base", entries(base)));
    keys.insert("buildpacks".to_owned(), buildpacks(known));
    keys.insert("build".to_owned(), build(known));
    keys.insert("advisory".to_owned(), advisories());
    keys.insert("addresses".to_owned(), addresses(known));
    keys
}

fn advisories() -> Value {
    let keys = json!({
        "reason": text("Why it is accepted"),
        "until": { "description": "The last day on which it is accepted", "type": "string", "format": "date" },
    });
    let mut accepted = closed("An advisory that is accepted, by its id or another name of it", entries(keys));
    accepted["required"] = json!(["reason", "until"]);
    json!({ "description": "Advisories that are accepted for now", "type": "object", "additionalProperties": accepted })
}

fn addresses(known: &KnownNames) -> Value {
    let names: Vec<&str> = known.ecosystems.iter().map(|ecosystem| ecosystem.name()).collect();
    let with_one = names.iter().filter(|name| **name != Ecosystem::FILES.name());
    let addresses = with_one.map(|name| ((*name).to_owned(), text("A URL or a folder")));
    let mut addresses = closed("Where packages come from", addresses.collect());
    addresses["patternProperties"] = json!({ format!("^(?:{}):.", names.join("|")):
        text("Where packages of this name or scope come from, and never from anywhere else") });
    addresses
}

fn build(known: &KnownNames) -> Value {
    let names: Vec<&str> = known.tools.iter().map(String::as_str).collect();
    let keys = json!({
        "run": command(),
        "tools": { "description": "What it needs", "type": "array", "items": { "enum": names } },
        "keep": texts("Patterns of the files that go into the image"),
        "fetch": texts("Kinds of files that it fetches: npm, maven and the like, or files:NAME with an address of its own"),
        "leave-out": texts("Patterns of files that only the build reads; the image does not have them"),
    });
    closed(
        "A command that makes files of the app, apart from this machine; of the network it has only what it fetches",
        entries(keys),
    )
}

fn command() -> Value {
    json!({
        "description": "The program and its arguments: words as a shell splits them, or a list",
        "anyOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" }, "minItems": 1 }],
    })
}

fn buildpacks(known: &KnownNames) -> Value {
    let names: Vec<&str> = known.buildpacks.iter().map(|(name, _)| name.as_str()).collect();
    let list = |about: &str| json!({ "description": about, "type": "array", "items": { "enum": names } });
    let of = |keys: &[OptionSpec]| {
        let schema_of = |spec: &OptionSpec| match spec.takes {
            Takes::Version | Takes::Text => text(&spec.about),
            Takes::Truth => truth(&spec.about),
            Takes::Texts | Takes::AddedTexts => texts(&spec.about),
        };
        let own = keys.iter().map(|spec| (spec.key.to_string(), schema_of(spec)));
        closed("Options of the buildpack", own.collect())
    };
    let mut keys: Map<String, Value> =
        known.buildpacks.iter().map(|(name, keys)| (name.clone(), of(keys))).collect();
    keys.insert("add".to_owned(), texts("Folders with definitions of further buildpacks"));
    keys.insert("order".to_owned(), list("The buildpacks that build, the main one first"));
    keys.insert("forbid".to_owned(), list("Buildpacks that never build this app"));
    closed("Which buildpacks build", keys)
}

/// What a variant may change too.
fn running() -> Map<String, Value> {
    let run = command();
    let memory = size("Memory that it may use, with all that it starts");
    let process = json!({
        "run": run,
        "memory": memory,
        "port": { "description": "The port it listens on", "type": "integer", "minimum": 1, "maximum": 65535 },
        "health": { "description": "A path that answers when it is well", "type": "string", "pattern": "^/" },
        "health-every": seconds("How often it is asked for its health"),
        "start-within": seconds("How long it may take until it answers for the first time"),
        "writable": texts("Folders that it writes to, from that of the app"),
        "instances": { "description": "How many of it should run", "type": "integer", "minimum": 0 },
    });
    let task = json!({
        "run": run,
        "memory": memory,
        "writable": texts("Folders that it writes to, from that of the app"),
        "before": { "description": "The moment before which it runs", "enum": moments::ALL },
    });
    let rule = json!({
        "value": text("The value, unless another is given at the start"),
        "required": truth("Whether the app needs a value"),
        "secret": truth("Whether the value is never shown, stored or packed"),
        "about": text("What it is for"),
    });
    let rule = closed("A rule", entries(rule));
    let mut keys = Map::new();
    keys.insert("process".to_owned(), named("Process types", closed("A process type", entries(process))));
    keys.insert(
        "task".to_owned(),
        named("Tasks: they do their work and end", closed("A task", entries(task))),
    );
    let service = json!({
        "kind": { "description": "What it is", "enum": ServiceKind::ALL.map(ServiceKind::name) },
        "gives": {
            "description": "Settings that it fills: one of its parts, or a text with parts in braces",
            "type": "object",
            "propertyNames": { "pattern": VARIABLE },
            "additionalProperties": { "anyOf": [{ "enum": PARTS }, { "type": "string", "pattern": "\\{[a-z]+\\}" }] },
        },
    });
    let mut service = closed("A service that the app needs while it runs", entries(service));
    service["required"] = json!(["kind"]);
    keys.insert("service".to_owned(), named("Services, which are no part of the image", service));
    keys.insert(
        "settings".to_owned(),
        json!({
            "description": "Environment variables of the app",
            "type": "object",
            "propertyNames": { "pattern": VARIABLE },
            "additionalProperties": { "anyOf": [{ "type": "string" }, rule] },
        }),
    );
    keys
}

fn seconds(about: &str) -> Value {
    json!({ "description": about, "type": "string", "pattern": "^[0-9]+ *[sm]$" })
}

/// An object with these keys and no others.
fn closed(about: &str, keys: Map<String, Value>) -> Value {
    json!({ "description": about, "type": "object", "properties": keys, "additionalProperties": false })
}

/// An object whose keys are names, each with such a value.
fn named(about: &str, value: Value) -> Value {
    json!({
        "description": about,
        "type": "object",
        "propertyNames": { "pattern": NAME },
        "additionalProperties": value,
    })
}

fn entries(object: Value) -> Map<String, Value> {
    object.as_object().cloned().unwrap_or_default()
}

fn name() -> Value {
    json!({ "description": "The app's name; default: the folder's", "type": "string", "pattern": NAME })
}

fn size(about: &str) -> Value {
    json!({
        "description": about,
        "type": "string",
        "pattern": "^[0-9]+ *(?:KiB|MiB|GiB|kB|MB|GB)$",
    })
}

fn text(about: &str) -> Value {
    json!({ "description": about, "type": "string" })
}

fn texts(about: &str) -> Value {
    json!({ "description": about, "type": "array", "items": { "type": "string" } })
}

fn truth(about: &str) -> Value {
    json!({ "description": about, "type": "boolean" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::Document;
    use crate::{AppConfig, values};
    use model::{Ecosystem, Fault};

    /// The keys that a table of the schema knows; `place` leads to it from the root.
    fn keys_of(schema: &Value, place: &str) -> Vec<String> {
        let mut keys: Vec<_> =
            schema.pointer(place).unwrap()["properties"].as_object().unwrap().keys().cloned().collect();
        keys.sort();
        keys
    }

    #[test]
    fn the_schema_has_the_keys_that_are_read() {
        let text = "x = 1\n[source]\nx = 1\n[base]\nx = 1\n[buildpacks]\nx = 1\n[buildpacks.node]\nx = 1\n\
            [addresses]\nx = 1\n[process.web]\nx = 1\n[task.migrate]\nx = 1\n[service.tides]\nkind = \"redis\"\nx = 1\n[settings.LEVEL]\nx = 1\n\
            [variant.live]\nx = 1\n";
        let document = Document::parse(text).unwrap_or_else(|_| panic!("valid TOML"));
        let names = KnownNames {
            buildpacks: vec![("node".to_owned(), vec![OptionSpec::VERSION])],
            ecosystems: vec![Ecosystem::NPM],
            ..KnownNames::default()
        };
        values::read(&document, &mut AppConfig::default(), &names);
        let mut tables = 0;
        for complaint in document.done().0 {
            let Fault::UnknownKey { table, known, .. } = complaint.fault else { panic!("{complaint:?}") };
            let place = match table.as_str() {
                "" => String::new(),
                "process.web" => "/properties/process/additionalProperties".to_owned(),
                "task.migrate" => "/properties/task/additionalProperties".to_owned(),
                "service.tides" => "/properties/service/additionalProperties".to_owned(),
                "settings.LEVEL" => "/properties/settings/additionalProperties/anyOf/1".to_owned(),
                "variant.live" => "/properties/variant/additionalProperties".to_owned(),
                table => format!("/properties/{}", table.replace('.', "/properties/")),
            };
            let mut known = known;
            known.sort();
            assert_eq!(keys_of(&app(&names), &place), known, "[{table}]");
            tables += 1;
        }
        assert_eq!(tables, 11);

        let document = Document::parse("x = 1").unwrap_or_else(|_| panic!("valid TOML"));
        values::read_house(&document, &mut AppConfig::default(), &names);
        let [complaint] = &document.done().0[..] else { panic!("one key is wrong") };
        let Fault::UnknownKey { known, .. } = &complaint.fault else { panic!("{complaint:?}") };
        let mut known = known.clone();
        known.sort();
        assert_eq!(keys_of(&house_rules(&names), ""), known);
    }
}
