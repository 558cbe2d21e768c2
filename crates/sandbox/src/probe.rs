//! Finds out by trying which way of running works here; settings of the kernel do not tell.

use crate::group;
use crate::limits::Limits;
use crate::plan::{Ground, Isolation, Mode, Network, Plan};
use crate::running::{SandboxError, start};
use std::fs;
use std::path::Path;
use std::process::Stdio;

/// No way of running works here: what each failed at.
#[derive(Debug, Clone, thiserror::Error)]
#[error("no way to isolate a process is available on this machine")]
pub struct Refusal {
    /// Way, step, and the system's message.
    pub tries: Vec<(Mode, String, String)>,
}

/// What keeps processes apart on this machine.
#[derive(Debug)]
pub struct Walls {
    /// The way of running that works; it has its own mounts, processes and system call filter, and limits of what is used.
    pub mode: Result<Mode, Refusal>,
    /// Whether a process can have a network of its own; without, steps do not run, and `run` shares the machine's.
    pub network: Result<(), String>,
    /// Whether it has clocks of its own, and does not learn how long the machine has been up.
    pub clocks: bool,
    /// Whether it does not learn where it is among the machine's control groups.
    pub groups: bool,
    /// Whether the kernel itself limits the memory and processes of a sandbox; without, they are watched.
    pub limited_by_kernel: bool,
    /// Whether the kernel counts what is written to disks, so that it can be limited.
    pub written: bool,
}

/// Finds out all of them, with the empty folder `scratch`.
pub fn walls(scratch: &Path) -> Walls {
    let mode = probe(&scratch.join("mode"));
    let network = match &mode {
        Ok(mode) => attempt(*mode, Network::Alone, &scratch.join("network")).map_err(|(_, detail)| detail),
        Err(_) => Err("processes cannot be isolated".to_owned()),
    };
    let own = Path::new("/proc/self");
    let has = |name: &str| own.join(name).exists();
    Walls {
        mode,
        network,
        clocks: has("ns/time"),
        groups: has("ns/cgroup"),
        limited_by_kernel: group::are_available(),
        written: has("io"),
    }
}

/// The first way of running that works, tried on the empty folder `scratch`.
pub fn probe(scratch: &Path) -> Result<Mode, Refusal> {
    let mut isolations = vec![Isolation::SingleUser];
    if rustix::process::geteuid().is_root() {
        isolations.insert(0, Isolation::Superuser);
    }
    let mut tries = Vec::new();
    for ground in [Ground::Overlay, Ground::Copy] {
        for isolation in &isolations {
            let mode = Mode { isolation: *isolation, ground };
            match attempt(mode, Network::Shared, &scratch.join(tries.len().to_string())) {
                Ok(()) => return Ok(mode),
                Err((step, detail)) => tries.push((mode, step, detail)),
            }
        }
    }
    Err(Refusal { tries })
}

fn attempt(mode: Mode, network: Network, scratch: &Path) -> Result<(), (String, String)> {
    let prepare = |e: std::io::Error| ("prepare the root folder".to_owned(), e.to_string());
    fs::create_dir_all(scratch.join("layer")).map_err(prepare)?;
    let plan = Plan {
        shared: Vec::new(),
        merged: Vec::new(),
        root_writable: false,
        on_terminal: false,
        network,
        listens: Vec::new(),
        names: Vec::new(),
        mode,
        layers: vec![scratch.join("layer")],
        scratch: scratch.to_owned(),
        argv: Vec::new(),
        env: Vec::new(),
        folder: "/".to_owned(),
        writable: vec!["tmp".to_owned()],
        uid: 1000,
        gid: 1000,
        limits: Limits::STEP,
    };
    match start(&plan, [Stdio::null(), Stdio::null(), Stdio::null()]) {
        Ok(_) => Ok(()),
        Err(SandboxError::Refused { step, detail }) => Err((step, detail)),
        Err(other) => Err(("start".to_owned(), other.to_string())),
    }
}
