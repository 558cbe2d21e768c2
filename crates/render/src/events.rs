//! Renders the events of a build as they come: lines that are rewritten on a terminal, plain lines
//! elsewhere, JSON lines for programs.

use crate::{BUSY, FAINT, Output, styled, words};
use engine::Event;
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::Duration;

/// The one owner of what is shown while a build runs.
pub struct Renderer<'o> {
    output: &'o Output,
    live: Option<Live>,
    /// Whether what is there already is worth a line.
    shows_found: bool,
}

struct Live {
    all: MultiProgress,
    steps: Mutex<BTreeMap<String, ProgressBar>>,
}

impl<'o> Renderer<'o> {
    /// Shows everything on an output.
    pub fn new(output: &'o Output) -> Self {
        let live = output.is_live().then(|| Live { all: MultiProgress::new(), steps: Mutex::default() });
        Self { output, live, shows_found: true }
    }

    /// Where it shows them.
    pub fn output(&self) -> &Output {
        self.output
    }

    /// Shows only what has to be done.
    pub fn of_work(output: &'o Output) -> Self {
        Self { shows_found: false, ..Self::new(output) }
    }

    /// Shows one event; called from any thread.
    pub fn show(&self, event: &Event) {
        if matches!(event, Event::Found { .. }) && !self.shows_found {
            return;
        }
        if self.output.is_json() {
            self.output.json_aside(event);
        } else if let Some(live) = &self.live {
            live.show(event);
        } else if let Some(line) = line(event) {
            self.output.aside(line);
        }
    }
}

/// An event as one plain line; progress has none.
pub fn line(event: &Event) -> Option<String> {
    Some(match event {
        Event::Found { step, .. } => format!("{step}: found in the store"),
        Event::Shared { step, milliseconds, .. } => {
            format!("{step}: from the shared store in {}", words::duration(*milliseconds))
        }
        Event::Started { step, because, .. } => format!("{step}: runs, {}", words::reason(because)),
        Event::Finished { step, milliseconds, size, .. } => {
            format!("{step}: done in {}, {}", words::duration(*milliseconds), words::size(*size))
        }
        Event::Damaged { path } => format!("note: {path} was damaged in the store, and is made again"),
        Event::Note { text } => format!("note: {text}"),
        Event::Progress { .. } => return None,
    })
}

impl Live {
    fn show(&self, event: &Event) {
        let Ok(mut steps) = self.steps.lock() else { return };
        match event {
            Event::Started { step, because, .. } => {
                let bar = self.all.add(ProgressBar::new_spinner());
                // The template is a constant and valid.
                if let Ok(style) = ProgressStyle::with_template("  {spinner} {prefix}  {msg}  {elapsed}") {
                    bar.set_style(style);
                }
                bar.set_prefix(styled(BUSY, step));
                bar.set_message(styled(FAINT, words::reason(because)));
                bar.enable_steady_tick(Duration::from_millis(100));
                steps.insert(step.clone(), bar);
            }
            Event::Progress { step, done, total, .. } => {
                if let Some(bar) = steps.get(step) {
                    bar.set_message(styled(FAINT, format!("{done} of {total}")));
                }
            }
            Event::Finished { step, .. } => {
                if let Some(bar) = steps.remove(step) {
                    bar.finish_and_clear();
                }
            }
            Event::Note { .. } | Event::Damaged { .. } => {
                // It cannot fail in a way that matters: the note is in the ledger too.
                let _ = self.all.println(line(event).unwrap_or_default());
            }
            Event::Found { .. } | Event::Shared { .. } => {}
        }
    }
}

impl Drop for Live {
    fn drop(&mut self) {
        // The lines are only for the time of the build. A terminal that is gone needs no clearing.
        let _ = self.all.clear();
    }
}
