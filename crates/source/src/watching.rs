//! Waits until something in folders changes.

use cancel::Cancel;
use notify::event::{AccessKind, AccessMode};
use notify::{EventKind, RecommendedWatcher, RecursiveMode, Watcher as _};
use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant};

/// How often to check whether the caller is still waiting.
const GLANCE: Duration = Duration::from_millis(50);
/// How long nothing may happen until a change counts as complete: editors write, rename and set modes one after the other.
const QUIET: Duration = Duration::from_millis(15);
/// How long a change may take at most, a switch of branches for example.
const LONGEST: Duration = Duration::from_secs(2);

/// A watch over folders, without those inside of them.
pub struct Watcher {
    system: RecommendedWatcher,
    changes: Receiver<()>,
    folders: BTreeSet<PathBuf>,
}

impl Watcher {
    /// A watch over nothing.
    pub fn new() -> io::Result<Self> {
        let (tell, changes) = channel();
        let system = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
            // What only reads is no change; that something was missed may be one.
            if event.as_ref().map_or(true, |event| is_change(event.kind)) {
                // The watcher may be gone.
                let _ = tell.send(());
            }
        });
        Ok(Self { system: system.map_err(io::Error::other)?, changes, folders: BTreeSet::new() })
    }

    /// Watches these folders and no others from now on; says whether there are new ones among them, in which something may
    /// have changed since it was looked into them.
    pub fn watch(&mut self, folders: BTreeSet<PathBuf>) -> io::Result<bool> {
        let gone: Vec<PathBuf> = self.folders.difference(&folders).cloned().collect();
        for folder in gone {
            // One that was removed is not watched any more.
            let _ = self.system.unwatch(&folder);
            self.folders.remove(&folder);
        }
        let new: Vec<PathBuf> = folders.difference(&self.folders).cloned().collect();
        let mut is_any_new = false;
        for folder in new {
            match self.system.watch(&folder, RecursiveMode::NonRecursive) {
                Ok(()) => is_any_new |= self.folders.insert(folder),
                Err(_) if !folder.is_dir() => {}
                Err(error) => return Err(io::Error::other(error)),
            }
        }
        Ok(is_any_new)
    }

    /// Waits for a change to begin and to be complete; gives the moment when it began, or nothing when `cancel` was set.
    pub fn wait(&self, cancel: &Cancel) -> Option<Instant> {
        loop {
            if cancel.is_cancelled() {
                return None;
            }
            match self.changes.recv_timeout(GLANCE) {
                Ok(()) => break,
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return None,
            }
        }
        Some(self.settle())
    }

    /// Waits for a change that has begun to be complete; gives the moment when the waiting began.
    pub fn settle(&self) -> Instant {
        let begun = Instant::now();
        while begun.elapsed() < LONGEST && self.changes.recv_timeout(QUIET).is_ok() {}
        begun
    }
}

fn is_change(kind: EventKind) -> bool {
    match kind {
        EventKind::Access(AccessKind::Close(AccessMode::Write)) => true,
        EventKind::Access(_) => false,
        _ => true,
    }
}

/// The folders of files, and `root` itself.
pub fn folders_of<'p>(root: &Path, files: impl Iterator<Item = &'p String>) -> BTreeSet<PathBuf> {
    let mut all = BTreeSet::from([root.to_owned()]);
    for file in files {
        let above = Path::new(file).ancestors().skip(1).take_while(|path| *path != Path::new(""));
        // Those above a known folder are known, too.
        for folder in above.map(|folder| root.join(folder)) {
            if !all.insert(folder) {
                break;
            }
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[test]
    fn a_change_is_seen_whatever_way_it_is_written() {
        let place = tempfile::tempdir().unwrap();
        let root = place.path();
        fs::create_dir(root.join("pier")).unwrap();
        fs::write(root.join("pier/horn.js"), "1").unwrap();
        let mut watcher = Watcher::new().unwrap();
        assert!(watcher.watch(folders_of(root, ["pier/horn.js".to_owned()].iter())).unwrap());
        let cancel = Cancel::new();
        let sees = |change: &dyn Fn()| {
            change();
            assert!(watcher.wait(&cancel).is_some());
        };
        sees(&|| fs::write(root.join("pier/horn.js"), "2").unwrap());
        sees(&|| {
            fs::write(root.join("pier/.horn.js.swp"), "3").unwrap();
            fs::rename(root.join("pier/.horn.js.swp"), root.join("pier/horn.js")).unwrap();
        });
        sees(&|| fs::remove_file(root.join("pier/horn.js")).unwrap());
        sees(&|| fs::create_dir(root.join("quay")).unwrap());
        // Reading is no change.
        fs::read_dir(root.join("pier")).unwrap().for_each(drop);
        std::thread::spawn({
            let cancel = cancel.clone();
            move || {
                std::thread::sleep(GLANCE);
                cancel.cancel();
            }
        });
        assert!(watcher.wait(&cancel).is_none());
    }

    #[test]
    fn folders_are_those_of_the_files() {
        let files = ["a/b/c.js", "a/d.js", "e.js"].map(str::to_owned);
        let folders = folders_of(Path::new("/app"), files.iter());
        let expected = ["/app", "/app/a", "/app/a/b"].map(PathBuf::from);
        assert_eq!(folders, BTreeSet::from(expected));
    }
}
