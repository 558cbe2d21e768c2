//! Where an app's files are taken from: a folder, a commit, an archive, or a built program.

use crate::archive;
use crate::archive::Form;
use crate::git::{Commit, Git, KnownHeads, Revision, commit_at, is_commit};
use crate::tree::SourceTree;
use content::digest::Sha256;
use content::store::Store;
use model::error::{PackageError, SourceError};
use model::files::CONFIG;
use model::{Error, PathFacts, Result};
use remote::{Address, Downloads, Fetcher, RemoteError};
use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};

/// A request for a source.
#[derive(Clone, Copy)]
pub struct Asked<'a> {
    /// A folder, an archive or a built program.
    pub path: &'a Path,
    /// The revision of a repository whose committed files are taken, in place of those in the folder.
    pub revision: Option<&'a str>,
    /// Folders in which programs (git) are looked for.
    pub search: &'a [PathBuf],
    /// A member of the workspace at `path`: its name or its folder.
    pub member: Option<&'a str>,
    /// What is known of repositories already, where many folders are looked at in one moment.
    pub heads: Option<&'a KnownHeads>,
    /// Gets commits of a repository elsewhere, where `path` is its URL.
    pub fetcher: Option<&'a Fetcher>,
}

impl<'a> Asked<'a> {
    /// The files of a folder, an archive or a program as they are, without git.
    pub fn of(path: &'a Path) -> Self {
        Self { path, revision: None, search: &[], member: None, heads: None, fetcher: None }
    }
}

/// Whether a place is the URL of a repository, and not a path.
pub fn is_url(place: &Path) -> bool {
    place.to_str().is_some_and(|text| text.contains("://"))
}

/// A source that is at hand as a folder.
pub struct Opened {
    /// The folder with the files.
    pub root: PathBuf,
    /// The one file that is the whole source, when it is a built program.
    pub(super) only: Option<String>,
    /// Whether ignore files apply; not for a source whose files were chosen already, such as a commit.
    pub(super) ignores: bool,
    /// The folder that relative paths in the configuration are taken from.
    pub near: PathBuf,
    /// Where people see the source: its folder or archive.
    pub shown: PathBuf,
    /// What the app is called when its configuration does not say.
    pub name: String,
    committed: Option<(Git, Commit, bool)>,
    /// The folder of the member of a workspace that is the app; empty when the whole is.
    member: String,
}

impl Opened {
    /// Opens a source; archives and commits are unpacked into the store. `now` is in nanoseconds
    /// since 1970.
    pub fn open(asked: &Asked<'_>, store: &Store, now: i64) -> Result<Self> {
        if let (true, Some(fetcher)) = (is_url(asked.path), asked.fetcher) {
            return Self::elsewhere(asked, fetcher, store);
        }
        let path = asked.path.canonicalize().facts(asked.path)?;
        if path.is_dir() {
            fs::read_dir(&path).facts(asked.path)?;
            return match asked.revision {
                None => Ok(Self::folder(asked, path)),
                Some(revision) => Self::committed(asked, path, revision, store),
            };
        }
        if asked.revision.is_some() {
            return Err(Error::Source(SourceError::NoRepository { path, searched: asked.search.to_vec() }));
        }
        if is_program(&path)? {
            return Ok(Self::program(asked, &path));
        }
        match Form::of(&path)? {
            Some(form) => Self::archive(asked, &path, form, store, now),
            None => Err(Error::Source(SourceError::NotASource { path: asked.path.to_owned() })),
        }
    }

    fn folder(asked: &Asked<'_>, path: PathBuf) -> Self {
        let git = Git::of(&path, asked.search);
        let committed = git.and_then(|git| {
            let head = asked.heads.map_or_else(|| git.commit("HEAD"), |known| known.head(&git));
            head.map(|commit| (git, commit, false))
        });
        Self {
            only: None,
            ignores: true,
            near: path.clone(),
            shown: asked.path.to_owned(),
            name: name_of(&path),
            root: path,
            committed,
            member: String::new(),
        }
    }

    fn committed(asked: &Asked<'_>, path: PathBuf, revision: &str, store: &Store) -> Result<Self> {
        let none = || {
            Error::Source(SourceError::NoRepository { path: path.clone(), searched: asked.search.to_vec() })
        };
        let git = Git::of(&path, asked.search).ok_or_else(none)?;
        let missing =
            || Error::Source(SourceError::NoRevision { path: path.clone(), revision: revision.to_owned() });
        let commit = git.commit(revision).ok_or_else(missing)?;
        let root = git.unpacked(&commit, store)?;
        let committed = Some((git, commit, true));
        let (name, shown) = (name_of(&path), asked.path.to_owned());
        let member = String::new();
        Ok(Self { root, only: None, ignores: false, near: path, shown, name, committed, member })
    }

    /// A commit of a repository elsewhere; without a revision, the one that the repository is at.
    fn elsewhere(asked: &Asked<'_>, fetcher: &Fetcher, store: &Store) -> Result<Self> {
        let url = asked.path.to_string_lossy();
        let revision = asked.revision.unwrap_or("HEAD");
        // A login is for the server, not for screens.
        let shown = PathBuf::from(Address::Url(url.to_string()).to_string());
        let missing = || {
            let (path, revision) = (shown.clone(), revision.to_owned());
            Error::Source(SourceError::NoRevision { path, revision })
        };
        let remote = |source: RemoteError| {
            Error::Package(PackageError::Remote { wanted_by: format!("the source at {revision}"), source })
        };
        let id = match is_commit(revision) {
            true => revision.to_owned(),
            false => fetcher.commit_of(&url, revision).map_err(remote)?.ok_or_else(missing)?,
        };
        let (root, git) = commit_at(&url, &id, Downloads { fetcher, store })?;
        let name = name_of(asked.path);
        Ok(Self {
            near: root.clone(),
            root,
            only: None,
            ignores: false,
            shown,
            name: name.strip_suffix(".git").unwrap_or(&name).to_owned(),
            committed: Some((git, Commit { id, prefix: String::new() }, true)),
            member: String::new(),
        })
    }

    fn archive(asked: &Asked<'_>, path: &Path, form: Form, store: &Store, now: i64) -> Result<Self> {
        let root = archive::unpacked(path, form, store, now)?;
        let name = without_version(&name_of(path));
        Ok(Self {
            root,
            only: None,
            ignores: false,
            // As if it had been unpacked where it lies.
            near: path.with_file_name(&name),
            shown: asked.path.to_owned(),
            name,
            committed: None,
            member: String::new(),
        })
    }

    fn program(asked: &Asked<'_>, path: &Path) -> Self {
        let folder = path.parent().unwrap_or(Path::new("/")).to_owned();
        Self {
            only: path.file_name().map(|n| n.to_string_lossy().into_owned()),
            ignores: false,
            near: folder.clone(),
            root: folder,
            shown: asked.path.parent().unwrap_or(Path::new("")).to_owned(),
            name: without_version(&name_of(path)),
            committed: None,
            member: String::new(),
        }
    }

    /// The same source, of which the app is the member in `folder`; `shown` is where people see that.
    pub fn of_member(mut self, folder: &str, shown: PathBuf) -> Self {
        self.near = self.near.join(folder);
        self.name = name_of(Path::new(folder));
        self.shown = shown;
        Self { member: folder.to_owned(), ..self }
    }

    /// The folder with the configuration and the pins of the app.
    pub fn config_folder(&self) -> PathBuf {
        self.root.join(&self.member)
    }

    /// Where pins can be kept; a commit, an archive or a program can keep none.
    pub fn pins_path(&self) -> Option<PathBuf> {
        self.ignores.then(|| self.config_folder().join(model::files::PINS))
    }

    /// The commit that the files `tree` were taken from, and which of them it does not have like
    /// that; remembered for as long as nobody touches a file. `now` is in nanoseconds since 1970.
    pub fn revision(&self, tree: &SourceTree, store: &Store, now: i64) -> Result<Option<Revision>> {
        let Some((git, commit, whole)) = &self.committed else { return Ok(None) };
        let config = fs::read(self.config_folder().join(CONFIG)).unwrap_or_default();
        let config = content::InputDigest::of(&config);
        let memory = tree.appearance(now).map(|files| {
            let what = format!("{} {} {} {config}", files.hex(), commit.id, commit.prefix);
            store.tree_path(&format!("revision-of-{}.json", Sha256::of(what.as_bytes()).hex()))
        });
        if let Some(known) = memory.as_ref().and_then(|memory| store.read_document(memory).whole()) {
            return Ok(Some(known));
        }
        let Some(last) = git.last_change(commit) else { return Ok(None) };
        let changed = if *whole { Some(Vec::new()) } else { git.changed(commit) };
        // Where git does not answer, the files cannot be said to be those of the commit.
        let Some(mut uncommitted) = changed else { return Ok(None) };
        // What is not packed anyway does not matter, what is gone does.
        let matters = |path: &String| tree.has(path) || path == CONFIG || !self.root.join(path).exists();
        uncommitted.retain(matters);
        let revision = Revision { commit: last, uncommitted };
        if let Some(memory) = memory {
            store.write_cache(&memory, &revision)?;
        }
        Ok(Some(revision))
    }
}

/// The last part of a path, without what says how it is packed.
fn name_of(path: &Path) -> String {
    const ENDINGS: [&str; 8] = [".zip", ".tar", ".tar.gz", ".tgz", ".tar.zst", ".tzst", ".jar", ".war"];
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let plain = ENDINGS.iter().find_map(|e| name.strip_suffix(e).filter(|_| path.is_file()));
    plain.map_or(name.clone(), str::to_owned)
}

/// `timetable-1.4.2` is `timetable`: a version has digits and dots after a dash.
fn without_version(name: &str) -> String {
    let versioned = name.rsplit_once('-').filter(|(_, end)| {
        end.trim_start_matches('v').starts_with(|c: char| c.is_ascii_digit()) && end.contains('.')
    });
    // Builds of what is not released yet are marked after the version.
    match (versioned, name.rsplit_once('-')) {
        (Some((begin, _)), _) => begin.to_owned(),
        (None, Some((begin, end))) if end.chars().all(|c| c.is_ascii_uppercase()) && begin.contains('-') => {
            without_version(begin)
        }
        _ => name.to_owned(),
    }
}

/// A program that runs as it is: for the processor, or for the Java runtime.
fn is_program(path: &Path) -> Result<bool> {
    let mut start = [0; 4];
    let read = File::open(path).facts(path)?.read(&mut start).facts(path)?;
    let packed_classes = path.extension().is_some_and(|e| e == "jar" || e == "war");
    Ok(start[..read] == *b"\x7fELF" || packed_classes && start.starts_with(b"PK"))
}
