//! What is known of a running instance.
#![allow(missing_docs, reason = "the fields say what they are; each variant is documented")]

use crate::process::Launched;
use sandbox::{Ended, Limit};
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use std::sync::Arc;

/// One of the processes of a process type, or a task.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct InstanceName {
    /// The process type or task.
    pub process: String,
    /// Its number, from 1; 0 for a task, of which there is one.
    pub number: u32,
}

impl InstanceName {
    /// A task.
    pub fn of_task(task: &str) -> Self {
        Self { process: task.to_owned(), number: 0 }
    }
}

impl std::fmt::Display for InstanceName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.number {
            0 => write!(f, "{}", self.process),
            number => write!(f, "{}.{number}", self.process),
        }
    }
}

/// How an instance is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum State {
    /// It runs, and does not answer yet.
    Starting,
    /// It is running; without a port, its health is unknown.
    Running,
    /// It answers as it should.
    Healthy,
    /// It runs, and does not answer as it should.
    Unhealthy { reason: Reason },
    /// It has ended, and is started again after a pause.
    Ended { how: End, pause_ms: u64, in_a_row: u32 },
    /// It has ended too often, and is not started again.
    Failed { how: End },
    /// It was ended as it should.
    Stopped,
}

/// Why an instance counts as unhealthy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "because", rename_all = "kebab-case")]
pub enum Reason {
    /// The health path is answered with this status.
    Status { status: u16 },
    /// Nothing answers; what the system says.
    NoAnswer { detail: String },
    /// It listens somewhere else.
    ListensElsewhere { address: SocketAddr },
}

/// How a process ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum End {
    /// Itself.
    Exit { status: i32 },
    /// A signal.
    Signal { number: i32 },
    /// The limit of memory.
    Memory,
    /// The limit of what is written to disks.
    Written,
    /// The limit of time.
    Time,
    /// It never began.
    NotStarted { detail: String },
}

impl From<Ended> for End {
    fn from(ended: Ended) -> Self {
        match ended {
            Ended::Exit(status) => Self::Exit { status },
            Ended::Signal(number) => Self::Signal { number },
            Ended::Over(Limit::Memory) => Self::Memory,
            Ended::Over(Limit::Written) => Self::Written,
            Ended::Over(Limit::Time) => Self::Time,
        }
    }
}

impl End {
    /// The exit code that says the same.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Exit { status } => u8::try_from(*status).unwrap_or(1),
            Self::Signal { number } => u8::try_from(128 + number).unwrap_or(1),
            Self::Memory | Self::Written | Self::Time => 128 + crate::process::KILL,
            Self::NotStarted { .. } => 1,
        }
    }
}

/// Something that happens to an instance.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum What {
    /// It writes a line.
    Line { stream: Stream, text: String },
    /// It is otherwise than before.
    State(State),
}

/// Where a line is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stream {
    /// To standard output.
    Output,
    /// To standard error.
    Errors,
}

/// Who wants to know what happens.
pub type Tell = Arc<dyn Fn(&InstanceName, &What) + Send + Sync>;

/// Where a process listens, when that is not where it should.
pub(super) fn elsewhere(launched: &Launched) -> Option<Reason> {
    launched.listening().first().map(|address| Reason::ListensElsewhere { address: *address })
}
