//! Words of running processes.

use super::worded::{FAILED, OUTSIDE, Worded, worded};
use ::sandbox::{Ground, Isolation, Limit, Refusal, SandboxError};

/// No way to isolate a process works here.
pub(super) fn refused(refusal: &Refusal) -> Worded {
    Worded {
        details: refusal
            .tries
            .iter()
            .map(|(mode, step, detail)| {
                let who = match mode.isolation {
                    Isolation::Superuser => "as root",
                    Isolation::SingleUser => "in a user namespace",
                };
                let ground = match mode.ground {
                    Ground::Overlay => "overlay",
                    Ground::Copy => "copied root",
                };
                format!("  {who}, {ground}: could not {step} ({detail})")
            })
            .collect(),
        ..worded(
            OUTSIDE,
            "this machine does not allow a process to be isolated",
            "allow user namespaces (user.max_user_namespaces above 0), or run as root; building works without it",
        )
    }
}

/// A process could not be started.
pub(super) fn words_of(error: &SandboxError) -> Worded {
    match error {
        SandboxError::NotStarted { program, detail } => worded(
            FAILED,
            format!("the image cannot start {program:?}: {detail}"),
            "check the command of the process type; `shtetl show` lists it",
        ),
        SandboxError::Refused { step, detail } => {
            worded(OUTSIDE, format!("the process could not be isolated: could not {step} ({detail})"), "")
        }
        SandboxError::Lost => {
            worded(OUTSIDE, "the process could not be isolated: the sandbox ended without a report", "")
        }
    }
}

/// How a limit of an app's own is raised.
pub fn app_limit_advice(limit: Limit) -> String {
    format!("to allow more, in shtetl.toml, under [build]: {}", higher(limit))
}

/// How a limit of the user's is raised.
pub fn limit_advice(limit: Limit) -> String {
    format!("to allow more, in your own configuration (config.toml), under [limits]: {}", higher(limit))
}

fn higher(limit: Limit) -> &'static str {
    match limit {
        Limit::Memory => "memory = \"8GiB\"",
        Limit::Written => "written = \"64GiB\"",
        Limit::Time => "minutes = 120",
    }
}
