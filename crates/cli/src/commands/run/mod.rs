//! `run`: runs a process type or task of an image on this machine, or all of them.

mod all;
pub(super) mod given_settings;
mod services;
mod shell;
mod watch;

use super::Done;
use super::opened::open_anywhere;
use crate::interrupt::{self, Ending};
use crate::surroundings::Surroundings;
use arguments::{RunNetwork, RunOptions};
use model::{ProcessKind, ProcessType};
use render::complaints::{Watched, pass_on};
use render::instances::over_limit;
use render::{FAINT, GOOD, Output, styled};
use running::image::{Data, PortUse};
use running::process::{KILL, TERMINATE};
use running::ways::Way;
use running::{Launched, Start};
use sandbox::{Ended, Limit};
use std::io::IsTerminal;
use std::path::PathBuf;
use std::process::{ExitCode, Stdio};
use std::sync::atomic::Ordering;
use std::time::Duration;
use wording::{Failure, limit_advice};

/// How long a process that was asked to end may take.
const GRACE: Duration = Duration::from_secs(10);
/// How long to wait for a listening process before nothing more is reported.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long a process may listen on another port only, until that is taken for its port.
const SETTLED: Duration = Duration::from_secs(2);

pub fn run(options: &RunOptions, surroundings: &Surroundings, output: &Output) -> Done {
    if options.watch {
        return watch::run_watch(options, surroundings, output);
    }
    let (image, _) = open_anywhere(&options.image, surroundings, output)?;
    if options.all {
        return all::run_all(options, image, surroundings, output);
    }
    let network = network(options, surroundings);
    let start = start_of(options, network, surroundings)?;
    if options.shell {
        return shell::open(&image, options.process.as_deref(), start, surroundings);
    }
    let has_input = !std::io::stdin().is_terminal() && !given_settings::read_input(&options.settings);
    let stdin = if has_input { Stdio::inherit() } else { Stdio::null() };
    let (errors, to_errors) = std::io::pipe()?;
    let io = [stdin, Stdio::inherit(), to_errors.into()];
    let is_one_off = start.command.is_some();
    let mut launched = running::start(&surroundings.store, &image, options.process.as_deref(), start, io)?;
    let control = launched.process().remote_control()?;
    let stopped = interrupt::on_signal(GRACE, move |ending| match ending {
        Ending::Asked => control.signal(TERMINATE),
        Ending::Forced => control.signal(KILL),
    })?;
    let process = options.process.clone().unwrap_or_else(|| image.variants[0].process.clone());
    let declared = image.record.processes.iter().find(|p| p.name == process).filter(|_| !is_one_off);
    let kind = declared.map(|p| p.kind);
    let name = if is_one_off { options.arguments[0].clone() } else { process };
    let watched = Watched { process: &name, kind, has_own_network: network == RunNetwork::Own };
    let ended = std::thread::scope(|scope| {
        // This thread ends with the last process that could still write.
        scope.spawn(|| pass_on(errors, &watched, output));
        if kind == Some(ProcessKind::Process) {
            output.aside(styled(FAINT, format!("{} {name} is starting; Ctrl-C stops it", image.label)));
            announce(&mut launched, &name, output);
        }
        launched.process().wait().map_err(model::Error::from)
    })?;
    if stopped.load(Ordering::SeqCst) {
        output.aside(styled(FAINT, format!("{} {name} ended", image.label)));
        return Ok(ExitCode::SUCCESS);
    }
    Ok(exit_code(&name, declared, ended, output))
}

fn network(options: &RunOptions, surroundings: &Surroundings) -> RunNetwork {
    options.network.unwrap_or(match surroundings.user.on_host_network {
        Some(true) => RunNetwork::Host,
        _ => RunNetwork::Own,
    })
}

/// What the options say of the start of a single process.
fn start_of(
    options: &RunOptions,
    network: RunNetwork,
    surroundings: &Surroundings,
) -> Result<Start, Failure> {
    // Without a process type, what follows is a command of its own, for which no port answers.
    let command =
        (options.process.is_none() && !options.arguments.is_empty()).then(|| options.arguments.clone());
    let is_apart = command.is_some() || options.shell;
    let data = kept_data(options)?.map_or(Data::Dropped, Data::Kept);
    Ok(Start {
        settings: given_settings::gather(&options.settings)?,
        port: if is_apart { PortUse::Kept(None) } else { PortUse::Published(options.port) },
        on_host_network: network == RunNetwork::Host,
        ways: options.reach.iter().map(|port| Way::to_this_machine(*port)).collect(),
        arguments: if command.is_some() { Vec::new() } else { options.arguments.clone() },
        command,
        data,
        ..Start::within(surroundings.process_limits())
    })
}

/// The folder in which what is written is kept, if it is.
fn kept_data(options: &RunOptions) -> Result<Option<PathBuf>, Failure> {
    match &options.data {
        Some(path) if path.exists() && !path.is_dir() => Err(Failure::Usage {
            message: format!("{} is not a folder, so nothing can be kept in it", path.display()),
            hint: "give a folder: --data DIR".to_owned(),
        }),
        Some(path) => Ok(Some(std::path::absolute(path)?)),
        None => Ok(None),
    }
}

fn exit_code(name: &str, declared: Option<&ProcessType>, ended: Ended, output: &Output) -> ExitCode {
    match ended {
        Ended::Exit(status) => ExitCode::from(u8::try_from(status).unwrap_or(1)),
        Ended::Over(limit) => {
            output.aside(format!("{name} {}", over_limit(limit)));
            let own = declared.filter(|p| limit == Limit::Memory && p.memory.is_some());
            output.aside(format!("note: {}", match own {
                Some(declared) => {
                    let table = if declared.kind == ProcessKind::Task { "task" } else { "process" };
                    format!("if it needs more, raise memory in shtetl.toml, under [{table}.{name}], and build again")
                }
                None => limit_advice(limit),
            }));
            ExitCode::from(128 + KILL)
        }
        Ended::Signal(signal) => {
            output.aside(format!("{name} was terminated by signal {signal}"));
            ExitCode::from(u8::try_from(128 + signal).unwrap_or(1))
        }
    }
}

/// Says where the process answers, once it does. One that listens on another port than the image says is found there.
fn announce(launched: &mut Launched, process: &str, output: &Output) {
    let Some(port) = launched.port else { return };
    let answers = || output.aside(format!("{} http://127.0.0.1:{port}/", styled(GOOD, "answers on")));
    if launched.wait_for_port(SETTLED) {
        return answers();
    }
    let others = launched.other_ports(SETTLED, PATIENCE);
    match &others[..] {
        [] => {
            if launched.wait_for_port(SETTLED) {
                answers();
            }
        }
        [other] => {
            launched.follow(other.port());
            answers();
            declares_another(process, &format!("port {}", other.port()), &other.port().to_string(), output);
            if other.ip().is_loopback() {
                output.aside("note: it listens on the loopback address: make it listen on 0.0.0.0, so that others reach it");
            }
        }
        several => {
            let ports: Vec<String> = several.iter().map(|address| address.port().to_string()).collect();
            declares_another(process, &format!("the ports {}", ports.join(", ")), "the right one", output);
        }
    }
}

/// Says that only `run` finds a process where it listens, and what makes others find it.
fn declares_another(process: &str, listens_on: &str, port: &str, output: &Output) {
    output.aside(format!("note: {process} listens on {listens_on}, but the image declares another one"));
    output.aside(format!(
        "what to do: in shtetl.toml, under [process.{process}]: port = {port}, and build again"
    ));
}
