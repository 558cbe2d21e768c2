//! The caller's side of a running process.

use crate::group::Group;
use crate::limits::Limit;
use crate::link::{self, Link};
use crate::plan::{Isolation, Network, Plan};
use crate::protocol::{Report, STAGE_NAME, inherit};
use crate::root;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::{AsFd, AsRawFd, OwnedFd};
use rustix::pipe::{PipeFlags, pipe_with};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdout, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// A process could not be run.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum SandboxError {
    /// The system refused a step of the preparation.
    #[error("{step}: {detail}")]
    Refused {
        /// Which step, in words of this crate.
        step: String,
        /// The system's message.
        detail: String,
    },
    /// The program is not in the root, or cannot be executed.
    #[error("cannot start {program}: {detail}")]
    NotStarted {
        /// The first word of the command.
        program: String,
        /// The system's message.
        detail: String,
    },
    /// The stages ended without a report.
    #[error("the sandbox ended without a report")]
    Lost,
}

/// How a process ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    /// By itself, with this status.
    Exit(i32),
    /// By this signal.
    Signal(i32),
    /// By the sandbox, because this limit was broken.
    Over(Limit),
}

/// A started process; it is killed when this is dropped.
pub struct Running {
    stage: Child,
    control: Mutex<Option<File>>,
    report: BufReader<File>,
    program: String,
    link: Option<Arc<Link>>,
    /// Dropped last, when its processes have ended.
    group: Option<Group>,
}

/// Starts the process of `plan`. Standard input, output and error are given in `io`.
pub fn start(plan: &Plan, io: [Stdio; 3]) -> Result<Running, SandboxError> {
    let refused = |step: &str| {
        let step = step.to_owned();
        move |e: io::Error| SandboxError::Refused { step, detail: e.to_string() }
    };
    root::prepare(plan).map_err(refused("prepare the root folder"))?;
    let (control_read, control_write) =
        pipe_with(PipeFlags::CLOEXEC).map_err(|e| refused("make a pipe")(e.into()))?;
    let (report_read, report_write) =
        pipe_with(PipeFlags::CLOEXEC).map_err(|e| refused("make a pipe")(e.into()))?;
    let isolation = match plan.mode.isolation {
        Isolation::Superuser => "superuser",
        Isolation::SingleUser => "single-user",
    };
    let mut command = Command::new("/proc/self/exe");
    command.arg0(STAGE_NAME).arg("one").arg(isolation).arg(match plan.network {
        Network::Shared => "open",
        Network::Alone | Network::Linked => "alone",
    });
    let (link, inside) = match plan.network {
        Network::Linked => link::pair().map(|(link, inside)| (Some(link), Some(inside))),
        Network::Shared | Network::Alone => Ok((None, None)),
    }
    .map_err(refused("make a link"))?;
    let mut fds = vec![control_read.as_raw_fd(), report_write.as_raw_fd()];
    fds.extend(inside.as_ref().map(AsRawFd::as_raw_fd));
    command.args(fds.iter().take(2).map(ToString::to_string));
    command.arg(inside.as_ref().map_or(-1, AsRawFd::as_raw_fd).to_string());
    // The number is for stage two.
    command.args([plan.uid, plan.gid, 0].map(|n| n.to_string()));
    let group = Group::make(&plan.limits);
    command.arg(group.as_ref().map_or(Path::new(""), Group::folder));
    let [stdin, stdout, stderr] = io;
    // A group of its own: a terminal's Ctrl-C reaches the caller, who passes it on once.
    command.env_clear().process_group(0).stdin(stdin).stdout(stdout).stderr(stderr);
    inherit(&mut command, fds);
    let stage = command.spawn().map_err(refused("start the stage program"))?;
    drop((control_read, report_write, inside));
    let mut control = File::from(control_write);
    // A failure here shows as a report or its absence.
    let _ = send_plan(&mut control, plan);
    let program = plan.argv.first().cloned().unwrap_or_default();
    let report = BufReader::new(File::from(report_read));
    let mut running = Running {
        stage,
        control: Mutex::new(Some(control)),
        report,
        program,
        link: link.map(Arc::new),
        group,
    };
    match running.next_report()? {
        Report::Ready => Ok(running),
        Report::Refused { step, detail } => Err(SandboxError::Refused { step, detail }),
        Report::NotStarted { detail } => {
            Err(SandboxError::NotStarted { program: running.program.clone(), detail })
        }
        Report::Exit(_) | Report::Signal(_) | Report::Over(_) => Err(SandboxError::Lost),
    }
}

fn send_plan(control: &mut File, plan: &Plan) -> io::Result<()> {
    let bytes = serde_json::to_vec(plan)?;
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
    control.write_all(&length.to_le_bytes())?;
    control.write_all(&bytes)
}

impl Running {
    /// Sends a signal to the process.
    pub fn signal(&self, number: u8) {
        if let Ok(mut control) = self.control.lock()
            && let Some(pipe) = control.as_mut()
        {
            // A closed pipe means that the process has ended already.
            let _ = pipe.write_all(&[number]);
        }
    }

    /// Ends the process and everything that it started, at once.
    pub fn kill(&self) {
        if let Ok(mut control) = self.control.lock() {
            control.take();
        }
    }

    /// The way into its own network, where the plan asked for one.
    pub fn link(&self) -> Option<Arc<Link>> {
        self.link.clone()
    }

    /// The number on this machine of the first process that was started for it.
    pub fn number(&self) -> u32 {
        self.stage.id()
    }

    /// What the process writes to standard output, when that is a pipe; once.
    pub fn take_output(&mut self) -> Option<ChildStdout> {
        self.stage.stdout.take()
    }

    /// Whether the process has ended: its report waits to be read.
    fn has_ended(&self) -> bool {
        let is_read = !self.report.buffer().is_empty();
        is_read || rustix::io::ioctl_fionread(self.report.get_ref()).is_ok_and(|waiting| waiting > 0)
    }

    /// Waits until the process has ended, and at most so long; says whether it has.
    pub fn ends_within(&self, time: Duration) -> bool {
        let mut report = [PollFd::new(self.report.get_ref(), PollFlags::IN)];
        let time_limit = Timespec::try_from(time).ok();
        let is_told = poll(&mut report, time_limit.as_ref()).is_ok_and(|count| count > 0);
        // Without a report it was ended together with who would have written it.
        is_told || self.has_ended()
    }

    /// Waits until the process has ended.
    pub fn wait(&mut self) -> Result<Ended, SandboxError> {
        let report = self.next_report();
        // The report says how it ended; the stage itself only has to be collected.
        let _ = self.stage.wait();
        if report.is_err() && self.group.as_ref().is_some_and(Group::ran_out_of_memory) {
            // The kernel ended all of them, the one that reports included.
            return Ok(Ended::Over(Limit::Memory));
        }
        match report? {
            Report::Exit(status) => Ok(Ended::Exit(status)),
            Report::Signal(number) => Ok(Ended::Signal(number)),
            Report::Over(limit) => Ok(Ended::Over(limit)),
            Report::Refused { step, detail } => Err(SandboxError::Refused { step, detail }),
            Report::NotStarted { detail } => {
                Err(SandboxError::NotStarted { program: self.program.clone(), detail })
            }
            Report::Ready => Err(SandboxError::Lost),
        }
    }

    fn next_report(&mut self) -> Result<Report, SandboxError> {
        let mut line = String::new();
        self.report.read_line(&mut line).map_err(|_| SandboxError::Lost)?;
        serde_json::from_str(&line).map_err(|_| SandboxError::Lost)
    }

    /// A handle by which another thread can send signals.
    pub fn remote_control(&self) -> io::Result<RemoteControl> {
        let control = self.control.lock().map_err(|_| io::Error::other("poisoned lock"))?;
        let pipe = control.as_ref().ok_or(io::ErrorKind::BrokenPipe)?;
        Ok(RemoteControl(pipe.as_fd().try_clone_to_owned()?))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.kill();
        // Collected so that no zombie stays; its status no longer matters.
        let _ = self.stage.wait();
    }
}

/// Sends signals to a process from another thread.
pub struct RemoteControl(OwnedFd);

impl RemoteControl {
    /// Sends a signal to the process.
    pub fn signal(&self, number: u8) {
        // A closed pipe means that the process has ended already.
        let _ = rustix::io::write(&self.0, &[number]);
    }
}
