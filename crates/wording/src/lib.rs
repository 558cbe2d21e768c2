//! Wording, advice and exit code of everything that can go wrong: one file a domain. The only place for them.
#![forbid(unsafe_code)]

mod base;
mod code;
mod config;
mod content;
mod explain;
mod own_fault;
mod package;
mod pin;
mod registry;
mod remote;
mod run;
mod sandbox;
mod source;
mod step;
mod survey;
mod swap;
mod town;
mod worded;
mod yard;

pub use self::config::trust_advice;
pub use self::explain::{Explanation, all as explanations, document as troubleshooting, explanation};
pub use self::sandbox::limit_advice;
pub use self::yard::{event_words, outcome_words};
pub use own_fault::report_panics;
pub use worded::{INTERRUPTED, nearest_or, suggestion};

use ::content::ContentError;
use ::yard::Trouble;
use model::Error;
use render::{Output, TYPED, problem, styled, words};
use std::io;
use std::path::PathBuf;
use std::process::ExitCode;
use worded::{FAILED, FAULT, OUTSIDE, WRONG, Worded, at, system, worded};
use workshop::check::Problem;

/// A command that could not do what was asked.
#[derive(Debug)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Failure {
    /// The core failed.
    Core(Box<Error>),
    /// Wrong usage, found before the core was called.
    Usage { message: String, hint: String },
    /// The program may have only so many files open.
    FewFiles { allowed: u64 },
    /// There is no home folder to put the store into.
    NoHome,
    /// It is known before anything runs that the build or the start will fail.
    WillFail(Vec<Problem>),
    /// Another process has the store open.
    StoreInUse,
    /// A process of the demo does not answer.
    Silent,
    /// A command of the demo failed, and reported why.
    Demo { command: String },
    /// A result could not be written to standard output.
    Output(io::Error),
    /// A file that a command was told of cannot be used.
    File { path: PathBuf, source: io::Error },
    /// The yard could not do what was asked.
    Yard(Trouble),
    /// This program has a fault: what it noticed, and where in its source.
    Fault { what: String, place: String },
    /// The system refused something that only this program asks for.
    System(io::Error),
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Self::Core(Box::new(error))
    }
}

impl From<ContentError> for Failure {
    fn from(error: ContentError) -> Self {
        Error::from(error).into()
    }
}

impl From<Trouble> for Failure {
    fn from(trouble: Trouble) -> Self {
        Self::Yard(trouble)
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self::System(error)
    }
}

/// Prints the failure and gives the exit code.
pub fn report(output: &Output, failure: &Failure) -> ExitCode {
    let mut words = words_of_failure(failure);
    if output.is_verbose() {
        words.details.extend(causes(failure));
    }
    words.report(output)
}

/// The chain of causes, outermost first, without those that only repeat the next one with more around it.
fn causes(failure: &Failure) -> Vec<String> {
    let first: Option<&dyn std::error::Error> = match failure {
        Failure::Core(error) => Some(&**error),
        Failure::Yard(trouble) => Some(trouble),
        Failure::Output(error) | Failure::System(error) | Failure::File { source: error, .. } => Some(error),
        _ => None,
    };
    let chain: Vec<String> =
        std::iter::successors(first, |error| error.source()).map(ToString::to_string).collect();
    let says_more = |at: &usize| chain.get(at + 1).is_none_or(|next| !chain[*at].contains(next.as_str()));
    (0..chain.len()).filter(says_more).map(|at| format!("  cause: {}", chain[at])).collect()
}

/// The failure in lines, for commands that go on with other things.
pub fn lines(failure: &Failure) -> Vec<String> {
    let Worded { message, details, hint, .. } = words_of_failure(failure);
    let hint = hint.map(|hint| format!("{} {hint}", styled(TYPED, "what to do:")));
    std::iter::once(message).chain(details).chain(hint).collect()
}

/// The failure for programs.
pub fn document(failure: &Failure) -> serde_json::Value {
    words_of_failure(failure).document()
}

fn words_of_failure(failure: &Failure) -> Worded {
    Worded { code: code::of_failure(failure), ..uncoded(failure) }
}

fn uncoded(failure: &Failure) -> Worded {
    match failure {
        Failure::Core(error) => words_of(error),
        Failure::Usage { message, hint } => worded(WRONG, message, hint),
        Failure::WillFail(problems) => Worded {
            details: problems.iter().flat_map(problem::lines).collect(),
            ..worded(
                FAILED,
                format!("{} found before the build started", words::count(problems.len(), "problem")),
                "correct this, or build anyway with --anyway",
            )
        },
        Failure::FewFiles { allowed } => worded(
            OUTSIDE,
            format!("the limit for open files is {allowed}, and at least 64 are needed"),
            "raise the limit: ulimit -n 1024",
        ),
        Failure::Fault { what, place } => Worded {
            details: vec![format!("  {place}: {what}")],
            ..worded(
                FAULT,
                "this is a fault of Shtetl, not of your app",
                "report it with the line above and the command; nothing incomplete was kept",
            )
        },
        Failure::NoHome => {
            worded(WRONG, "no home folder found for the store", "choose a folder with --store DIR")
        }
        Failure::StoreInUse => worded(
            OUTSIDE,
            "the store is in use by a build or a running process",
            "try again when that has finished",
        ),
        Failure::Silent => worded(FAILED, "the process does not answer", "run it directly to see its output"),
        Failure::Demo { command } => {
            worded(FAILED, format!("the demo stopped: `shtetl {command}` failed"), "see its error above")
        }
        Failure::Output(error) => {
            worded(OUTSIDE, format!("standard output: {}", system(error)), "the result is incomplete")
        }
        Failure::File { path, source } => {
            worded(OUTSIDE, at(path, source), "check the path and its permissions")
        }
        Failure::Yard(trouble) => yard::words_of(trouble),
        Failure::System(error) => worded(OUTSIDE, system(error), ""),
    }
}

/// What an error says besides its first line, by line.
pub fn details(error: &Error) -> Vec<String> {
    words_of(error).details
}

/// What an error says in one line, and what to do.
pub fn message_and_advice(error: &Error) -> (String, Option<String>) {
    let Worded { message, hint, .. } = words_of(error);
    (message, hint)
}

fn words_of(error: &Error) -> Worded {
    match error {
        Error::Content(error) => content::words_of(error),
        Error::Source(error) => source::words_of(error),
        Error::Config(error) => config::words_of(error),
        Error::Survey(error) => survey::words_of(error),
        Error::Package(error) => package::words_of(error),
        Error::Pins(error) => pin::words_of(error),
        Error::Base(error) => base::words_of(error),
        Error::Step(error) => step::words_of(error),
        Error::Run(error) => run::words_of(error),
        Error::Registry(error) => registry::words_of(error),
        Error::Swap(error) => swap::words_of(error),
        Error::Town(error) => town::words_of(error),
        Error::NoSandbox(refusal) => sandbox::refused(refusal),
        Error::Sandbox(error) => sandbox::words_of(error),
        Error::Interrupted => worded(INTERRUPTED, "interrupted; nothing incomplete was left behind", ""),
    }
}
