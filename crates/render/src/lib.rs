//! How results look: text for people, JSON for programs.
#![forbid(unsafe_code)]

pub mod complaints;
pub mod events;
pub mod instances;
mod live;
pub mod machine;
pub mod problem;
pub mod resolving;
pub mod schema_tables;
mod screen;
pub mod snippet;
pub mod table;
pub mod town_view;
pub mod words;

use anstyle::{AnsiColor, Style};
use clap::ValueEnum;
use serde::Serialize;
use std::io::{self, IsTerminal, Write};
use std::sync::{Mutex, PoisonError};

/// Names and headings.
pub const STRONG: Style = Style::new().bold();
/// What is good or was found.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// What had to be done, or needs attention.
pub const BUSY: Style = AnsiColor::Yellow.on_default();
/// What went wrong.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
/// What is of less interest.
pub const FAINT: Style = Style::new().dimmed();
/// What can be typed.
pub const TYPED: Style = AnsiColor::Cyan.on_default();

/// `text` in `style`; the style ends where the text does.
pub fn styled(style: Style, text: impl std::fmt::Display) -> String {
    let text = text.to_string();
    if text.is_empty() {
        return text;
    }
    format!("{style}{text}{style:#}")
}

/// How results are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
#[allow(missing_docs, reason = "what is said of them would stand in the help of every command")]
pub enum Format {
    #[default]
    Text,
    Json,
}

/// Where results and everything else go.
pub struct Output {
    format: Format,
    /// Whether requests and causes are shown.
    is_verbose: bool,
    /// Whether results go to standard error, too.
    is_aside: bool,
    /// The first write to standard output that failed.
    failed: Mutex<Option<io::Error>>,
}

impl Output {
    /// An output in this format.
    pub fn new(format: Format) -> Self {
        Self { format, is_verbose: false, is_aside: false, failed: Mutex::default() }
    }

    /// The output, with requests and causes if wanted.
    pub fn verbose(self, is_verbose: bool) -> Self {
        Self { is_verbose, ..self }
    }

    /// Whether requests and causes are shown.
    pub fn is_verbose(&self) -> bool {
        self.is_verbose
    }

    /// The same as text, everything on standard error: for commands whose standard output is something else.
    pub fn aside_alone() -> Self {
        Self { is_aside: true, ..Self::new(Format::Text) }
    }

    /// The first failure to write a result, if there was one; what is still buffered is written for that.
    pub fn failure(&self) -> Option<io::Error> {
        self.keep(io::stdout().flush());
        self.failed.lock().unwrap_or_else(PoisonError::into_inner).take()
    }

    fn keep(&self, written: io::Result<()>) {
        if let Err(error) = written {
            self.failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
        }
    }

    /// Another output of the same format, for threads that outlive the borrow of this one.
    pub fn another(&self) -> Self {
        Self { is_aside: self.is_aside, ..Self::new(self.format).verbose(self.is_verbose) }
    }

    /// Whether results are for programs.
    pub fn is_json(&self) -> bool {
        self.format == Format::Json
    }

    /// A line of the result, on standard output.
    pub fn line(&self, text: impl std::fmt::Display) {
        match self.is_aside {
            true => self.aside(text),
            false => self.keep(writeln!(anstream::stdout().lock(), "{text}")),
        }
    }

    /// A line of anything else, on standard error.
    #[allow(clippy::unused_self, reason = "whoever prints must hold the output")]
    pub fn aside(&self, text: impl std::fmt::Display) {
        // There is nowhere to report that this failed.
        let _ = writeln!(anstream::stderr().lock(), "{text}");
    }

    /// Sentences of the result; on a terminal, they go on below themselves.
    pub fn prose(&self, text: impl std::fmt::Display) {
        let text = text.to_string();
        // Paragraphs stay even; points of a list go on further in.
        let further = if text.starts_with(' ') { 2 } else { 0 };
        screen::wrapped(&text, further, screen::columns(io::stdout()))
            .iter()
            .for_each(|line| self.line(line));
    }

    /// Sentences of anything else; on a terminal, they go on below themselves.
    pub fn aside_prose(&self, text: impl std::fmt::Display) {
        screen::wrapped(&text.to_string(), 2, screen::columns(io::stderr()))
            .iter()
            .for_each(|line| self.aside(line));
    }

    /// The result as JSON, one document.
    pub fn json(&self, value: &impl Serialize) {
        match serde_json::to_string_pretty(value) {
            Ok(text) => self.line(text),
            Err(error) => self.keep(Err(error.into())),
        }
    }

    /// A part of the result as JSON, one line.
    pub fn json_line(&self, value: &impl Serialize) {
        match serde_json::to_string(value) {
            Ok(text) => self.line(text),
            Err(error) => self.keep(Err(error.into())),
        }
    }

    /// Something that happens meanwhile as JSON, one line, on standard error.
    pub fn json_aside(&self, value: &impl Serialize) {
        match serde_json::to_string(value) {
            Ok(text) => self.aside(text),
            Err(error) => self.keep(Err(error.into())),
        }
    }

    /// Whether standard error is a terminal on which lines can be rewritten.
    pub fn is_live(&self) -> bool {
        let is_dumb = std::env::var_os("TERM").is_some_and(|name| name == "dumb");
        !self.is_json() && !self.is_verbose && !is_dumb && io::stderr().is_terminal()
    }
}
