//! Words of many apps together.

use super::worded::{FAILED, WRONG, Worded, suggestion, worded};
use model::error::TownError;

pub(super) fn words_of(error: &TownError) -> Worded {
    match error {
        TownError::NoFile { path } => worded(
            WRONG,
            format!("{} does not exist", path.display()),
            "write one with at least: [apps], then folders = [\"apps/*\"]; or name it: --town FILE",
        ),
        TownError::NoApps { path, patterns } if patterns.is_empty() => worded(
            WRONG,
            format!("{} names no apps", path.display()),
            "say where they are: [apps], then folders = [\"apps/*\"]",
        ),
        TownError::NoApps { path, patterns } => worded(
            WRONG,
            format!("{}: no folder fits {}", path.display(), patterns.join(", ")),
            "patterns are taken from the folder of the file",
        ),
        TownError::Twice { name, first, second } => worded(
            WRONG,
            format!("two apps are called {name}: {} and {}", first.display(), second.display()),
            "give one of them another name in its shtetl.toml: name = \"…\"",
        ),
        TownError::UnknownApp { name, said_in, known } => {
            let known: Vec<&str> = known.iter().map(String::as_str).collect();
            worded(WRONG, format!("{said_in}: no app is called {name:?}"), suggestion(name, &known))
        }
        TownError::UnknownGroup { name, known } if known.is_empty() => worded(
            WRONG,
            format!("there is no group {name:?}: the town has no groups"),
            format!("write one: [group.{name}], then apps = [\"NAME\", \"web-*\"]"),
        ),
        TownError::UnknownGroup { name, known } => {
            let known: Vec<&str> = known.iter().map(String::as_str).collect();
            worded(WRONG, format!("there is no group {name:?}"), suggestion(name, &known))
        }
        TownError::Circle { names } => worded(
            WRONG,
            format!("each of these apps comes after another of them: {}", names.join(", ")),
            "remove one of the `after` keys in town.toml",
        ),
        TownError::BadShard { text } => worded(
            WRONG,
            format!("{text:?} names no part of a town"),
            "write --shard I/N, with I from 1 to N: --shard 3/8; or --shard auto where an engine says it",
        ),
        TownError::OtherTown { path } => worded(
            WRONG,
            format!("{} is the result of another build than the others", path.display()),
            "gather the results of one build: same town, same number of parts",
        ),
        TownError::MissingShards { missing } => worded(
            FAILED,
            format!("there is no result of {}", missing.join(", ")),
            "build these parts again: shtetl town build --shard I/N --result FILE",
        ),
        TownError::LostApps => worded(
            FAILED,
            "the results do not have every app of the town exactly once",
            "the parts were built by different plans: build all of them with the same --parts file, or without one",
        ),
        TownError::NoResult { path } => worded(
            WRONG,
            format!("{} is not the result of a build of a town", path.display()),
            "give files that `shtetl town build --result FILE` wrote",
        ),
    }
}
