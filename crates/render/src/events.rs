//! Renders the events of a build as they come: lines that are rewritten on a terminal, plain lines
//! elsewhere, JSON lines for programs.

use crate::live::Live;
use crate::{FAINT, Format, Output, styled, words};
use engine::Event;
use remote::{Exchange, Witness};
use std::sync::Arc;

/// The one owner of what is shown while a build runs.
pub struct Renderer<'o> {
    output: &'o Output,
    live: Option<Live>,
    /// Whether found results get a line.
    shows_found: bool,
}

impl<'o> Renderer<'o> {
    /// Shows everything on an output.
    pub fn new(output: &'o Output) -> Self {
        let live = output.is_live().then(Live::new);
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
            live.show(event, line(event));
        } else if let Some(line) = line(event) {
            self.output.aside_prose(line);
        }
    }
}

/// Shows requests to servers, for people or for programs.
pub fn requests(format: Format) -> Witness {
    let output = Output::new(format);
    Arc::new(move |exchange: &Exchange| {
        let Exchange { method, url, status, elapsed } = exchange;
        let milliseconds = u64::try_from(elapsed.as_millis()).unwrap_or(u64::MAX);
        if output.is_json() {
            output.json_aside(&serde_json::json!({
                "event": "request", "method": method, "url": url, "status": status, "milliseconds": milliseconds,
            }));
            return;
        }
        let status = status.map_or_else(|| "no answer".to_owned(), |status| status.to_string());
        output.aside(styled(FAINT, format!("{method} {url}  {status}, {}", words::duration(milliseconds))));
    })
}

/// An event as one plain line; progress has none.
pub fn line(event: &Event) -> Option<String> {
    Some(match event {
        Event::Found { step, .. } => format!("{step}: found in the store"),
        Event::Shared { step, milliseconds, .. } => {
            format!("{step}: from the shared store in {}", words::duration(*milliseconds))
        }
        Event::Started { step, because, .. } => format!("{step}: running ({})", words::reason(because)),
        Event::Finished { step, milliseconds, size, .. } => {
            format!("{step}: done in {}, {}", words::duration(*milliseconds), words::size(*size))
        }
        Event::Damaged { path } => format!("note: {path} was damaged in the store and is recreated"),
        Event::Note { text } => format!("note: {text}"),
        Event::Planned { .. } | Event::Progress { .. } => return None,
    })
}
