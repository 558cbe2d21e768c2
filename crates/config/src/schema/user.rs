//! The schema of the user's own configuration.

use super::app::addresses;
use super::key::Key;
use super::organisation::trusted_keys;
use model::KnownNames;
use serde_json::{Value, json};

/// The schema of the user's own configuration, `config.toml`.
pub fn user(known: &KnownNames) -> Value {
    Key::table(
        "A user's configuration for all apps on a machine",
        [
            ("addresses", addresses(known)),
            ("limits", limits()),
            (
                "run",
                Key::table(
                    "How `shtetl run` runs processes",
                    [(
                        "network",
                        Key::one_of(
                            "The network of processes: their own, or this machine's",
                            ["own", "host"],
                        )
                        .default("own"),
                    )],
                ),
            ),
            ("trust", trust()),
            ("store", store()),
        ],
    )
    .file("config.toml")
}

fn limits() -> Key {
    Key::table(
        "Limits for each build step, and for each process of `shtetl run`",
        [
            ("processes", Key::number("The maximum number of processes and threads", 1).default(4096)),
            (
                "memory",
                Key::size("Memory for all processes together, files in /tmp included; default: 9/10 of the machine's")
                    .example("4GiB"),
            ),
            ("open-files", Key::number("The maximum number of open files of each process", 1).default(65_536)),
            (
                "written",
                Key::size("The maximum size of data written to disk; default: 32GiB for a step, none for `run`")
                    .example("64GiB"),
            ),
            ("minutes", Key::number("The maximum run time of a step", 1).default(60)),
        ],
    )
}

fn trust() -> Key {
    Key::table(
        "What is trusted",
        [
            (
                "servers",
                Key::texts("Servers (HOST or HOST:PORT) to which an app's own files may send variables, such as tokens")
                    .example(json!(["packages.example"])),
            ),
            ("keys", trusted_keys()),
        ],
    )
}

fn store() -> Key {
    Key::table(
        "The store, and what is shared with other machines",
        [
            ("keep", Key::size("A build shrinks the store to this size when it ends").example("20GB")),
            (
                "shared",
                Key::text("The shared store: oci:HOST/NAME or s3:https://HOST/BUCKET")
                    .example("oci:harbour.example/ferry/shared"),
            ),
            (
                "shared-keys",
                Key::texts("Files of public keys; only results signed with one of them are used")
                    .example(json!(["ci.key.pub"])),
            ),
            (
                "shared-key",
                Key::text("A file with the private key that signs results; with it, builds share theirs")
                    .example("ci.key"),
            ),
        ],
    )
}
