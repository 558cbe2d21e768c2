//! Runs a program of a step apart from this machine: in a root of layers, over a copy of the source,
//! without the network, with a clean environment. What it writes into one folder is its result.

use crate::base::APP_USER;
use crate::error::{BuildError, PathFacts, Result};
use crate::launch::{unpacked, working_mode};
use crate::source::{SourceTree, TreeKind};
use crate::worklist::{StepResult, Tools};
use content::store::{Store, remove_tree};
use sandbox::{Ended, Isolation, Plan, SandboxError};
use std::collections::{BTreeSet, VecDeque};
use std::fs;
use std::io::{BufRead, BufReader, PipeReader};
use std::os::unix::fs::{lchown, symlink};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::Duration;

/// Where the source is, in the root.
const SOURCE: &str = "/app";
/// Where results are put, in the root.
pub const RESULT: &str = "/result";
/// Where the program keeps what makes it faster the next time, in the root.
pub const CACHE: &str = "/cache";
/// How often it is looked whether the build should end.
const GLANCE: Duration = Duration::from_millis(100);
/// So many of the last lines that a program said are kept.
const LAST_LINES: usize = 40;

/// A program to run.
pub struct Job<'a> {
    /// The step that runs it.
    pub step: &'a str,
    /// The program and its arguments.
    pub argv: Vec<String>,
    /// Its environment.
    pub env: Vec<(&'static str, String)>,
    /// The files that it works on.
    pub tree: &'a SourceTree,
    /// The name of its cache in the store.
    pub cache: &'a str,
}

/// What a program wrote; it is gone when this is dropped.
pub struct Written {
    scratch: PathBuf,
    /// The folder with its results.
    pub folder: PathBuf,
    /// The copy of the source, with what the program changed in it.
    pub source: PathBuf,
}

impl Drop for Written {
    fn drop(&mut self) {
        remove_tree(&self.scratch);
    }
}

/// Runs the program on the root that the tools have; an error with its last words when it fails.
pub fn run(job: &Job<'_>, store: &Store, tools: &Tools<'_>) -> Result<Written> {
    let mode = working_mode(store)?;
    let unpack = |result: &StepResult| {
        let layer = &result.layer;
        unpacked(store, &store.blob_path(layer.digest), layer.codec, layer.diff_id, mode)
    };
    let layers = tools.root.iter().map(unpack).collect::<Result<Vec<_>>>()?;
    let scratch = store.temporary_folder()?;
    let (source, folder) = (scratch.join("source"), scratch.join("result"));
    let written = Written { scratch: scratch.clone(), folder: folder.clone(), source: source.clone() };
    let own = mode.isolation == Isolation::Superuser;
    copy_source(job.tree, &source, own)?;
    let cache = store.root().join("caches").join(job.cache);
    for shared in [&folder, &cache] {
        fs::create_dir_all(shared).facts(shared)?;
        give(shared, own)?;
    }
    let plan = Plan {
        mode,
        layers,
        scratch: scratch.join("sandbox"),
        argv: job.argv.clone(),
        env: job.env.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect(),
        folder: SOURCE.to_owned(),
        writable: vec!["tmp".to_owned()],
        shared: [(source, SOURCE), (folder, RESULT), (cache, CACHE)]
            .map(|(from, to)| (from, to[1..].to_owned()))
            .into(),
        root_writable: true,
        network: false,
        uid: APP_USER.uid,
        gid: APP_USER.gid,
    };
    fs::create_dir(&plan.scratch).facts(&plan.scratch)?;
    finish(job, &plan, tools)?;
    Ok(written)
}

fn finish(job: &Job<'_>, plan: &Plan, tools: &Tools<'_>) -> Result<()> {
    let (reader, writer) = std::io::pipe()?;
    let output = [Stdio::null(), writer.try_clone()?.into(), writer.into()];
    let mut running = sandbox::start(plan, output).map_err(|error| match error {
        SandboxError::NotStarted { program, detail } => {
            BuildError::StepNotStarted { step: job.step.to_owned(), program, detail }
        }
        other => other.into(),
    })?;
    let mut last = VecDeque::new();
    let lines = lines_of(reader);
    loop {
        match lines.recv_timeout(GLANCE) {
            Ok(line) => {
                if last.len() == LAST_LINES {
                    last.pop_front();
                }
                last.push_back(line);
            }
            Err(RecvTimeoutError::Disconnected) => break,
            Err(RecvTimeoutError::Timeout) => {}
        }
        if (tools.interrupted)() {
            // Dropping what runs ends it, and everything that it started.
            return Err(BuildError::Interrupted);
        }
    }
    let status = match running.wait()? {
        Ended::Exit(0) => return Ok(()),
        Ended::Exit(status) => format!("status {status}"),
        Ended::Signal(number) => format!("signal {number}"),
    };
    let (step, command) = (job.step.to_owned(), job.argv.join(" "));
    Err(BuildError::StepFailed { step, command, status, said: last.into() })
}

/// The lines that arrive, on a thread of their own: a program may be silent for long.
fn lines_of(reader: PipeReader) -> Receiver<String> {
    let (sender, lines) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for line in BufReader::new(reader).split(b'\n').map_while(std::io::Result::ok) {
            if sender.send(String::from_utf8_lossy(&line).into_owned()).is_err() {
                break;
            }
        }
    });
    lines
}

/// With `own`, gives a path to the user that programs run as; otherwise it is the caller's, who is seen as
/// that user.
fn give(path: &Path, own: bool) -> Result<()> {
    match own {
        true => lchown(path, Some(APP_USER.uid), Some(APP_USER.gid)).facts(path),
        false => Ok(()),
    }
}

/// A copy that the program may change; with `own`, it gets the user that the program runs as.
fn copy_source(tree: &SourceTree, to: &Path, own: bool) -> Result<()> {
    fs::create_dir(to).facts(to)?;
    give(to, own)?;
    let mut folders = BTreeSet::new();
    for (path, file) in tree.files() {
        for (at, _) in path.match_indices('/') {
            if folders.insert(&path[..at]) {
                let folder = to.join(&path[..at]);
                fs::create_dir(&folder).facts(&folder)?;
                give(&folder, own)?;
            }
        }
        let target = to.join(path);
        match &file.kind {
            TreeKind::Link { target: points_to } => symlink(points_to, &target).facts(&target)?,
            TreeKind::File { .. } => drop(fs::copy(tree.root().join(path), &target).facts(&target)?),
        }
        give(&target, own)?;
    }
    Ok(())
}
