//! An error in words, and what all domains word alike.

use model::names;
use render::{BAD, FAINT, Output, TYPED, styled};
use serde::Serialize;
use std::io;
use std::path::Path;
use std::process::ExitCode;

/// The work failed.
pub(super) const FAILED: u8 = 1;
/// Wrong usage or configuration.
pub(super) const WRONG: u8 = 2;
/// Trouble outside: network, disk, sandbox.
pub(super) const OUTSIDE: u8 = 3;
/// A fault of this program.
pub(super) const FAULT: u8 = 4;
/// Ended by Ctrl-C, as shells count it.
pub const INTERRUPTED: u8 = 130;

/// An error in words.
#[derive(Debug, Default, Clone, Serialize)]
pub(super) struct Worded {
    /// The code under which it is explained.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) code: Option<String>,
    pub(super) message: String,
    /// Lines that show the place or list the facts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(super) details: Vec<String>,
    /// What to do next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) hint: Option<String>,
    pub(super) exit: u8,
}

pub(super) fn worded(exit: u8, message: impl Into<String>, hint: impl Into<String>) -> Worded {
    let hint = hint.into();
    Worded {
        code: None,
        message: message.into(),
        details: Vec::new(),
        hint: (!hint.is_empty()).then_some(hint),
        exit,
    }
}

impl Worded {
    /// The error for programs.
    pub(super) fn document(&self) -> serde_json::Value {
        let plain = |text: &String| anstream::adapter::strip_str(text).to_string();
        serde_json::json!(Self { details: self.details.iter().map(plain).collect(), ..self.clone() })
    }

    /// Prints the error and gives the exit code.
    pub(super) fn report(&self, output: &Output) -> ExitCode {
        if output.is_json() {
            output.aside(serde_json::json!({ "event": "error", "error": self.document() }));
        } else {
            output.aside_prose(format!("{} {}", styled(BAD, "error:"), self.message));
            for line in &self.details {
                output.aside_prose(line);
            }
            if let Some(hint) = &self.hint {
                output.aside_prose(format!("{} {hint}", styled(TYPED, "what to do:")));
            }
            if let Some(code) = &self.code {
                output.aside(styled(FAINT, format!("more: shtetl explain {code}")));
            }
        }
        ExitCode::from(self.exit)
    }
}

/// Too many symbolic links on the way.
const ELOOP: i32 = 40;

/// What the operating system refused.
pub(super) fn system(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "no such file or folder".to_owned(),
        io::ErrorKind::PermissionDenied => "permission denied".to_owned(),
        io::ErrorKind::StorageFull => "the disk is full".to_owned(),
        io::ErrorKind::ReadOnlyFilesystem => "the file system is read-only".to_owned(),
        io::ErrorKind::FileTooLarge => "the file exceeds the limit for file sizes (ulimit -f)".to_owned(),
        io::ErrorKind::NotADirectory => "not a folder".to_owned(),
        _ if error.raw_os_error() == Some(ELOOP) => "a symbolic link to itself".to_owned(),
        _ => error.to_string(),
    }
}

/// The same, with the path that it happened on.
pub(super) fn at(path: &Path, error: &io::Error) -> String {
    format!("{}: {}", path.display(), system(error))
}

/// The nearest right name, or all of them.
pub fn suggestion(name: &str, known: &[impl AsRef<str>]) -> String {
    let all = || known.iter().map(AsRef::as_ref);
    nearest_or(name, all(), || format!("there are: {}", joined(all())))
}

/// The nearest right name, or something else.
pub fn nearest_or<'k>(
    name: &str,
    known: impl Iterator<Item = &'k str>,
    otherwise: impl FnOnce() -> String,
) -> String {
    names::nearest(name, known).map_or_else(otherwise, |nearest| format!("did you mean {nearest:?}?"))
}

/// `a, b and c`.
pub(super) fn joined<'a>(names: impl Iterator<Item = &'a str>) -> String {
    let names: Vec<_> = names.collect();
    match names.split_last() {
        Some((last, others)) if !others.is_empty() => format!("{} and {last}", others.join(", ")),
        _ => names.concat(),
    }
}
