//! Runs a program of a step apart from this machine: in a root of layers, over a copy of the source,
//! without the network, with a clean environment. What it writes into one folder is its result.

use crate::failed_root::FailedRoot;
use crate::sandbox_mode::{forget_if_refused, working_mode};
use crate::scratch::Scratch;
use crate::unpacked_layers::{StoredLayer, unpacked};
use crate::{Produced, Recipe, StepContext, told_lines};
use content::digest::Hasher;
use content::store::Store;
use gateway::{Gateway, Trouble};
use model::error::{PackageError, StepError};
use model::places::APP_USER;
use model::{Error, PathFacts, Result, dev_packages, failures};
use sandbox::{Ended, FIRST_ID, Isolation, Limit, Merged, Network, Plan, Running, SandboxError};
use source::{SourceTree, TreeFile, TreeKind};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, PipeReader};
use std::net::Ipv4Addr;
use std::os::unix::fs::{lchown, symlink};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, SystemTime};

/// Where the source of an app is, in the root.
pub const SOURCE: &str = "/app";
/// Where results are put, in the root.
pub const RESULT: &str = "/result";
/// Where the program keeps what makes it faster the next time, in the root.
pub const CACHE: &str = "/cache";
/// How often it is looked whether the build should end.
const GLANCE: Duration = Duration::from_millis(100);
/// How many of the last lines of a program are kept.
const LAST_LINES: usize = 1000;
/// How many bytes of a line are kept.
const LONGEST_LINE: usize = 16 << 10;
/// How many lines may wait to be read.
const LINES_WAITING: usize = 256;

/// A program to run.
pub struct Job<'a> {
    /// The step that runs it.
    pub step: &'a str,
    /// The program and its arguments.
    pub argv: Vec<String>,
    /// Its name in messages.
    pub shown: String,
    /// Its environment.
    pub env: Vec<(&'static str, String)>,
    /// Where the files that it works on are, in the root.
    pub folder: &'a str,
    /// The folder below them that it starts in; empty for theirs.
    pub starts_in: &'a str,
    /// Writes those files into an empty folder.
    pub fill: &'a dyn Fn(&Path) -> Result<()>,
    /// Folders below those files in which the root has packages; the program may put files beside them.
    pub packages: &'a [String],
    /// What it finds at [`CACHE`].
    pub cache: Cache,
}

/// What a program finds in its cache folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cache {
    /// Nothing, and nothing of it stays: for programs of packages, which are not trusted.
    Empty,
    /// What the same step of the same app left there the last time.
    Kept,
}

/// How programs are run: part of the fingerprint of every action that runs one.
pub const RECIPE: Recipe = Recipe::new("isolated program", 4);

/// What a program wrote; it is gone when this is dropped.
pub struct Written {
    _scratch: Scratch,
    /// The folder with its results.
    pub folder: PathBuf,
    /// The files that it worked on, with what it changed in them.
    pub source: PathBuf,
}

/// Runs the program on the root that the tools have; an error with its last words when it fails.
pub fn run(job: &Job<'_>, store: &Store, cx: &StepContext<'_>) -> Result<Written> {
    let mode = working_mode(store)?;
    let unpack = |result: &Produced| unpacked(store, &StoredLayer::from(&result.layer), mode);
    let layers = cx.root.iter().map(unpack).collect::<Result<Vec<_>>>()?;
    let kept = Scratch(store.temporary_folder()?);
    let scratch = &kept.0;
    let (source, folder) = (scratch.join("source"), scratch.join("result"));
    let own = mode.isolation == Isolation::Superuser;
    fs::create_dir(&source).facts(&source)?;
    (job.fill)(&source)?;
    for folder in job.packages.iter().map(|folder| source.join(folder)) {
        fs::create_dir_all(&folder).facts(&folder)?;
    }
    if own {
        give_all(&source)?;
    }
    let cache = match job.cache {
        Cache::Empty => scratch.join("cache"),
        Cache::Kept => store.cache_path(cx.app, cx.step),
    };
    for shared in [&folder, &cache] {
        fs::create_dir_all(shared).facts(shared)?;
        if own {
            give(shared)?;
        }
    }
    let plan = Plan {
        mode,
        layers,
        scratch: scratch.join("sandbox"),
        argv: job.argv.clone(),
        env: job.env.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect(),
        folder: format!("{}/{}", job.folder, job.starts_in).trim_end_matches('/').to_owned(),
        writable: vec!["tmp".to_owned()],
        merged: vec![Merged { from: source.clone(), to: job.folder[1..].to_owned() }],
        shared: [(folder.clone(), RESULT), (cache, CACHE)]
            .map(|(from, to)| (from, to[1..].to_owned()))
            .into(),
        root_writable: true,
        on_terminal: false,
        network: if cx.gateway.is_some() { Network::Linked } else { Network::Alone },
        listens: cx.gateway.iter().map(|_| (Ipv4Addr::LOCALHOST, gateway::PORT).into()).collect(),
        names: Vec::new(),
        uid: APP_USER.uid,
        gid: APP_USER.gid,
        limits: cx.limits.lowered_to(cx.app_limits),
    };
    fs::create_dir(&plan.scratch).facts(&plan.scratch)?;
    match (finish(job, &plan, store, cx), cx.failed_root) {
        (Ok(()), _) => Ok(Written { _scratch: kept, folder, source }),
        (Err(error @ Error::Step(StepError::Failed { .. })), Some(failed_root)) => {
            failed_root.keep(FailedRoot::new(job.step, plan, kept));
            Err(error)
        }
        (Err(error), _) => Err(error),
    }
}

fn finish(job: &Job<'_>, plan: &Plan, store: &Store, cx: &StepContext<'_>) -> Result<()> {
    let (reader, writer) = io::pipe()?;
    let output = [Stdio::null(), writer.try_clone()?.into(), writer.into()];
    let mut running = sandbox::start(plan, output).map_err(|error| match error {
        SandboxError::NotStarted { program, detail } => {
            Error::Step(StepError::NotStarted { step: job.step.to_owned(), program, detail })
        }
        other => {
            forget_if_refused(store, &other);
            other.into()
        }
    })?;
    let last = served(&running, cx, || last_lines(&lines_of(reader), cx))?;
    let ended = running.wait()?;
    // What could not be fetched is the cause of whatever the program made of it.
    troubles(job, cx)?;
    let (step, command) = (job.step.to_owned(), job.shown.clone());
    let status = match ended {
        Ended::Exit(0) => return Ok(()),
        Ended::Over(limit) => {
            let by_app = cx.app_limits.was_lower(limit, &cx.limits);
            return Err(Error::Step(StepError::OverLimit { step, command, limit, by_app }));
        }
        Ended::Exit(status) => format!("status {status}"),
        Ended::Signal(number) => format!("signal {number}"),
    };
    let missing = dev_packages::in_output(&last);
    let causes = failures::in_output(&last);
    let said = told_lines::of(last);
    let not_there = cx.gateway.map(Gateway::not_there).unwrap_or_default();
    Err(Error::Step(StepError::Failed { step, command, status, said, missing, causes, not_there }))
}

/// What `work` gives, while the programs may fetch what their step lets them.
fn served<T>(running: &Running, cx: &StepContext<'_>, work: impl FnOnce() -> Result<T>) -> Result<T> {
    let (Some(gateway), Some(link)) = (cx.gateway, running.link()) else { return work() };
    let listener = link.listener(0)?;
    let ended = AtomicBool::new(false);
    std::thread::scope(|scope| {
        // However the work ends, serving stops.
        let _end = EndServing(&ended);
        scope.spawn(|| gateway.serve(&listener, &ended));
        work()
    })
}

struct EndServing<'a>(&'a AtomicBool);

impl Drop for EndServing<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// An error for the first thing that its programs could not fetch.
fn troubles(job: &Job<'_>, cx: &StepContext<'_>) -> Result<()> {
    let (mut unpinned, mut refused) = (Vec::new(), Vec::new());
    for trouble in cx.gateway.iter().flat_map(|gateway| gateway.take_troubles()) {
        match trouble {
            Trouble::Failed(source) => {
                let wanted_by = job.step.to_owned();
                return Err(Error::Package(PackageError::Remote { wanted_by, source }));
            }
            Trouble::TooMuch => {
                let (step, command) = (job.step.to_owned(), job.shown.clone());
                return Err(Error::Step(StepError::OverLimit {
                    step,
                    command,
                    limit: Limit::Written,
                    by_app: false,
                }));
            }
            Trouble::NotPinned(path) => unpinned.push(path),
            Trouble::Refused(what) => refused.push(what),
            Trouble::NoAddress(kind) => {
                return Err(Error::Step(StepError::NoAddress { step: job.step.to_owned(), kind }));
            }
        }
    }
    let step = job.step.to_owned();
    match (&unpinned[..], &refused[..]) {
        ([], []) => Ok(()),
        ([], _) => Err(Error::Step(StepError::NotAllowed { step, asked: refused })),
        _ => Err(Error::Step(StepError::NotPinned { step, asked: unpinned })),
    }
}

/// The last lines that arrive until the end.
fn last_lines(lines: &Receiver<String>, cx: &StepContext<'_>) -> Result<VecDeque<String>> {
    let mut last = VecDeque::new();
    loop {
        match lines.recv_timeout(GLANCE) {
            Ok(line) => {
                if last.len() == LAST_LINES {
                    last.pop_front();
                }
                last.push_back(line);
            }
            Err(RecvTimeoutError::Disconnected) => return Ok(last),
            Err(RecvTimeoutError::Timeout) => {}
        }
        // Dropping what runs ends it, and everything that it started.
        cx.check_cancelled()?;
    }
}

/// The lines that arrive, on a thread of their own: a program may be silent for long. The rest of a longer line
/// is passed over.
fn lines_of(reader: PipeReader) -> Receiver<String> {
    // Bounded, so that a program with much output waits for its reader.
    let (sender, lines) = std::sync::mpsc::sync_channel(LINES_WAITING);
    std::thread::spawn(move || {
        let mut reader = BufReader::new(reader);
        while let Ok(Some(line)) = next_line(&mut reader) {
            if sender.send(String::from_utf8_lossy(&line).into_owned()).is_err() {
                break;
            }
        }
    });
    lines
}

/// The next line, up to [`LONGEST_LINE`] bytes of it; nothing at the end.
fn next_line(from: &mut impl BufRead) -> io::Result<Option<Vec<u8>>> {
    let mut line = Vec::new();
    let mut is_end = true;
    loop {
        let buffer = from.fill_buf()?;
        if buffer.is_empty() {
            return Ok((!is_end).then_some(line));
        }
        is_end = false;
        let end = buffer.iter().position(|byte| *byte == b'\n');
        let piece = &buffer[..end.unwrap_or(buffer.len())];
        line.extend_from_slice(&piece[..piece.len().min(LONGEST_LINE - line.len())]);
        let used = end.map_or(buffer.len(), |at| at + 1);
        from.consume(used);
        if end.is_some() {
            return Ok(Some(line));
        }
    }
}

/// Gives a path to the user that programs run as, under an id that no user on this machine has. Without the
/// superuser's rights it is the caller's, who is seen as that user.
fn give(path: &Path) -> Result<()> {
    lchown(path, Some(FIRST_ID + APP_USER.uid), Some(FIRST_ID + APP_USER.gid)).facts(path)
}

fn give_all(folder: &Path) -> Result<()> {
    give(folder)?;
    for entry in fs::read_dir(folder).facts(folder)? {
        let entry = entry.facts(folder)?;
        match entry.file_type().facts(folder)?.is_dir() {
            true => give_all(&entry.path())?,
            false => give(&entry.path())?,
        }
    }
    Ok(())
}

/// What decides what [`copy_source`] copies: every file with its digest, every link with its target.
pub fn source_digests(tree: &SourceTree) -> Result<BTreeMap<String, String>> {
    let digest = |(path, file): (&String, &TreeFile)| {
        let said = match &file.kind {
            TreeKind::Link { target } => format!("link {target}"),
            TreeKind::File { executable, .. } => {
                let full = tree.root().join(path);
                let (digest, _) = Hasher::of_reader(&mut File::open(&full).facts(&full)?).facts(&full)?;
                format!("{} {executable}", digest.hex())
            }
        };
        Ok((path.clone(), said))
    };
    tree.files().iter().map(digest).collect()
}

/// Copies the files of a source into a folder, where they may be changed.
pub fn copy_source(tree: &SourceTree, to: &Path) -> Result<()> {
    let mut folders = BTreeSet::new();
    for (path, file) in tree.files() {
        let target = to.join(path);
        if let Some(folder) = target.parent() {
            fs::create_dir_all(folder).facts(folder)?;
            folders.extend(folder.ancestors().take_while(|above| above.starts_with(to)).map(Path::to_owned));
        }
        match &file.kind {
            TreeKind::Link { target: points_to } => symlink(points_to, &target).facts(&target)?,
            TreeKind::File { .. } => {
                fs::copy(tree.root().join(path), &target).facts(&target)?;
                set_time(&target).facts(&target)?;
            }
        }
    }
    let time = SystemTime::UNIX_EPOCH + Duration::from_secs(content::layer::FILE_TIME);
    folders.iter().try_for_each(|path| File::open(path)?.set_modified(time)).facts(to)
}

/// Sets the time at which a file was changed to one that its contents alone decide: what programs note of it is the same
/// in every build, and another one for other contents.
fn set_time(file: &Path) -> io::Result<()> {
    const RANGE: u64 = 10 * 365 * 24 * 60 * 60;
    let file = File::options().read(true).open(file)?;
    let (digest, _) = Hasher::of_reader(&mut &file)?;
    let [.., a, b, c, d] = *digest.bytes();
    let after = u64::from(u32::from_be_bytes([a, b, c, d])) % RANGE;
    file.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(content::layer::FILE_TIME + after))
}

/// Copies everything in a folder into another one, which is empty.
pub fn copy_folder(from: &Path, to: &Path) -> Result<()> {
    for entry in fs::read_dir(from).facts(from)? {
        let entry = entry.facts(from)?;
        let (path, target) = (entry.path(), to.join(entry.file_name()));
        let kind = entry.file_type().facts(&path)?;
        if kind.is_dir() {
            fs::create_dir(&target).facts(&target)?;
            copy_folder(&path, &target)?;
        } else if kind.is_symlink() {
            symlink(fs::read_link(&path).facts(&path)?, &target).facts(&target)?;
        } else {
            fs::copy(&path, &target).facts(&target)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_read_whole_and_long_ones_are_cut() {
        let text = [b"one\n\n", &vec![b'x'; 3 * LONGEST_LINE][..], b"\nlast"].concat();
        let mut from = BufReader::with_capacity(100, &text[..]);
        let mut lines = Vec::new();
        while let Some(line) = next_line(&mut from).unwrap() {
            lines.push(line);
        }
        assert_eq!(lines[..2], [b"one".to_vec(), Vec::new()]);
        assert_eq!((lines[2].len(), &lines[3][..], lines.len()), (LONGEST_LINE, &b"last"[..], 4));
    }
}
