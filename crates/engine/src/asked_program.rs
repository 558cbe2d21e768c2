//! Asks a program a question, apart from this machine: it reads the question from its standard input, and writes its
//! answer to its standard output. Its root is empty but for the folders that it is given; it has no network, and little
//! of everything else.

use crate::sandbox_mode::{forget_if_refused, working_mode};
use crate::scratch::Scratch;
use content::store::Store;
use model::places::APP_USER;
use model::{PathFacts, Result};
pub use sandbox::Limit;
use sandbox::{Ended, Limits, Merged, Network, Plan};
use std::fs::{self, File};
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

/// The longest answer, in bytes.
pub const LONGEST_ANSWER: u64 = 1 << 20;
/// How much it may use.
const LIMITS: Limits = Limits {
    processes: 64,
    memory: Some(512 << 20),
    open_files: 256,
    written: Some(LONGEST_ANSWER),
    time: Some(Duration::from_secs(10)),
};
/// How many of its last words an error has.
const LAST_WORDS: usize = 5;

/// Writes the content of a folder.
pub type Fill<'a> = &'a dyn Fn(&Path) -> Result<()>;

/// A program and what it is asked.
pub struct Question<'a> {
    /// The program and its arguments.
    pub argv: Vec<String>,
    /// What it finds in its root: a folder, and what fills it. It starts in the first.
    pub folders: &'a [(&'a str, Fill<'a>)],
    /// What it reads.
    pub text: &'a [u8],
}

/// What became of a question.
#[derive(Debug, PartialEq, Eq)]
pub enum Answer {
    /// It ended well, and wrote this.
    Said(Vec<u8>),
    /// It could not be started, for this reason.
    NotStarted(String),
    /// It failed, and these were its last lines.
    Failed(String, Vec<String>),
    /// It used more than it may.
    Over(Limit),
}

/// Asks a program.
pub fn ask(question: &Question<'_>, store: &Store) -> Result<Answer> {
    let mode = working_mode(store)?;
    let kept = Scratch(store.temporary_folder()?);
    let scratch = &kept.0;
    let mut merged = Vec::new();
    for (number, (place, fill)) in question.folders.iter().enumerate() {
        let from = scratch.join(format!("folder{number}"));
        fs::create_dir(&from).facts(&from)?;
        fill(&from)?;
        merged.push(Merged { from, to: (*place).to_owned() });
    }
    let start = question.folders.first().map_or("", |(place, _)| place);
    let plan = Plan {
        mode,
        layers: Vec::new(),
        scratch: scratch.join("sandbox"),
        argv: question.argv.clone(),
        env: vec![("LANG".to_owned(), "C.UTF-8".to_owned()), ("HOME".to_owned(), "/tmp".to_owned())],
        folder: format!("/{start}"),
        writable: vec!["tmp".to_owned()],
        merged,
        shared: Vec::new(),
        root_writable: false,
        on_terminal: false,
        network: Network::Alone,
        listens: Vec::new(),
        names: Vec::new(),
        uid: APP_USER.uid,
        gid: APP_USER.gid,
        limits: LIMITS,
    };
    fs::create_dir(&plan.scratch).facts(&plan.scratch)?;
    let path = |name: &str| scratch.join(name);
    let (input, output, errors) = (path("question"), path("answer"), path("errors"));
    fs::write(&input, question.text).facts(&input)?;
    let open = |path: &Path| File::create(path).facts(path);
    let streams: [Stdio; 3] =
        [File::open(&input).facts(&input)?.into(), open(&output)?.into(), open(&errors)?.into()];
    let mut running = match sandbox::start(&plan, streams) {
        Ok(running) => running,
        Err(sandbox::SandboxError::NotStarted { detail, .. }) => return Ok(Answer::NotStarted(detail)),
        Err(error) => {
            forget_if_refused(store, &error);
            return Err(error.into());
        }
    };
    let ended = running.wait()?;
    // What is longer is cut there, whether the program notices or not.
    if fs::metadata(&output).facts(&output)?.len() >= LONGEST_ANSWER {
        return Ok(Answer::Over(Limit::Written));
    }
    let status = match ended {
        Ended::Exit(0) => return Ok(Answer::Said(fs::read(&output).facts(&output)?)),
        Ended::Over(limit) => return Ok(Answer::Over(limit)),
        Ended::Exit(status) => format!("status {status}"),
        Ended::Signal(number) => format!("signal {number}"),
    };
    let said = fs::read(&errors).facts(&errors)?;
    let said = String::from_utf8_lossy(&said);
    let mut last: Vec<String> = said.lines().rev().take(LAST_WORDS).map(str::to_owned).collect();
    last.reverse();
    Ok(Answer::Failed(status, last))
}
