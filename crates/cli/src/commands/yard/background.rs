//! The process in the background: started, watched over, stopped.

use super::super::Done;
use super::Here;
use crate::interrupt;
use cancel::Cancel;
use proxy::Proxies;
use render::{FAINT, styled};
use rustix::process::{Pid, Signal, kill_process, setsid};
use std::fs::OpenOptions;
use std::process::{Command, ExitCode, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use wording::Failure;
use yard::{Client, Host, Request, Trouble};

/// How long the yard may take until it answers.
const PATIENCE: Duration = Duration::from_secs(10);
/// How often it is asked.
const GLANCE: Duration = Duration::from_millis(10);
/// The first pause before the yard is started again after it was killed, and the longest.
const PAUSES: [Duration; 2] = [Duration::from_millis(100), Duration::from_secs(10)];

/// Starts the yard, unless it runs; says whether it had to.
pub fn start(here: &Here<'_>) -> Result<bool, Failure> {
    let client = Client(here.yard);
    if client.is_running() {
        return Ok(false);
    }
    here.yard.set_wanted(true)?;
    let file = here.yard.output();
    let log = OpenOptions::new().create(true).append(true).open(&file);
    let log = log.map_err(|source| Failure::File { path: file.clone(), source })?;
    let mut command = again(here, false);
    command.stdin(Stdio::null()).stdout(log.try_clone()?).stderr(log);
    let mut child = command.spawn()?;
    let deadline = Instant::now() + PATIENCE;
    while Instant::now() < deadline {
        if client.is_running() {
            return Ok(true);
        }
        if child.try_wait()?.is_some_and(|status| !status.success()) {
            break;
        }
        std::thread::sleep(GLANCE);
    }
    Err(Failure::Usage {
        message: "the yard could not be started".to_owned(),
        hint: format!("its output is in {}", file.display()),
    })
}

/// This program once more, as the yard.
fn again(here: &Here<'_>, worker: bool) -> Command {
    let mut command = Command::new("/proc/self/exe");
    // It keeps no folder of the user's in use.
    command.current_dir(here.yard.folder());
    command.args(["yard", "serve", "--yard"]).arg(here.yard.folder());
    command.arg("--store").arg(here.surroundings.store.root());
    command.args(worker.then_some("--worker"));
    command
}

pub fn start_command(here: &Here<'_>) -> Done {
    match start(here)? {
        true => here.done("the yard is running".to_owned()),
        false => here.done("the yard is already running".to_owned()),
    }
    Ok(ExitCode::SUCCESS)
}

pub fn stop(here: &Here<'_>) -> Done {
    here.yard.set_wanted(false)?;
    match Client(here.yard).ask(Request::Stop, |_| {}) {
        // One that ends at once may be faster than its answer.
        Ok(_) | Err(Trouble::Ended) => {
            Client(here.yard).wait_for_end(PATIENCE)?;
            here.done("the yard is stopped; its data stays".to_owned());
        }
        Err(Trouble::NotRunning) => here.output.aside(styled(FAINT, "the yard is not running")),
        Err(trouble) => return Err(trouble.into()),
    }
    Ok(ExitCode::SUCCESS)
}

/// Starts the process that does the work, and starts it again when it was killed.
pub fn watch_over(here: &Here<'_>) -> Done {
    // Closing the terminal must not stop the yard. This fails if the process already leads a session.
    let _ = setsid();
    let cancel = Cancel::new();
    ends_with(&cancel)?;
    let [first, longest] = PAUSES;
    let mut pause = first;
    while !cancel.is_cancelled() {
        let begun = Instant::now();
        let mut child = again(here, true).stdin(Stdio::null()).spawn()?;
        let status = loop {
            if let Some(status) = child.try_wait()? {
                break status;
            }
            if cancel.wait(GLANCE * 5) {
                let number = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
                // It may have ended a moment ago.
                let _ = number.map(|number| kill_process(number, Signal::TERM));
                break child.wait()?;
            }
        };
        if status.code().is_some() {
            // It ended by itself: it was asked to, or somebody else does the work.
            return Ok(if status.success() { ExitCode::SUCCESS } else { ExitCode::FAILURE });
        }
        pause = if begun.elapsed() > longest { first } else { (pause * 2).min(longest) };
        let begun = Instant::now();
        while begun.elapsed() < pause && here.yard.is_wanted() && !cancel.wait(GLANCE * 5) {}
        if !here.yard.is_wanted() {
            break;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Does the work, until it is asked to end.
pub fn serve(here: &Here<'_>) -> Done {
    let cancel = Cancel::new();
    ends_with(&cancel)?;
    let host = Host {
        store: Arc::clone(&here.surroundings.store),
        limits: here.surroundings.process_limits(),
        on_host_network: here.surroundings.user.on_host_network == Some(true),
        proxies: Proxies::start()?,
    };
    yard::serve(here.yard, host, &cancel)?;
    Ok(ExitCode::SUCCESS)
}

/// Sets the token at the first signal; a second one ends the program, and with it all that runs.
fn ends_with(cancel: &Cancel) -> Result<(), Failure> {
    let cancel = cancel.clone();
    interrupt::on_signal(Duration::MAX, move |ending| match ending {
        interrupt::Ending::Asked => cancel.cancel(),
        interrupt::Ending::Forced => std::process::exit(i32::from(wording::INTERRUPTED)),
    })?;
    Ok(())
}
