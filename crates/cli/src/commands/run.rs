//! `run`: runs a process type or task of an image on this machine.

use super::Done;
use super::opened::open_anywhere;
use super::run_settings;
use super::watch::{Watched, watch};
use crate::arguments::{RunNetwork, RunOptions};
use crate::error::{limit_advice, over_limit};
use crate::interrupt::{self, Ending};
use crate::render::{FAINT, GOOD, Output, styled};
use crate::surroundings::Surroundings;
use model::ProcessKind;
use sandbox::{Ended, Limit};
use std::io::IsTerminal;
use std::process::{ExitCode, Stdio};
use std::sync::atomic::Ordering;
use std::time::Duration;
use workshop::run;
use workshop::run::Start;

/// How long a process that was asked to end may take.
const GRACE: Duration = Duration::from_secs(10);
/// How long a process that listens is waited for before nothing more is said of it.
const PATIENCE: Duration = Duration::from_secs(10);

pub fn run(options: &RunOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let (image, _) = open_anywhere(&options.image, surroundings, output)?;
    let network = options.network.unwrap_or(match surroundings.user.on_host_network {
        Some(true) => RunNetwork::Host,
        _ => RunNetwork::Own,
    });
    let start = Start {
        settings: run_settings::gather(options)?,
        port: options.port,
        on_host_network: network == RunNetwork::Host,
        reach: options.reach.clone(),
        arguments: options.arguments.clone(),
        limits: surroundings.process_limits(),
        data: options.data.as_ref().map(std::path::absolute).transpose()?,
    };
    let has_input = !std::io::stdin().is_terminal() && !run_settings::read_input(options);
    let stdin = if has_input { Stdio::inherit() } else { Stdio::null() };
    let (errors, to_errors) = std::io::pipe()?;
    let io = [stdin, Stdio::inherit(), to_errors.into()];
    let mut launched = run::start(&surroundings.store, &image, options.process.as_deref(), start, io)?;
    let control = launched.process().remote_control()?;
    let stopped = interrupt::on_signal(GRACE, move |ending| match ending {
        Ending::Asked => control.signal(run::TERMINATE),
        Ending::Forced => control.signal(run::KILL),
    })?;
    let process = options.process.clone().unwrap_or_else(|| image.variants[0].process.clone());
    let said = image.record.processes.iter().find(|p| p.name == process);
    let kind = said.map(|p| p.kind);
    let watched = Watched { process: &process, kind, has_own_network: network == RunNetwork::Own };
    let ended = std::thread::scope(|scope| {
        // This thread ends with the last process that could still write.
        scope.spawn(|| watch(errors, &watched, output));
        if kind == Some(ProcessKind::Process) {
            output.aside(styled(FAINT, format!("{} {process} starts; Ctrl-C ends it", image.label)));
            announce(&mut launched, &process, output);
        }
        launched.process().wait().map_err(model::Error::from)
    })?;
    if stopped.load(Ordering::SeqCst) {
        output.aside(styled(FAINT, format!("{} {process} ended", image.label)));
        return Ok(ExitCode::SUCCESS);
    }
    Ok(match ended {
        Ended::Exit(status) => ExitCode::from(u8::try_from(status).unwrap_or(1)),
        Ended::Over(limit) => {
            output.aside(format!("{process} {}", over_limit(limit)));
            output.aside(format!("note: {}", match said.and_then(|p| p.memory).filter(|_| limit == Limit::Memory) {
                Some(_) => {
                    let table = if kind == Some(ProcessKind::Task) { "task" } else { "process" };
                    format!("if it needs more, raise memory in shtetl.toml, under [{table}.{process}], and build again")
                }
                None => limit_advice(limit),
            }));
            ExitCode::from(128 + run::KILL)
        }
        Ended::Signal(signal) => {
            output.aside(format!("{process} was ended by signal {signal}"));
            ExitCode::from(u8::try_from(128 + signal).unwrap_or(1))
        }
    })
}

fn announce(launched: &mut run::Launched, process: &str, output: &Output) {
    let Some(port) = launched.port else { return };
    if launched.wait_for_port(PATIENCE) {
        output.aside(format!("{} http://127.0.0.1:{port}/", styled(GOOD, "answers on")));
    } else if let Some(other) = launched.listening().first() {
        let port = other.port();
        output.aside(format!(
            "note: {process} listens on {other}: in shtetl.toml, under [process.{process}]: port = {port}, and build again"
        ));
        if other.ip().is_loopback() {
            output.aside(
                "note: elsewhere than in `shtetl run` nobody reaches that address: let it listen on 0.0.0.0",
            );
        }
    }
}
