//! Git, through its program: what is committed, and what of it was changed.

use crate::unpacking::Unpacking;
use content::digest::Sha256;
use content::store::Store;
use model::error::{PackageError, SourceError};
use model::{Error, PathFacts, Result};
use remote::{Address, Downloads, RemoteError};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};

/// The commit that a source was taken from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Revision {
    /// The last commit that touched the source, in full.
    pub commit: String,
    /// Files of the source that are not as they were committed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uncommitted: Vec<String>,
}

/// The program, working on the repository that a folder lies in.
pub(super) struct Git {
    program: PathBuf,
    folder: PathBuf,
}

/// A commit, and where in its tree the folder lies.
pub(super) struct Commit {
    pub(super) id: String,
    /// Empty, or with a slash at its end.
    pub(super) prefix: String,
}

/// Variables that would lead the program to another repository.
const MISLEADING: [&str; 5] =
    ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_COMMON_DIR"];

/// The commits that repositories are at, each asked for once: for one moment, in which nobody commits.
#[derive(Debug, Default)]
pub struct KnownHeads(Mutex<BTreeMap<PathBuf, Option<String>>>);

impl KnownHeads {
    /// The commit that the repository of a folder is at.
    pub(super) fn head(&self, git: &Git) -> Option<Commit> {
        let root = repository_of(&git.folder)?;
        let mut prefix = git.folder.strip_prefix(root).ok()?.to_str()?.to_owned();
        if !prefix.is_empty() {
            prefix.push('/');
        }
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let id = match known.get(root) {
            Some(id) => id.clone(),
            None => {
                let id = git.commit("HEAD").map(|commit| commit.id);
                known.insert(root.to_owned(), id.clone());
                id
            }
        };
        Some(Commit { id: id?, prefix })
    }
}

impl Git {
    /// The program, searched for in `search`; `None` when it is not there or `folder` lies in no
    /// repository.
    pub(super) fn of(folder: &Path, search: &[PathBuf]) -> Option<Self> {
        repository_of(folder)?;
        let program = search.iter().map(|f| f.join("git")).find(|p| p.is_file())?;
        Some(Self { program, folder: folder.to_owned() })
    }

    /// The program, working on a bare repository.
    fn bare(program: &Path, folder: PathBuf) -> Self {
        Self { program: program.to_owned(), folder }
    }

    /// The commit `revision`; `None` when there is no such commit.
    pub(super) fn commit(&self, revision: &str) -> Option<Commit> {
        let named = format!("{revision}^{{commit}}");
        let said = self.ask(&["rev-parse", "--show-prefix", "--verify", "--end-of-options", &named])?;
        let (prefix, id) = said.trim_end_matches('\n').rsplit_once('\n')?;
        Some(Commit { id: id.to_owned(), prefix: prefix.to_owned() })
    }

    /// The last commit up to `commit` that changed something in the folder.
    pub(super) fn last_change(&self, commit: &Commit) -> Option<String> {
        if commit.prefix.is_empty() {
            return Some(commit.id.clone());
        }
        let said = self.ask(&["rev-list", "-1", &commit.id, "--", "."])?;
        Some(said.trim().to_owned()).filter(|id| !id.is_empty())
    }

    /// Files of the folder that differ from what was committed, by their paths in it.
    pub(super) fn changed(&self, commit: &Commit) -> Option<Vec<String>> {
        let said = self.ask(&[
            "status",
            "--porcelain=v1",
            "-z",
            "--no-renames",
            "--untracked-files=all",
            "--",
            ".",
        ])?;
        let path = |entry: &str| Some(entry.get(3..)?.strip_prefix(&commit.prefix)?.to_owned());
        Some(said.split('\0').filter_map(path).collect())
    }

    /// The committed files of the folder, written to a folder of the store.
    pub(super) fn unpacked(&self, commit: &Commit, store: &Store) -> Result<PathBuf> {
        let missing = || {
            Error::Source(SourceError::NotCommitted { path: self.folder.clone(), commit: commit.id.clone() })
        };
        let tree = self.ask(&["rev-parse", "--verify", &format!("{}:{}", commit.id, commit.prefix)]);
        let tree = tree.ok_or_else(missing)?.trim().to_owned();
        store.tree_or(&format!("revision-{tree}"), || self.unpack(commit, &tree, store))
    }

    fn unpack(&self, commit: &Commit, tree: &str, store: &Store) -> Result<PathBuf> {
        let missing = || {
            Error::Source(SourceError::NotCommitted { path: self.folder.clone(), commit: commit.id.clone() })
        };
        let listing = self.ask(&["ls-tree", "-rz", "--full-tree", tree]).ok_or_else(missing)?;
        let mut unpacking = Unpacking::new(&format!("commit {}", commit.id), u64::MAX, store)?;
        let mut objects = self.objects()?;
        for entry in listing.split('\0').filter(|e| !e.is_empty()) {
            let (facts, path) = entry.split_once('\t').ok_or_else(missing)?;
            let facts: Vec<&str> = facts.split(' ').collect();
            match facts[..] {
                ["120000", "blob", id] => unpacking.link(path, &objects.text(id)?)?,
                [mode, "blob", id] => unpacking.file(path, mode == "100755", &mut objects.open(id)?)?,
                // A submodule: files of another repository.
                _ => {}
            }
        }
        unpacking.finish()
    }

    fn command(&self) -> Command {
        let mut command = Command::new(&self.program);
        // Looking at a source must neither change it nor start what its configuration names.
        command.args(["--no-optional-locks", "-c", "core.fsmonitor=false", "-C"]).arg(&self.folder);
        for variable in MISLEADING {
            command.env_remove(variable);
        }
        command.stdin(Stdio::null()).stderr(Stdio::null());
        command
    }

    fn ask(&self, arguments: &[&str]) -> Option<String> {
        let output = self.command().args(arguments).output().ok()?;
        let text = String::from_utf8(output.stdout).ok()?;
        output.status.success().then_some(text)
    }

    fn objects(&self) -> Result<Objects> {
        let mut command = self.command();
        command.args(["cat-file", "--batch"]).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut child = command.spawn().facts(&self.program)?;
        let (Some(ask), Some(answer)) = (child.stdin.take(), child.stdout.take()) else {
            return Err(std::io::Error::from(std::io::ErrorKind::BrokenPipe)).facts(&self.program);
        };
        let (folder, rest) = (self.folder.clone(), 0);
        Ok(Objects { child, ask: Some(ask), answer: BufReader::new(answer), rest, folder })
    }
}

/// Whether it is the full name of a commit, and not one that moves.
pub fn is_commit(name: &str) -> bool {
    matches!(name.len(), 40 | 64) && name.bytes().all(|b| b.is_ascii_hexdigit())
}

/// The files of the commit `id` (in full) of the repository at `url`, in a folder of the store; fetched, if
/// they are not there yet.
pub fn checked_out(url: &str, id: &str, downloads: Downloads<'_>) -> Result<PathBuf> {
    commit_at(url, id, downloads).map(|(files, _)| files)
}

/// The same, with the repository.
pub(super) fn commit_at(url: &str, id: &str, downloads: Downloads<'_>) -> Result<(PathBuf, Git)> {
    let Downloads { fetcher, store } = downloads;
    let none = || {
        let path = PathBuf::from(Address::Url(url.to_owned()).to_string());
        Error::Source(SourceError::NoRevision { path, revision: id.to_owned() })
    };
    // Lockfiles say it, and it is part of a path.
    if !is_commit(id) {
        return Err(none());
    }
    let remote = |source: RemoteError| {
        Error::Package(PackageError::Remote { wanted_by: format!("commit {id}"), source })
    };
    let repository = store.tree_path(&format!("repository-{}", Sha256::of(url.as_bytes()).hex()));
    {
        // git writes to a repository from one process at a time.
        let _turn = store.lock(&format!("repository-{}", Sha256::of(url.as_bytes()).hex()))?;
        fetcher.commit(url, id, &repository).map_err(remote)?;
    }
    let git = Git::bare(fetcher.git_program().ok_or_else(none)?, repository);
    let files = git.unpacked(&Commit { id: id.to_owned(), prefix: String::new() }, store)?;
    Ok((files, git))
}

/// A running `git cat-file --batch`.
struct Objects {
    child: Child,
    ask: Option<std::process::ChildStdin>,
    answer: BufReader<std::process::ChildStdout>,
    /// Bytes of the last object, and the line break after it, that were not read yet.
    rest: u64,
    folder: PathBuf,
}

impl Objects {
    /// The contents of an object.
    fn open(&mut self, id: &str) -> Result<impl Read> {
        let size = self.begin(id).facts(&self.folder)?;
        self.rest = 1;
        Ok(self.answer.by_ref().take(size))
    }

    fn text(&mut self, id: &str) -> Result<String> {
        let mut text = String::new();
        let folder = self.folder.clone();
        self.open(id)?.read_to_string(&mut text).facts(&folder)?;
        Ok(text)
    }

    /// Asks for an object; gives its size in bytes.
    fn begin(&mut self, id: &str) -> std::io::Result<u64> {
        let broken = || std::io::Error::from(std::io::ErrorKind::BrokenPipe);
        std::io::copy(&mut self.answer.by_ref().take(self.rest), &mut std::io::sink())?;
        let ask = self.ask.as_mut().ok_or_else(broken)?;
        writeln!(ask, "{id}")?;
        ask.flush()?;
        let mut line = String::new();
        self.answer.read_line(&mut line)?;
        let size = line.trim_end().rsplit(' ').next().and_then(|n| n.parse().ok());
        size.filter(|_| line.starts_with(id)).ok_or_else(broken)
    }
}

impl Drop for Objects {
    fn drop(&mut self) {
        self.ask = None;
        // It ends when nobody asks any more; one that was given up in the middle has to be told.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The top folder of the repository that `folder` lies in.
pub(super) fn repository_of(folder: &Path) -> Option<&Path> {
    folder.ancestors().find(|f| f.join(".git").exists())
}
