//! What clients ask of the yard, and what they are answered: a JSON document a line.

use crate::place::Settings;
use crate::state::{Outcome, Way};
use content::BlobDigest;
use running::app::{InstanceName, Probe, State, What};
use serde::{Deserialize, Serialize};

/// The version of the protocol: both sides have to be of the same.
pub(crate) const VERSION: u32 = 1;

/// A request with its version.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Asked {
    pub version: u32,
    pub request: Request,
}

/// What is asked for.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "kebab-case")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Request {
    /// A release of an image.
    Release {
        app: String,
        image: BlobDigest,
        label: String,
        who: String,
        port: Option<u16>,
        way: Way,
        /// Values besides those that are known.
        settings: Settings,
    },
    /// A return to an earlier release.
    RollBack { app: String, to: u32, who: String },
    /// Other settings, under a new release.
    Settings { app: String, settings: Settings, names: Vec<String>, who: String },
    /// So many instances of a process type.
    Scale { app: String, process: String, instances: u32 },
    /// New instances in place of all.
    Restart { app: String },
    /// How everything is.
    Status,
    /// What an instance answered lately.
    Health { app: String, instance: InstanceName },
    /// The end of an app, and of all that is kept of it.
    End { app: String },
    /// The end of the yard; what is kept stays.
    Stop,
}

/// What is answered.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "kebab-case")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Answer {
    /// Something that happens meanwhile.
    Meanwhile { release: u32, instance: InstanceName, what: What },
    /// A release took over.
    Released { release: u32, port: Option<u16> },
    /// It is done.
    Done,
    /// How everything is.
    Status { apps: Vec<AppStatus> },
    /// What an instance answered lately, the newest first.
    Health { probes: Vec<Probe> },
    /// It could not be done.
    Failed { fault: Fault },
}

/// How an app is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct AppStatus {
    /// Its name.
    pub name: String,
    /// The current release.
    pub release: Option<u32>,
    /// The port of this machine that answers for it.
    pub port: Option<u16>,
    /// Its instances.
    pub instances: Vec<InstanceStatus>,
}

/// How an instance is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct InstanceStatus {
    /// Which one.
    pub instance: InstanceName,
    /// How it is.
    pub state: State,
    /// Since when, in seconds since 1970.
    pub since: i64,
    /// How often it was started.
    pub starts: u32,
    /// Bytes of memory that it uses.
    pub memory: Option<u64>,
}

/// Why something could not be done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr, strum::VariantNames)]
#[serde(tag = "fault", rename_all = "kebab-case")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
#[strum(serialize_all = "kebab-case")]
pub enum Fault {
    /// There is no such app.
    NoApp { app: String, known: Vec<String> },
    /// The app has no such release.
    NoRelease { app: String, release: u32 },
    /// Nothing was released yet.
    NothingReleased { app: String },
    /// The app has no such process type.
    NoProcess { process: String, known: Vec<String> },
    /// Something else is being changed.
    Busy { app: String },
    /// Settings have no value.
    SettingsMissing { app: String, names: Vec<String> },
    /// The port is taken.
    PortTaken { port: u16 },
    /// An instance did not become healthy.
    NotHealthy { instance: String, state: State },
    /// The image has nothing that goes on.
    OnlyTasks { label: String },
    /// The release did not take over; the one before is still current.
    NotReleased { app: String, release: u32, outcome: Outcome, last_lines: Vec<String>, still: Option<u32> },
    /// The client is of another version.
    OtherVersion { yard: u32 },
    /// Anything else, in words.
    Other { detail: String },
}

impl From<model::Error> for Fault {
    fn from(error: model::Error) -> Self {
        use model::error::RunError;
        match error {
            model::Error::Run(RunError::PortTaken { port }) => Self::PortTaken { port },
            error => Self::Other { detail: error.to_string() },
        }
    }
}
