//! Words of many apps together.

use super::worded::{FAILED, WRONG, Worded, suggestion, worded};
use model::error::TownError;

pub(super) fn words_of(error: &TownError) -> Worded {
    match error {
        TownError::NoFile { path } => worded(
            WRONG,
            format!("{} does not exist", path.display()),
            "create one with at least: [apps], then folders = [\"apps/*\"]; or choose another with --town FILE",
        ),
        TownError::NoApps { path, patterns } if patterns.is_empty() => worded(
            WRONG,
            format!("{} lists no apps", path.display()),
            "add them: [apps], then folders = [\"apps/*\"]",
        ),
        TownError::NoApps { path, patterns } => worded(
            WRONG,
            format!("{}: no folder matches {}", path.display(), patterns.join(", ")),
            "patterns are relative to the folder of the file",
        ),
        TownError::Twice { name, first, second } => worded(
            WRONG,
            format!("two apps are called {name}: {} and {}", first.display(), second.display()),
            "rename one of them in its shtetl.toml: name = \"…\"",
        ),
        TownError::UnknownApp { name, said_in, known } => {
            let known: Vec<&str> = known.iter().map(String::as_str).collect();
            worded(WRONG, format!("{said_in}: no app is called {name:?}"), suggestion(name, &known))
        }
        TownError::UnknownGroup { name, known } if known.is_empty() => worded(
            WRONG,
            format!("there is no group {name:?}: the town has no groups"),
            format!("add it: [group.{name}], then apps = [\"NAME\", \"web-*\"]"),
        ),
        TownError::UnknownGroup { name, known } => {
            let known: Vec<&str> = known.iter().map(String::as_str).collect();
            worded(WRONG, format!("there is no group {name:?}"), suggestion(name, &known))
        }
        TownError::Circle { names } => worded(
            WRONG,
            format!("these apps wait for each other in a circle: {}", names.join(", ")),
            "remove one of the `after` keys in town.toml",
        ),
        TownError::BadShard { text } => worded(
            WRONG,
            format!("{text:?} is not a part of a town"),
            "use --shard I/N with I from 1 to N, for example --shard 3/8; or --shard auto under an engine that sets it",
        ),
        TownError::OtherTown { path } => worded(
            WRONG,
            format!("{} is the result of a different build than the others", path.display()),
            "gather results of one build: same town, same number of parts",
        ),
        TownError::MissingShards { missing } => worded(
            FAILED,
            format!("there is no result of {}", missing.join(", ")),
            "build these parts again: shtetl town build --shard I/N --result FILE",
        ),
        TownError::LostApps => worded(
            FAILED,
            "the results do not contain every app of the town exactly once",
            "the parts were built from different plans: build all with the same --parts file, or all without one",
        ),
        TownError::NoResult { path } => worded(
            WRONG,
            format!("{} is not the result of a build of a town", path.display()),
            "give files written by `shtetl town build --result FILE`",
        ),
    }
}
