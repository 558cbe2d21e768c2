//! What a process of `run` writes to standard error is passed on, and what it complains of explained.

use crate::Output;
use model::ProcessKind;
use running::unreachable::{self, Unreachable};
use running::unwritable::{self, Unwritable};
use std::collections::BTreeSet;
use std::io::{PipeReader, Read, Write};

/// How many bytes of a line are looked at.
const LONGEST_LINE: usize = 4096;

/// Whose output it is.
pub struct Watched<'a> {
    /// The process type, or the command.
    pub process: &'a str,
    /// What it is, where the image says it.
    pub kind: Option<ProcessKind>,
    /// Whether it sees nothing of this machine's network.
    pub has_own_network: bool,
}

/// Passes on what the process writes, until the last one that could write has ended; explains each complaint once.
pub fn pass_on(mut errors: PipeReader, watched: &Watched<'_>, output: &Output) {
    let (mut buffer, mut line, mut told) = ([0; 8192], Vec::new(), BTreeSet::new());
    while let Ok(count @ 1..) = errors.read(&mut buffer) {
        for piece in buffer[..count].split_inclusive(|byte| *byte == b'\n') {
            // Who closed it does not want to know; the process goes on.
            let _ = std::io::stderr().write_all(piece);
            let room = LONGEST_LINE.saturating_sub(line.len());
            line.extend(&piece[..piece.len().min(room)]);
            if !piece.ends_with(b"\n") {
                continue;
            }
            // What is explained stands between lines, never in one.
            let note = watched.explained(&String::from_utf8_lossy(&line));
            line.clear();
            if let Some(note) = note.filter(|note| told.insert(note.clone())) {
                output.aside(note);
            }
        }
    }
}

impl Watched<'_> {
    /// What a complaint means, and what helps.
    pub fn explained(&self, line: &str) -> Option<String> {
        if let Some(what) = unwritable::in_line(line) {
            return Some(self.not_written(&what));
        }
        let what = unreachable::in_line(line).filter(|_| self.has_own_network)?;
        Some(self.not_reached(&what))
    }

    fn not_written(&self, what: &Unwritable) -> String {
        let table = if self.kind == Some(ProcessKind::Task) { "task" } else { "process" };
        let (what, folder) = match what {
            Unwritable::Folder(folder) if folder == "." => ("to /app".to_owned(), "."),
            Unwritable::Folder(folder) => (format!("to {folder}"), folder.as_str()),
            Unwritable::Outside(path) => {
                return format!(
                    "note: {} could not write to {path}: only folders of the app can be writable; make the app keep its files in one of them",
                    self.process
                );
            }
            Unwritable::Unnamed => ("where it wanted to".to_owned(), "FOLDER"),
        };
        let process = self.process;
        // A command of its own is no process type: the user knows which one it stands for.
        let of = if self.kind.is_some() { process } else { "NAME" };
        format!(
            "note: {process} could not write {what}: in shtetl.toml, under [{table}.{of}]: writable = [{folder:?}], \
             and build again; run --data DIR keeps what it writes"
        )
    }

    fn not_reached(&self, what: &Unreachable) -> String {
        let process = self.process;
        match what {
            Unreachable::Port(port) => {
                let port = port.map_or_else(|| "PORT".to_owned(), |port| port.to_string());
                format!(
                    "note: {process} has its own network: run --reach {port} lets it reach that port on this machine"
                )
            }
            Unreachable::Elsewhere => {
                format!("note: {process} has its own network: run --network host lets it use this machine's")
            }
        }
    }
}
