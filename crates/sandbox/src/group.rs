//! Control groups (cgroups(7), version 2): limits that the kernel itself enforces, where this program may make groups.

use crate::limits::Limits;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread::sleep;
use std::time::Duration;

/// What the names of all groups of this program begin with.
const PREFIX: &str = "shtetl-";
/// What is limited by groups.
const CONTROLLERS: [&str; 2] = ["memory", "pids"];
/// How often, and how far apart, it is tried to remove a group whose processes were just ended.
const REMOVAL: (u32, Duration) = (100, Duration::from_millis(2));

/// Whether sandboxes on this machine get groups with limits.
pub(crate) fn are_available() -> bool {
    parent().is_some()
}

/// A group for the processes of one sandbox; its processes are ended, and it is removed, when this is dropped.
pub(crate) struct Group(PathBuf);

impl Group {
    /// A new group with these limits; `None` where this program may make none.
    pub(crate) fn make(limits: &Limits) -> Option<Self> {
        static COUNT: AtomicU32 = AtomicU32::new(0);
        let name = format!("{PREFIX}{}-{}", std::process::id(), COUNT.fetch_add(1, Ordering::Relaxed));
        let group = Self(parent()?.join(name));
        fs::create_dir(&group.0).ok()?;
        // On a failure the group is dropped, and thereby removed.
        group.limit(limits).ok()?;
        Some(group)
    }

    fn limit(&self, limits: &Limits) -> io::Result<()> {
        let memory = limits.memory_in_force();
        fs::write(self.0.join("memory.max"), memory.to_string())?;
        // All of them end together, so that none goes on with half of what it started.
        fs::write(self.0.join("memory.oom.group"), "1")?;
        // Without swap there is no such file.
        let _ = fs::write(self.0.join("memory.swap.max"), "0");
        fs::write(self.0.join("pids.max"), limits.processes.to_string())
    }

    /// Its folder, for [`join`].
    pub(crate) fn folder(&self) -> &Path {
        &self.0
    }

    /// Whether the kernel ended its processes because they used more memory than allowed.
    pub(crate) fn ran_out_of_memory(&self) -> bool {
        number_in(&self.0.join("memory.events"), "oom_kill").is_some_and(|count| count > 0)
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        // Older kernels do not have this file; the processes have ended with their namespaces.
        let _ = fs::write(self.0.join("cgroup.kill"), "1");
        let (tries, pause) = REMOVAL;
        for _ in 0..tries {
            match fs::remove_dir(&self.0) {
                Err(error) if error.kind() == io::ErrorKind::ResourceBusy => sleep(pause),
                // What stays is removed by the next program that makes groups there.
                _ => return,
            }
        }
    }
}

/// Moves the calling process into the group in this folder.
pub(crate) fn join(folder: &Path) -> io::Result<()> {
    fs::write(folder.join("cgroup.procs"), "0")
}

/// The group below which this program may make groups; found, and prepared, once.
fn parent() -> Option<&'static Path> {
    static PARENT: OnceLock<Option<PathBuf>> = OnceLock::new();
    PARENT.get_or_init(|| prepare(&own_group()?)).as_deref()
}

/// The folder of the group that this process is in.
fn own_group() -> Option<PathBuf> {
    let groups = fs::read_to_string("/proc/self/cgroup").ok()?;
    let own = groups.lines().find_map(|line| line.strip_prefix("0::/"))?;
    let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
    Some(mount_point(&mounts)?.join(own))
}

/// Where the hierarchy of version 2 is mounted (proc_pid_mountinfo(5)).
fn mount_point(mounts: &str) -> Option<PathBuf> {
    let is_it = |line: &&str| line.split(" - ").nth(1).is_some_and(|end| end.starts_with("cgroup2 "));
    let line = mounts.lines().find(is_it)?;
    // The fourth field is the part of the hierarchy that is mounted: the whole is wanted.
    let mut fields = line.split(' ').skip(3);
    (fields.next()? == "/").then(|| fields.next().map(PathBuf::from))?
}

/// Has the children of the group `own` limited: a group other than the root must have no processes itself then, so this one
/// moves into a child. Refused where others are in the group, or where it was not delegated to this user.
fn prepare(own: &Path) -> Option<PathBuf> {
    let there = fs::read_to_string(own.join("cgroup.controllers")).ok()?;
    if !CONTROLLERS.iter().all(|name| there.split_whitespace().any(|one| one == *name)) {
        return None;
    }
    remove_abandoned(own);
    let enable = || {
        let all = CONTROLLERS.map(|name| format!("+{name}")).join(" ");
        fs::write(own.join("cgroup.subtree_control"), all)
    };
    if !own.join("cgroup.type").exists() {
        // Only the root has no type.
        return enable().is_ok().then(|| own.to_owned());
    }
    let child = own.join(format!("{PREFIX}{}", std::process::id()));
    fs::create_dir(&child).ok()?;
    if join(&child).and_then(|()| enable()).is_ok() {
        return Some(own.to_owned());
    }
    // Back to where it was: nothing has changed then.
    let _ = join(own);
    let _ = fs::remove_dir(&child);
    None
}

/// Removes groups of programs that have ended. One that is empty may be about to be joined: only its program tells.
fn remove_abandoned(own: &Path) {
    for entry in fs::read_dir(own).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let Some(program) = name.to_str().and_then(program_of) else { continue };
        if !Path::new("/proc").join(program).exists() {
            // The system keeps what still has processes.
            let _ = fs::remove_dir(entry.path());
        }
    }
}

/// The process number of the program that made the group of this name.
fn program_of(name: &str) -> Option<&str> {
    let number = name.strip_prefix(PREFIX)?.split('-').next()?;
    (!number.is_empty() && number.bytes().all(|b| b.is_ascii_digit())).then_some(number)
}

/// The number of a line `name number`.
fn number_in(file: &Path, name: &str) -> Option<u64> {
    let text = fs::read_to_string(file).ok()?;
    let mut lines = text.lines().filter_map(|line| line.split_once(' '));
    lines.find(|(found, _)| *found == name)?.1.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_hierarchy_of_version_2_is_found_among_others() {
        let mounts = "30 24 0:26 / /sys/fs/cgroup ro,nosuid - tmpfs tmpfs ro,mode=755\n\
                      31 30 0:27 / /sys/fs/cgroup/unified rw,nosuid - cgroup2 cgroup2 rw,nsdelegate\n\
                      33 30 0:30 / /sys/fs/cgroup/memory rw,nosuid - cgroup cgroup rw,memory\n";
        assert_eq!(mount_point(mounts), Some(PathBuf::from("/sys/fs/cgroup/unified")));
        let part = "31 30 0:27 /yard /sys/fs/cgroup rw - cgroup2 cgroup2 rw\n";
        assert_eq!(mount_point(part), None, "a part of it does not say where this process is");
        assert_eq!(mount_point("33 30 0:30 / /sys/fs/cgroup/memory rw - cgroup cgroup rw,memory\n"), None);
    }

    #[test]
    fn a_folder_without_controllers_takes_no_groups() {
        let folder = std::env::temp_dir().join(format!("shtetl-groups-{}", std::process::id()));
        fs::create_dir_all(&folder).unwrap();
        assert_eq!(prepare(&folder), None);
        fs::write(folder.join("cgroup.controllers"), "cpu pids\n").unwrap();
        assert_eq!(prepare(&folder), None, "memory cannot be limited");
        fs::remove_dir_all(&folder).unwrap();
    }

    #[test]
    fn only_groups_of_programs_that_have_ended_are_removed() {
        let folder = std::env::temp_dir().join(format!("shtetl-abandoned-{}", std::process::id()));
        let own = format!("{PREFIX}{}-0", std::process::id());
        // No process has a number beyond the largest that the kernel gives.
        let gone = format!("{PREFIX}4194305-0");
        for name in [own.as_str(), gone.as_str(), "shtetl-quay", "other"] {
            fs::create_dir_all(folder.join(name)).unwrap();
        }
        remove_abandoned(&folder);
        assert!(!folder.join(gone).exists());
        assert!([own.as_str(), "shtetl-quay", "other"].iter().all(|name| folder.join(name).exists()));
        fs::remove_dir_all(&folder).unwrap();
    }

    #[test]
    fn numbers_are_read_by_their_whole_name() {
        let file = std::env::temp_dir().join(format!("shtetl-events-{}", std::process::id()));
        fs::write(&file, "low 0\noom 3\noom_kill 2\noom_group_kill 1\n").unwrap();
        assert_eq!(number_in(&file, "oom_kill"), Some(2));
        assert_eq!(number_in(&file, "kill"), None);
        fs::remove_file(&file).unwrap();
    }
}
