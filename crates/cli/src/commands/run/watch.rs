//! `run --watch`: builds an app and runs it, and does so again with every change.

use super::super::Done;
use super::super::build::build_once;
use super::super::watching::{follow, watchable};
use super::all::Session;
use crate::surroundings::Surroundings;
use arguments::{RunOptions, SourceOptions};
use model::Error;
use render::{FAINT, GOOD, Output, styled};
use serde_json::json;
use std::path::Path;
use std::process::ExitCode;
use std::time::{Duration, Instant};
use wording::Failure;
use workshop::inspect;

/// A process that ends stays ended until the next change: its output stays visible.
const TRIES: u32 = 1;
/// How long to wait for processes to answer before nothing more is reported.
const PATIENCE: Duration = Duration::from_secs(60);

pub fn run_watch(options: &RunOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let source = SourceOptions::of(Path::new(&options.image));
    let more = watchable(&options.settings.settings_file);
    let mut session: Option<Session<'_>> = None;
    let mut act = |since: Option<Instant>| -> Result<(), Failure> {
        let built = build_once(&source, surroundings, output)?;
        let image = inspect::open_index(&surroundings.store, &built.name, built.digest)?;
        if session.is_none() {
            let opened = Session::open(options, &image, TRIES, surroundings, output)?;
            opened.end_with_signals(&surroundings.cancel)?;
            session = Some(opened);
        }
        let Some(session) = &mut session else { return Ok(()) };
        if session.app().is_none() {
            session.start(image)?;
            return Ok(());
        }
        let changed = session.replace(image)?;
        if let Some(since) = since.filter(|_| !changed.is_empty()) {
            answered(session, since, &changed, output);
        }
        Ok(())
    };
    let done = follow(&source, &more, surroundings, |since| match act(since) {
        Err(Failure::Core(error)) if matches!(*error, Error::Interrupted) => Ok(()),
        Err(failure) => {
            // It stands there until the next change.
            wording::report(output, &failure);
            output.aside(styled(FAINT, "waiting for a change"));
            Ok(())
        }
        Ok(()) => Ok(()),
    });
    if let Some(session) = &session {
        session.stop();
    }
    done.map(|()| ExitCode::SUCCESS)
}

/// Says how long it took from a change to the answers of what was started again.
fn answered(session: &Session<'_>, since: Instant, changed: &[String], output: &Output) {
    let failed = session.app().and_then(|app| app.wait_until_healthy(Duration::ZERO, PATIENCE));
    if failed.is_some() {
        return;
    }
    let took = since.elapsed();
    match output.is_json() {
        true => output.json_line(&json!({ "changed": changed, "after_ms": took.as_millis() })),
        false => output.aside(format!(
            "{} after {:.2} s: {}",
            styled(GOOD, "changed"),
            took.as_secs_f64(),
            changed.join(", ")
        )),
    }
}
