//! What happens to the instances of an app, line by line.

use crate::{BAD, BUSY, FAINT, GOOD, Output, styled};
use anstyle::{AnsiColor, Style};
use running::app::{End, InstanceName, Reason, State, Stream, What};
use sandbox::Limit;
use serde_json::json;
use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The colours that tell process types apart.
const COLOURS: [AnsiColor; 6] = [
    AnsiColor::Cyan,
    AnsiColor::Magenta,
    AnsiColor::BrightBlue,
    AnsiColor::BrightYellow,
    AnsiColor::BrightGreen,
    AnsiColor::BrightMagenta,
];

/// Writes what happens: the lines of processes to standard output, all else to standard error.
pub struct Narrator {
    /// The process types and tasks, in order.
    names: Vec<String>,
    /// Where process types answer.
    addresses: BTreeMap<String, String>,
    begun: Mutex<BTreeMap<InstanceName, Instant>>,
    output: Output,
}

impl Narrator {
    /// For process types, tasks and services of these names; `addresses` says where they answer.
    pub fn new(names: Vec<String>, addresses: BTreeMap<String, String>, output: Output) -> Self {
        Self { names, addresses, begun: Mutex::default(), output }
    }

    /// The same, of a release.
    pub fn tell_of_release(&self, release: u32, name: &InstanceName, what: &What) {
        match self.output.is_json() {
            true => self.output.json_line(&json!({
                "release": release, "process": name.process, "instance": name.number, "happens": what,
            })),
            false => self.tell(name, what),
        }
    }

    /// Something that an instance does.
    pub fn tell(&self, name: &InstanceName, what: &What) {
        if self.output.is_json() {
            return self.output.json_line(&json!({
                "process": name.process, "instance": name.number, "happens": what,
            }));
        }
        match what {
            What::Line { stream: Stream::Output, text } => {
                self.output.line(format!("{} | {text}", self.prefix(name)));
            }
            What::Line { stream: Stream::Errors, text } => {
                self.output.aside(format!("{} | {text}", self.prefix(name)));
            }
            What::State(state) => {
                let lived = self.lived(name, state);
                self.remark(name, styled(style_of(state), self.words_of(name, state, lived)));
            }
        }
    }

    /// What a complaint of an instance means.
    pub fn note(&self, name: &InstanceName, text: String) {
        match self.output.is_json() {
            true => self
                .output
                .json_line(&json!({ "process": name.process, "instance": name.number, "note": text })),
            false => self.remark(name, text),
        }
    }

    fn remark(&self, name: &InstanceName, text: impl std::fmt::Display) {
        self.output.aside(format!("{} * {text}", self.prefix(name)));
    }

    /// How long it has been since the instance was started.
    fn lived(&self, name: &InstanceName, state: &State) -> Duration {
        let mut begun = self.begun.lock().unwrap_or_else(PoisonError::into_inner);
        if *state == State::Starting {
            begun.insert(name.clone(), Instant::now());
        }
        begun.get(name).map(Instant::elapsed).unwrap_or_default()
    }

    fn prefix(&self, name: &InstanceName) -> String {
        let widest = self.names.iter().map(String::len).max().unwrap_or_default() + 2;
        let place = self.names.iter().position(|other| *other == name.process).unwrap_or_default();
        styled(colour(place), format!("{:widest$}", name.to_string()))
    }

    fn words_of(&self, name: &InstanceName, state: &State, lived: Duration) -> String {
        let address = self.addresses.get(&name.process).map(|a| format!(": {a}")).unwrap_or_default();
        match state {
            State::Starting => "starts".to_owned(),
            State::Healthy => format!("healthy after {:.1} s{address}", lived.as_secs_f64()),
            state => state_words(state),
        }
    }
}

fn colour(place: usize) -> Style {
    Style::new().fg_color(Some(COLOURS[place % COLOURS.len()].into()))
}

/// The name of an instance, in the colour of its place among `names`, as wide as the widest of them.
pub fn prefix(names: &[&str], instance: &str) -> String {
    let widest = names.iter().map(|name| name.len()).max().unwrap_or_default();
    let place = names.iter().position(|name| *name == instance).unwrap_or_default();
    styled(colour(place), format!("{instance:widest$}"))
}

/// How an instance is.
pub fn state_words(state: &State) -> String {
    match state {
        State::Starting => "starting".to_owned(),
        State::Running => "runs".to_owned(),
        State::Healthy => "healthy".to_owned(),
        State::Unhealthy { reason } => format!("unhealthy: {}", reason_words(reason)),
        State::Ended { how, pause_ms, in_a_row } => {
            let pause = Duration::from_millis(*pause_ms).as_secs_f64();
            let times = if *in_a_row > 1 { format!(" ({in_a_row} times in a row)") } else { String::new() };
            format!("{}{times}; starts again in {pause:.1} s", end_words(how))
        }
        State::Failed { how } => end_words(how),
        State::Stopped => "ended".to_owned(),
    }
}

/// The style of a state.
pub fn style_of(state: &State) -> Style {
    match state {
        State::Starting | State::Running | State::Stopped => FAINT,
        State::Healthy => GOOD,
        State::Unhealthy { .. } | State::Ended { .. } => BUSY,
        State::Failed { .. } => BAD,
    }
}

/// Why an instance is unhealthy.
fn reason_words(reason: &Reason) -> String {
    match reason {
        Reason::Status { status } => format!("its health path answered with status {status}"),
        Reason::NoAnswer { detail } => format!("no answer ({detail})"),
        Reason::ListensElsewhere { address } => format!("it listens on {address}, not on its port"),
    }
}

/// What a program did that was ended because of a limit.
pub fn over_limit(limit: Limit) -> &'static str {
    match limit {
        Limit::Memory => "exceeded its memory limit and was stopped",
        Limit::Written => "exceeded its disk limit and was stopped",
        Limit::Time => "exceeded its time limit and was stopped",
    }
}

/// How a process ended.
pub fn end_words(end: &End) -> String {
    match end {
        End::Exit { status } => format!("ended with status {status}"),
        End::Signal { number } => format!("was ended by signal {number}"),
        End::Memory => over_limit(Limit::Memory).to_owned(),
        End::Written => over_limit(Limit::Written).to_owned(),
        End::Time => over_limit(Limit::Time).to_owned(),
        End::NotStarted { detail } => format!("did not start: {detail}"),
    }
}
