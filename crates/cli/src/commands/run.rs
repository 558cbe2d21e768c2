//! `run`: runs a process type or task of an image on this machine.

use super::Done;
use crate::arguments::RunOptions;
use crate::error::Failure;
use crate::interrupt::{self, Ending};
use crate::render::{FAINT, GOOD, Output, styled};
use crate::surroundings::Surroundings;
use model::ProcessKind;
use sandbox::Ended;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{IsTerminal, PipeReader, Read, Write};
use std::process::{ExitCode, Stdio};
use std::sync::atomic::Ordering;
use std::time::Duration;
use workshop::run::Start;
use workshop::unwritable::{self, Unwritable};
use workshop::{inspect, run};

/// How long a process that was asked to end may take.
const GRACE: Duration = Duration::from_secs(10);
/// How long a process that listens is waited for before nothing more is said of it.
const PATIENCE: Duration = Duration::from_secs(10);
/// How many bytes of a line are looked at.
const LONGEST_LINE: usize = 4096;

pub fn run(options: &RunOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let image = inspect::open(&surroundings.store, &options.image)?;
    let start = Start {
        settings: settings(&options.set)?,
        port: options.port,
        arguments: options.arguments.clone(),
        data: options.data.as_ref().map(std::path::absolute).transpose()?,
    };
    let stdin = if std::io::stdin().is_terminal() { Stdio::null() } else { Stdio::inherit() };
    let (errors, to_errors) = std::io::pipe()?;
    let io = [stdin, Stdio::inherit(), to_errors.into()];
    let mut launched = run::start(&surroundings.store, &image, options.process.as_deref(), start, io)?;
    let control = launched.process().remote_control()?;
    let stopped = interrupt::on_signal(GRACE, move |ending| match ending {
        Ending::Asked => control.signal(run::TERMINATE),
        Ending::Forced => control.signal(run::KILL),
    })?;
    let process = options.process.clone().unwrap_or_else(|| image.variants[0].process.clone());
    let kind = image.record.processes.iter().find(|p| p.name == process).map(|p| p.kind);
    let ended = std::thread::scope(|scope| {
        // This thread ends with the last process that could still write.
        scope.spawn(|| watch(errors, (&process, kind), output));
        if kind == Some(ProcessKind::Process) {
            output.aside(styled(FAINT, format!("{} {process} starts; Ctrl-C ends it", image.label)));
            announce(&mut launched, output);
        }
        launched.process().wait().map_err(model::Error::from)
    })?;
    if stopped.load(Ordering::SeqCst) {
        output.aside(styled(FAINT, format!("{} {process} ended", image.label)));
        return Ok(ExitCode::SUCCESS);
    }
    Ok(match ended {
        Ended::Exit(status) => ExitCode::from(u8::try_from(status).unwrap_or(1)),
        Ended::Signal(signal) => {
            output.aside(format!("{process} was ended by signal {signal}"));
            ExitCode::from(u8::try_from(128 + signal).unwrap_or(1))
        }
    })
}

/// Passes on what the process writes to standard error, and says what it could not write to.
fn watch(mut errors: PipeReader, (process, kind): (&str, Option<ProcessKind>), output: &Output) {
    let table = if kind == Some(ProcessKind::Task) { "task" } else { "process" };
    let (mut buffer, mut line, mut told) = ([0; 8192], Vec::new(), BTreeSet::new());
    while let Ok(count @ 1..) = errors.read(&mut buffer) {
        // Who closed it does not want to know; the process goes on.
        let _ = std::io::stderr().write_all(&buffer[..count]);
        for byte in &buffer[..count] {
            if *byte != b'\n' {
                if line.len() < LONGEST_LINE {
                    line.push(*byte);
                }
                continue;
            }
            let found = unwritable::in_line(&String::from_utf8_lossy(&line));
            line.clear();
            if let Some(what) = found.filter(|what| told.insert(what.clone())) {
                output.aside(unwritable_words(&what, table, process));
            }
        }
    }
}

fn unwritable_words(what: &Unwritable, table: &str, process: &str) -> String {
    let (what, folder) = match what {
        Unwritable::Folder(folder) => {
            (format!("to {}", if folder == "." { "/app" } else { folder }), folder.as_str())
        }
        Unwritable::Unnamed => ("where it wanted to".to_owned(), "FOLDER"),
    };
    format!(
        "note: {process} could not write {what}: in shtetl.toml, under [{table}.{process}]: writable = [{folder:?}], \
         and build again; run --data DIR keeps what it writes"
    )
}

fn announce(launched: &mut run::Launched, output: &Output) {
    let Some(port) = launched.port else { return };
    if launched.wait_for_port(PATIENCE) {
        output.aside(format!("{} http://127.0.0.1:{port}/", styled(GOOD, "answers on")));
    }
}

/// Reads `NAME=VALUE`.
fn settings(given: &[String]) -> Result<BTreeMap<String, String>, Failure> {
    given
        .iter()
        .map(|text| match text.split_once('=') {
            Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
            // The text may hold a secret, so it is not repeated.
            _ => Err(Failure::Usage {
                message: "--set wants a name and a value".to_owned(),
                hint: "write --set NAME=VALUE".to_owned(),
            }),
        })
        .collect()
}
