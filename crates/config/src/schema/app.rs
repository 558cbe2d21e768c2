//! The schema of `shtetl.toml`, and the parts that house rules have in common with it.

use super::key::Key;
use model::process::moments;
use model::service::PARTS;
use model::{Ecosystem, EmptyPart, KnownNames, OptionSpec, ServiceKind, Takes};
use serde_json::{Value, json};

type Keys = Vec<(&'static str, Key)>;

/// The schema of `shtetl.toml`.
pub fn app(known: &KnownNames) -> Value {
    let mut keys: Keys = vec![
        ("name", Key::name("The app's name; default: the folder's name").example("timetable")),
        ("rules", Key::text("A file of house rules, relative to the app's folder").example("../house.toml")),
    ];
    keys.extend(shared(known));
    let variant = Key::table("Changes to process types, tasks and settings", running());
    keys.push(("variant", Key::named("Named sets of changes, chosen with --variant", variant)));
    Key::table("How an app becomes images; every key is optional", keys).file("shtetl.toml")
}

/// The keys that apps and house rules have in common.
pub(super) fn shared(known: &KnownNames) -> Keys {
    let mut keys = vec![
        ("source", source()),
        ("base", base()),
        ("buildpacks", buildpacks(known)),
        ("build", build(known)),
    ];
    keys.extend(running());
    keys.push(("addresses", addresses(known)));
    keys.push(("advisory", Key::tables("Advisories that are accepted for now, by identifier", advisory())));
    keys
}

fn source() -> Key {
    Key::table(
        "Which files are packed",
        [
            ("exclude", Key::texts("Patterns of files to leave out").example(json!(["docs/**"]))),
            (
                "include",
                Key::texts("Patterns of files to pack, overriding all other rules")
                    .example(json!(["bin/ferryd"])),
            ),
        ],
    )
}

fn base() -> Key {
    let with = Key::some_of("Parts to add to an empty base", EmptyPart::ALL.map(EmptyPart::name));
    Key::table(
        "The base of the image",
        [
            (
                "from",
                Key::text(
                    "What lies under the app: debian:trixie, debian:bookworm, oci:REFERENCE, empty, or host",
                )
                .example("debian:trixie"),
            ),
            ("packages", Key::texts("Debian packages to add to the image").example(json!(["libvips42t64"]))),
            (
                "build-packages",
                Key::texts("Debian packages for build steps; never part of an image")
                    .example(json!(["libvips-dev"])),
            ),
            ("with", with),
            ("outdated", Key::truth("Accept a package archive past its Valid-Until date").default(false)),
            (
                "keyring",
                Key::text("A file with OpenPGP keys to trust besides Debian's").example("../keys.gpg"),
            ),
        ],
    )
}

fn advisory() -> Key {
    let keys = [
        ("reason", Key::text("Why the advisory is accepted").example("the parser only reads our own files")),
        ("until", Key::day("The last day on which it is accepted")),
    ];
    Key::table("An accepted advisory, by its identifier or an alias", keys).requiring(&["reason", "until"])
}

/// `[addresses]`, which the user's configuration has too.
pub(super) fn addresses(known: &KnownNames) -> Key {
    let names: Vec<&str> = known.ecosystems.iter().map(|ecosystem| ecosystem.name()).collect();
    let with_one = names.iter().filter(|name| **name != Ecosystem::FILES.name());
    let keys = with_one.map(|name| (*name, Key::text("A URL, or a folder in the registry's layout")));
    Key::table("Where packages come from", keys).with_pattern(
        &format!("^(?:{}):.", names.join("|")),
        Key::text(
            "Where packages with this name or scope come from; they are never taken from anywhere else",
        ),
    )
}

fn build(known: &KnownNames) -> Key {
    let run = Key::any_of(
        "The command; false runs none, not even the one that was found",
        [Key::text("Words, split as in a shell"), words(), Key::of("No command", json!({ "const": false }))],
    );
    let tools: Vec<&str> = known.tools.iter().map(String::as_str).collect();
    Key::table(
        "A command that generates files of the app, in isolation from this machine",
        [
            ("run", run.example("make bin/horn")),
            ("tools", Key::some_of("Tools that the command needs", tools)),
            (
                "keep",
                Key::texts("Patterns of generated files to pack; default: every new file")
                    .example(json!(["bin/*"])),
            ),
            (
                "fetch",
                Key::texts(
                    "What the command may download: a kind of package, or files:NAME with its own address",
                )
                .example(json!(["npm", "files:fonts"])),
            ),
            (
                "memory",
                Key::size("Memory for all processes of a build step of this app together").example("2GiB"),
            ),
            ("minutes", Key::number("The maximum run time of a build step of this app", 1).example(10)),
            (
                "leave-out",
                Key::texts("Patterns of files that only the build reads; left out of the image")
                    .example(json!(["src"])),
            ),
        ],
    )
}

fn command() -> Key {
    Key::any_of(
        "The program and its arguments; may contain $PORT and other variables",
        [Key::text("Words, split as in a shell"), words()],
    )
    .example("node server.js")
}

fn words() -> Key {
    Key::of("A list of words", json!({ "type": "array", "items": { "type": "string" }, "minItems": 1 }))
}

fn buildpacks(known: &KnownNames) -> Key {
    let names: Vec<&str> = known.buildpacks.iter().map(|(name, _)| name.as_str()).collect();
    let of = |options: &[OptionSpec]| {
        let key = |spec: &OptionSpec| match spec.takes {
            Takes::Version | Takes::Text => Key::text(&spec.about),
            Takes::Truth => Key::truth(&spec.about),
            Takes::Texts | Takes::AddedTexts => Key::texts(&spec.about),
        };
        Key::table("Options of the buildpack", options.iter().map(|spec| (spec.key.to_string(), key(spec))))
    };
    let own = known.buildpacks.iter().map(|(name, options)| (name.clone(), of(options)));
    let general = [
        (
            "order",
            Key::some_of(
                "The buildpacks to use, the main one first, when several recognise the source",
                &names,
            )
            .example(json!(["node"])),
        ),
        (
            "forbid",
            Key::some_of("Buildpacks that must not build this app", &names).example(json!(["static"])),
        ),
        (
            "add",
            Key::texts(
                "Folders that define further buildpacks, here or in git repositories (git+URL#COMMIT/FOLDER)",
            )
            .example(json!(["./tools/forms"])),
        ),
    ];
    let general = general.into_iter().map(|(name, key)| (name.to_owned(), key));
    Key::table("Which buildpacks build, and their options", general.chain(own))
}

/// What a variant may change too.
fn running() -> Keys {
    vec![
        ("process", Key::named("Process types, which run until they are stopped", process())),
        ("task", Key::named("Tasks, which do their work and end", task())),
        ("service", Key::named("Services that the app needs at run time; not part of the image", service())),
        ("settings", settings()),
    ]
}

fn memory() -> Key {
    Key::size("The maximum memory, child processes included").example("256MiB")
}

fn writable() -> Key {
    Key::texts("Folders, relative to the app's folder, that the process may write to")
        .example(json!(["data"]))
}

fn process() -> Key {
    Key::table(
        "A process type",
        [
            ("run", command()),
            (
                "port",
                Key::number("The port it listens on, passed to it as PORT; default for `web`: 8080", 1)
                    .at_most(65_535)
                    .example(8080),
            ),
            (
                "health",
                Key::text("A path that answers with success when the process is healthy")
                    .matching("^/")
                    .example("/healthz"),
            ),
            ("health-every", Key::seconds("How often the health path is asked").example("5s")),
            ("start-within", Key::seconds("How long the first successful answer may take").example("60s")),
            ("writable", writable()),
            ("memory", memory()),
            ("instances", Key::number("How many instances to run", 0).default(1)),
        ],
    )
}

fn task() -> Key {
    Key::table(
        "A task",
        [
            ("run", command().example("node migrate.js")),
            (
                "before",
                Key::one_of("When it runs: once before a release, or before every start", moments::ALL),
            ),
            ("writable", writable()),
            ("memory", memory()),
        ],
    )
}

fn service() -> Key {
    let part = Key::of("One of the service's values", json!({ "enum": PARTS }));
    let composed = Key::text("Text with values of the service in braces").matching("\\{[a-z]+\\}");
    let gives = Key::variables(
        "Settings that the service provides: one of its values, or text with values in braces",
        Key::any_of("A value", [part, composed]),
    );
    Key::table(
        "A service that the app needs at run time",
        [
            ("kind", Key::one_of("The kind of service", ServiceKind::ALL.map(ServiceKind::name))),
            ("gives", gives.example(json!({ "DATABASE_URL": "url" }))),
        ],
    )
    .requiring(&["kind"])
}

fn settings() -> Key {
    let rule = Key::table(
        "A declaration of a setting",
        [
            ("value", Key::text("The value, unless another is given when the app is started")),
            ("required", Key::truth("Refuse to start without a value").default(false)),
            ("secret", Key::truth("Never show, store or pack the value").default(false)),
            ("about", Key::text("What the setting is for").example("where bookings are kept")),
        ],
    );
    let value = Key::text("The value");
    Key::variables(
        "Environment variables of the app, each with a value or a declaration",
        Key::any_of("A value or a declaration", [value, rule]),
    )
    .example(json!({ "LOG_LEVEL": "info" }))
}
