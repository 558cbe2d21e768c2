//! How results look: text for people, JSON for programs.

pub mod snippet;
pub mod table;
pub mod words;

use crate::arguments::Format;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io::{IsTerminal, Write};

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

/// Where results and everything else go.
pub struct Output {
    format: Format,
}

impl Output {
    pub fn new(format: Format) -> Self {
        Self { format }
    }

    pub fn is_json(&self) -> bool {
        self.format == Format::Json
    }

    /// A line of the result, on standard output.
    #[allow(clippy::unused_self, reason = "whoever prints must hold the output")]
    pub fn line(&self, text: impl std::fmt::Display) {
        // A reader that went away has seen enough.
        let _ = writeln!(anstream::stdout().lock(), "{text}");
    }

    /// A line of anything else, on standard error.
    #[allow(clippy::unused_self, reason = "whoever prints must hold the output")]
    pub fn aside(&self, text: impl std::fmt::Display) {
        // As above.
        let _ = writeln!(anstream::stderr().lock(), "{text}");
    }

    /// The result as JSON, one document.
    pub fn json(&self, value: &impl Serialize) {
        self.line(serde_json::to_string_pretty(value).unwrap_or_default());
    }

    /// Whether standard error is a terminal, so that lines there can be rewritten.
    pub fn is_live(&self) -> bool {
        !self.is_json() && std::io::stderr().is_terminal()
    }
}
