//! Words of the yard.

use super::worded::{FAILED, OUTSIDE, WRONG, Worded, joined, suggestion, system, worded};
use ::yard::{EventKind, Fault, Outcome, ReleaseKind, Trouble};
use render::instances::{end_words, state_words};
use running::app::State;

pub(super) fn words_of(trouble: &Trouble) -> Worded {
    match trouble {
        Trouble::NotRunning => worded(FAILED, "the yard is not running", "start it: shtetl yard start"),
        Trouble::Ended => worded(
            FAILED,
            "the yard ended before it finished",
            "`shtetl yard status` shows the current state; `shtetl yard start` starts it again",
        ),
        Trouble::Io(error) => worded(OUTSIDE, format!("the yard: {}", system(error)), ""),
        Trouble::Fault(fault) => of_fault(fault),
    }
}

fn of_fault(fault: &Fault) -> Worded {
    match fault {
        Fault::NoApp { app, known } if known.is_empty() => worded(
            WRONG,
            format!("the yard has no app {app:?}; it has no apps yet"),
            "release an image: shtetl yard release IMAGE",
        ),
        Fault::NoApp { app, known } => {
            worded(WRONG, format!("the yard has no app {app:?}"), suggestion(app, known))
        }
        Fault::NoRelease { app, release } => worded(
            WRONG,
            format!("{app} has no release {release}"),
            format!("`shtetl yard releases {app}` lists them"),
        ),
        Fault::NothingReleased { app } => worded(
            WRONG,
            format!("{app} has no current release"),
            format!("release an image: shtetl yard release {app}"),
        ),
        Fault::NoProcess { process, known } => {
            worded(WRONG, format!("the app has no process type {process:?}"), suggestion(process, known))
        }
        Fault::Busy { app } => {
            worded(FAILED, format!("another change of {app} is in progress"), "try again when that has ended")
        }
        Fault::SettingsMissing { app, names } => worded(
            WRONG,
            format!("no value for {}", joined(names.iter().map(String::as_str))),
            format!(
                "give one: shtetl yard settings {app} --set {}=VALUE",
                names.first().map_or("NAME", String::as_str)
            ),
        ),
        Fault::PortTaken { port } => worded(
            OUTSIDE,
            format!("port {port} is in use on this machine"),
            "take another: --port N, or --port 0 for a free one",
        ),
        Fault::NotHealthy { instance, state } => {
            worded(FAILED, format!("{instance} did not become healthy: {}", state_words(state)), "")
        }
        Fault::OnlyTasks { label } => worded(
            WRONG,
            format!("{label} has only tasks and no process types"),
            "run one of them: shtetl run IMAGE TASK",
        ),
        Fault::NotReleased { app, release, outcome, last_lines, still } => Worded {
            details: last_lines.iter().map(|line| format!("  | {line}")).collect(),
            ..worded(
                FAILED,
                format!("release {release} of {app} did not take over: {}", outcome_words(outcome)),
                match still {
                    Some(still) => format!(
                        "release {still} is still current; `shtetl yard logs {app} --release {release}` shows more"
                    ),
                    None => format!("`shtetl yard logs {app} --release {release}` shows more"),
                },
            )
        },
        Fault::OtherVersion { .. } => worded(
            FAILED,
            "the running yard has another version of shtetl",
            "restart it: shtetl yard stop, then shtetl yard start",
        ),
        Fault::Other { detail } => worded(FAILED, detail, ""),
    }
}

/// What became of a release.
pub fn outcome_words(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Starting => "starts".to_owned(),
        Outcome::InForce => "took over".to_owned(),
        Outcome::TaskFailed { task, how } => format!("the task {task} {}", end_words(how)),
        Outcome::NotHealthy { instance, state: State::Ended { how, .. } } => {
            format!("{instance} {}", end_words(how))
        }
        Outcome::NotHealthy { instance, state } => format!("{instance} is {}", state_words(state)),
        Outcome::CutShort => "interrupted when the yard ended".to_owned(),
        Outcome::Refused { detail } => detail.clone(),
    }
}

/// What happened to an app, in words.
pub fn event_words(kind: &EventKind) -> String {
    match kind {
        EventKind::ReleaseBegun { release, what } => match what {
            ReleaseKind::Image => format!("release {release} starts"),
            ReleaseKind::Settings { names } => {
                format!("release {release} starts: settings {}", names.join(", "))
            }
            ReleaseKind::RollBack { to } => format!("release {release} starts: back to {to}"),
        },
        EventKind::ReleaseEnded { release, outcome } => {
            format!("release {release}: {}", outcome_words(outcome))
        }
        EventKind::Replaced { release } => format!("the instances of release {release} are gone"),
        EventKind::Instance { release, instance, state } => {
            format!("{instance} of release {release}: {}", state_words(state))
        }
        EventKind::Scaled { process, instances } => format!("scaled: {process}={instances}"),
        EventKind::Restarted => "restarted".to_owned(),
        EventKind::YardStarted => "the yard was started".to_owned(),
        EventKind::YardEnded => "the yard ended".to_owned(),
        EventKind::PortMoved { before, after } => {
            format!("port {before} is in use: {after} answers in its place")
        }
    }
}
