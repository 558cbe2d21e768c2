//! The schema of `town.toml`.

use super::key::Key;
use serde_json::{Value, json};

/// The schema of `town.toml`.
pub fn town() -> Value {
    let apps = Key::table(
        "Where the apps are",
        [
            (
                "folders",
                Key::texts("Patterns of folders; each matching folder is an app").example(json!(["apps/*"])),
            ),
            ("except", Key::texts("Patterns of folders that are not apps").example(json!(["apps/legacy-*"]))),
        ],
    );
    let entry = Key::table(
        "An app",
        [
            (
                "from",
                Key::text("A folder, an archive, a git repository on this machine, or the URL of one")
                    .example("../fares.git"),
            ),
            ("revision", Key::text("A revision of the repository").example("v14")),
            ("member", Key::text("A member of a workspace").example("apps/api")),
            (
                "after",
                Key::texts("Apps whose images this app needs; they are built first")
                    .example(json!(["base-image"])),
            ),
        ],
    );
    let group = Key::table(
        "Apps that have something in common",
        [
            (
                "apps",
                Key::texts("Names of apps, or patterns of names").example(json!(["timetable", "web-*"])),
            ),
            (
                "rules",
                Key::text("A file of house rules for this group, instead of the town's")
                    .example("house/web.toml"),
            ),
            ("variant", Key::text("The variant to build").example("live")),
            ("tag", Key::text("The tag of the images").example("14")),
        ],
    )
    .requiring(&["apps"]);
    Key::table(
        "Which apps belong together",
        [
            ("format", Key::of("The format of the file", json!({ "const": 1 }))),
            (
                "registry",
                Key::text("Where images are pushed to: a registry and the first part of the names")
                    .example("harbour.example/ferry"),
            ),
            ("rules", Key::text("A file of house rules for all apps").example("house.toml")),
            ("apps", apps),
            ("app", Key::named("Apps elsewhere, and more about apps in folders", entry)),
            ("group", Key::tables("Groups of apps, by name", group)),
        ],
    )
    .file("town.toml")
}
