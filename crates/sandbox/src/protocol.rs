//! What the caller and the stages of a sandbox agree on.

use crate::limits::Limit;
use rustix::fd::RawFd;
use rustix::io::{FdFlags, fcntl_setfd};
use serde::{Deserialize, Serialize};
use std::os::unix::process::CommandExt;
use std::process::Command;

/// The name under which the program is started as a stage.
pub(crate) const STAGE_NAME: &str = "shtetl-sandbox";

/// What a stage tells the caller, one JSON line each.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Report {
    /// The process runs.
    Ready,
    /// The system refused a step of the preparation.
    Refused { step: String, detail: String },
    /// The program could not be executed.
    NotStarted { detail: String },
    /// The process ended with this status.
    Exit(i32),
    /// The process was ended by this signal.
    Signal(i32),
    /// The process was ended because this limit was broken.
    Over(Limit),
}

/// Lets the child keep these file descriptors across `exec`.
pub(crate) fn inherit(command: &mut Command, fds: Vec<RawFd>) {
    let clear = move || {
        for fd in fds.iter().copied() {
            // SAFETY: the descriptors are open in the parent until after `spawn`, and the child
            // has a copy of its table; nothing else uses or closes them in between.
            let fd = unsafe { rustix::fd::BorrowedFd::borrow_raw(fd) };
            fcntl_setfd(fd, FdFlags::empty())?;
        }
        Ok(())
    };
    // SAFETY: only a system call that is safe between fork and exec; nothing is allocated.
    unsafe { command.pre_exec(clear) };
}
