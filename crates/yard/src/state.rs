//! What is kept of an app.

use content::BlobDigest;
use running::app::{End, State};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The name and version of the format.
pub const FORMAT: &str = "shtetl/yard-app/1";

/// An app of the yard.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AppState {
    /// The version of this format.
    pub format: String,
    /// Its releases, the oldest first.
    pub releases: Vec<Release>,
    /// The number of the current release.
    pub current: Option<u32>,
    /// How many instances there are of a process type, where that is not what its image says.
    #[serde(default)]
    pub scale: BTreeMap<String, u32>,
    /// The port of this machine that answers for it.
    pub port: Option<u16>,
}

impl Default for AppState {
    fn default() -> Self {
        Self {
            format: FORMAT.to_owned(),
            releases: Vec::new(),
            current: None,
            scale: BTreeMap::new(),
            port: None,
        }
    }
}

impl AppState {
    /// The current release.
    pub fn release_in_force(&self) -> Option<&Release> {
        self.release(self.current?)
    }

    /// The release with this number.
    pub fn release(&self, number: u32) -> Option<&Release> {
        self.releases.iter().find(|release| release.number == number)
    }

    /// The number of the next release.
    pub(crate) fn next_number(&self) -> u32 {
        self.releases.last().map_or(1, |last| last.number + 1)
    }

    /// The last successful release before the current one, if any.
    pub fn before_current(&self) -> Option<&Release> {
        let went_well = |release: &&Release| release.outcome == Outcome::InForce;
        self.releases.iter().rev().filter(went_well).find(|release| Some(release.number) < self.current)
    }
}

/// A release.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Release {
    /// Its number, from 1.
    pub number: u32,
    /// What made it.
    pub kind: ReleaseKind,
    /// Digest of the index of its image.
    pub image: BlobDigest,
    /// How the image was named.
    pub label: String,
    /// The commit of the source.
    pub commit: Option<String>,
    /// The user who made it.
    pub who: String,
    /// When, in seconds since 1970.
    pub at: i64,
    /// How a variant lets the image run.
    #[serde(default)]
    pub way: Way,
    /// The steps whose layers are not those of the release before.
    pub changed: Vec<String>,
    /// What became of it.
    pub outcome: Outcome,
}

/// How a variant, which an image was not built with, lets it run.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Way {
    /// Its name.
    pub variant: Option<String>,
    /// Values of settings; those that are given are stronger.
    pub values: BTreeMap<String, String>,
    /// How many instances there are of a process type, unless it was scaled.
    pub instances: BTreeMap<String, u32>,
}

impl Way {
    /// Its values, and over them those that are given.
    pub(crate) fn with(&self, given: &BTreeMap<String, String>) -> BTreeMap<String, String> {
        self.values.clone().into_iter().chain(given.clone()).collect()
    }
}

/// What makes a release.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum ReleaseKind {
    /// An image.
    Image,
    /// A change of these settings.
    Settings {
        /// Their names.
        names: Vec<String>,
    },
    /// A return to an earlier release.
    RollBack {
        /// The number of that one.
        to: u32,
    },
}

/// What became of a release.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum Outcome {
    /// It has begun.
    Starting,
    /// It took over.
    InForce,
    /// A task before it failed.
    TaskFailed {
        /// The task.
        task: String,
        /// How.
        how: End,
    },
    /// An instance did not become healthy.
    NotHealthy {
        /// The instance.
        instance: String,
        /// How it was.
        state: State,
    },
    /// The yard ended before it took over.
    CutShort,
    /// It could not be started at all.
    Refused {
        /// The message.
        detail: String,
    },
}
