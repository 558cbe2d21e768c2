//! What is to run, and in which surroundings.

use crate::limits::Limits;
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

/// The first of the ids that the superuser's processes and their files have on this machine; no user has them.
pub const FIRST_ID: u32 = 1_900_000_000;
/// How many there are: inside, they count from 0.
pub const ID_COUNT: u32 = 2_000_000_000;

/// How the process is kept apart from the host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Isolation {
    /// The caller is the superuser: what it mounts is the superuser's, and the process is in a user namespace whose
    /// ids no user on this machine has.
    Superuser,
    /// A user namespace that holds a single user: the caller, under the process's number.
    SingleUser,
}

/// How the root file system is put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ground {
    /// An overlay of the layers under a fresh folder that takes the writes.
    Overlay,
    /// A copy of the layers, where overlays cannot be mounted.
    Copy,
}

/// A way to run that a [`crate::probe`] found to work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mode {
    /// Kept apart by what.
    pub isolation: Isolation,
    /// Root made how.
    pub ground: Ground,
}

/// A folder of the caller over what the layers have at the same place: what the process writes there goes into the
/// caller's folder, and what lies in the layers stays as it is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Merged {
    /// The caller's folder.
    pub from: PathBuf,
    /// Its place, from the root.
    pub to: String,
}

/// What a process sees of the network.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Network {
    /// All that its caller sees.
    Shared,
    /// Only a loopback interface of its own.
    Alone,
    /// The same, and its caller can connect to it and listen in it.
    Linked,
}

/// One process to run.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Plan {
    /// How to run it.
    pub mode: Mode,
    /// Unpacked layers, bottom to top; they are only read.
    pub layers: Vec<PathBuf>,
    /// An empty folder of the caller, on a file system with room for what the process writes.
    pub scratch: PathBuf,
    /// The program and its arguments; the program is looked up in the `PATH` of `env`.
    pub argv: Vec<String>,
    /// The whole environment.
    pub env: Vec<(String, String)>,
    /// The working folder inside the root.
    pub folder: String,
    /// Folders, from the root, that are empty and may be written to.
    pub writable: Vec<String>,
    /// Folders of the caller that may be written to, with their place from the root.
    pub shared: Vec<(PathBuf, String)>,
    /// Folders of the caller in which the process also sees what the layers have at their place.
    pub merged: Vec<Merged>,
    /// Whether the rest of the root is writable, too; only this process sees what is written there.
    pub root_writable: bool,
    /// What it sees of the network.
    pub network: Network,
    /// Addresses of its own network on which its caller listens before it starts.
    pub listens: Vec<SocketAddr>,
    /// Names in its own network, besides `localhost`.
    pub names: Vec<(String, IpAddr)>,
    /// Whether its standard input is a terminal, which is to be its own: Ctrl-C and jobs are for it and what it starts.
    pub on_terminal: bool,
    /// The user that the process sees itself as.
    pub uid: u32,
    /// The group that the process sees itself in.
    pub gid: u32,
    /// How much the process, and what it starts, may use.
    pub limits: Limits,
}
