//! What happened to an app: a file of bounded length.

use crate::place::Yard;
use crate::state::{Outcome, ReleaseKind};
use model::{PathFacts, Result};
use running::app::{BoundedLog, InstanceName, State, kept_text};
use serde::{Deserialize, Serialize};
use std::io;

/// Something that happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Event {
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// What.
    #[serde(flatten)]
    pub kind: EventKind,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "happened", rename_all = "kebab-case")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum EventKind {
    /// A release has begun.
    ReleaseBegun { release: u32, what: ReleaseKind },
    /// A release took over, or did not.
    ReleaseEnded { release: u32, outcome: Outcome },
    /// The instances of the release before were ended.
    Replaced { release: u32 },
    /// An instance is otherwise than before.
    Instance { release: u32, instance: InstanceName, state: State },
    /// There are to be so many instances.
    Scaled { process: String, instances: u32 },
    /// All instances were replaced by new ones.
    Restarted,
    /// The yard was started, and with it the app.
    YardStarted,
    /// The yard was ended, and with it the app.
    YardEnded,
    /// The port that answered before is taken.
    PortMoved { before: u16, after: u16 },
}

/// Adds an event; what cannot be kept is not.
pub(crate) fn add(yard: &Yard, app: &str, kind: EventKind) {
    let event = Event { at_ms: jiff::Timestamp::now().as_millisecond(), kind };
    let kept = BoundedLog::open(&yard.events(app))
        .and_then(|mut log| log.add(&serde_json::to_string(&event).map_err(io::Error::other)?));
    // Nothing that happens waits for a full disk.
    drop(kept);
}

impl Yard {
    /// What happened to an app, the oldest first.
    pub fn events_of(&self, app: &str) -> Result<Vec<Event>> {
        let file = self.events(app);
        let text = kept_text(&file).facts(&file)?;
        // A line that was cut short says nothing.
        Ok(text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect())
    }
}
