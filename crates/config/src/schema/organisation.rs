//! The schema of house rules.

use super::app::shared;
use super::key::Key;
use model::KnownNames;
use serde_json::{Value, json};

/// The schema of house rules.
pub fn house_rules(known: &KnownNames) -> Value {
    let mut keys = shared(known);
    keys.extend([
        ("trust", Key::table("Who is trusted", [("keys", trusted_keys())])),
        ("allow", allow()),
        ("require", require()),
        ("exception", Key::tables("Exceptions from house rules, by app", exception())),
        (
            "locked",
            Key::texts("Keys or tables that apps may not change").example(json!(["base", "settings.REGION"])),
        ),
    ]);
    Key::table("An organisation's rules for all its apps", keys).file("house rules")
}

/// Keys that have to have signed an image.
pub(super) fn trusted_keys() -> Key {
    Key::texts("Files of public keys; an image must be signed with one of them")
        .example(json!(["ferry.key.pub"]))
}

fn allow() -> Key {
    Key::table(
        "What apps may consist of",
        [
            ("bases", Key::texts("Patterns of allowed bases").example(json!(["debian:*"]))),
            (
                "registries",
                Key::texts("Servers that images may be pushed to, and that bases and packages may come from")
                    .example(json!(["harbour.example"])),
            ),
            (
                "licences",
                Key::texts(
                    "Allowed licences of packages as SPDX identifiers; `undeclared` for packages without one",
                )
                .example(json!(["MIT", "Apache-2.0", "undeclared"])),
            ),
            ("buildpacks", Key::texts("Allowed buildpacks").example(json!(["node", "python"]))),
            ("image-size", Key::size("The maximum size of an image's layers together").example("500MB")),
        ],
    )
}

fn require() -> Key {
    Key::table(
        "What every app must have",
        [
            ("settings", Key::texts("Settings that every app must declare").example(json!(["LOG_LEVEL"]))),
            (
                "support-days",
                Key::number("For how many more days bases and runtimes must be supported", 0).example(90),
            ),
        ],
    )
}

fn exception() -> Key {
    Key::table(
        "Rules that do not apply to this app for now",
        [
            ("rules", Key::some_of("The rules", crate::HOUSE_RULES)),
            ("reason", Key::text("Why")),
            ("until", Key::day("The last day of the exception")),
        ],
    )
    .requiring(&["rules", "reason", "until"])
}
