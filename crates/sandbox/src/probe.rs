//! Finds out by trying which way of running works here; settings of the kernel do not tell.

use crate::limits::Limits;
use crate::plan::{Ground, Isolation, Mode, Network, Plan};
use crate::running::{SandboxError, start};
use std::fs;
use std::path::Path;
use std::process::Stdio;

/// No way of running works here: what each failed at.
#[derive(Debug, Clone, thiserror::Error)]
#[error("no way to isolate a process works here")]
pub struct Refusal {
    /// Way, step, and what the system said.
    pub tries: Vec<(Mode, String, String)>,
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
            match attempt(mode, &scratch.join(tries.len().to_string())) {
                Ok(()) => return Ok(mode),
                Err((step, detail)) => tries.push((mode, step, detail)),
            }
        }
    }
    Err(Refusal { tries })
}

fn attempt(mode: Mode, scratch: &Path) -> Result<(), (String, String)> {
    let prepare = |e: std::io::Error| ("prepare the root folder".to_owned(), e.to_string());
    fs::create_dir_all(scratch.join("layer")).map_err(prepare)?;
    let plan = Plan {
        shared: Vec::new(),
        merged: Vec::new(),
        root_writable: false,
        network: Network::Shared,
        listens: Vec::new(),
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
