//! Results as JSON documents that have a JSON Schema, each with the version of its format.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;
use town::results::TownResult;
use town::shards::Spread;
use workshop::base_selection::Provision;
use workshop::buildpacks::Buildpacks;
use workshop::check::Problem;
use workshop::record::Record;
use workshop::survey::Survey;

/// What `survey --format json` prints.
#[derive(Serialize, JsonSchema)]
#[schemars(title = "shtetl/survey/1")]
pub struct SurveyDocument<'a> {
    /// Name and version of this format.
    pub format: &'static str,
    /// What was concluded.
    pub survey: &'a Survey,
    /// How its runtimes are going to be provided, as far as nobody has to be asked.
    pub provisions: &'a [Provision],
}

/// What `check --format json` prints.
#[derive(Serialize, JsonSchema)]
#[schemars(title = "shtetl/check/1")]
pub struct CheckDocument<'a> {
    /// Name and version of this format.
    pub format: &'static str,
    /// The app's name.
    pub name: &'a str,
    /// How many of the problems would break the build or the start.
    pub failing: usize,
    /// What was found, the failing ones first.
    pub problems: &'a [Problem],
    /// Advisories about the packages, where they were asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advisories: Option<Value>,
}

/// Something with a schema.
pub struct Described {
    /// What it is called.
    pub name: &'static str,
    /// What it is, in one line.
    pub about: &'static str,
    /// Makes the schema.
    pub schema: fn() -> Value,
}

/// Everything with a schema.
pub const ALL: [Described; 10] = [
    Described {
        name: "configuration",
        about: "shtetl.toml, the configuration of an app",
        schema: || config::schema::app(&Buildpacks::built_in().known_names()),
    },
    Described {
        name: "house-rules",
        about: "house rules of an organisation",
        schema: || config::schema::house_rules(&Buildpacks::built_in().known_names()),
    },
    Described {
        name: "user-configuration",
        about: "config.toml, what a user says for all apps of a machine",
        schema: || config::schema::user(&Buildpacks::built_in().known_names()),
    },
    Described { name: "town", about: "town.toml, which apps belong together", schema: config::schema::town },
    Described {
        name: "town-build",
        about: "what `shtetl town build` and `town gather` print and write",
        schema: || schemars::schema_for!(TownResult).to_value(),
    },
    Described {
        name: "town-plan",
        about: "what `shtetl town plan` prints and writes",
        schema: || schemars::schema_for!(Spread).to_value(),
    },
    Described {
        name: "buildpack",
        about: "definition.toml, a buildpack of your own",
        schema: definitions::schema,
    },
    Described {
        name: "survey",
        about: "what `shtetl survey --format json` prints",
        schema: || schemars::schema_for!(SurveyDocument<'static>).to_value(),
    },
    Described {
        name: "check",
        about: "what `shtetl check --format json` prints",
        schema: || schemars::schema_for!(CheckDocument<'static>).to_value(),
    },
    Described {
        name: "record",
        about: "the record that every image carries",
        schema: || schemars::schema_for!(Record).to_value(),
    },
];
