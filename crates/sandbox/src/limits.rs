//! How much the processes of a sandbox may use, and the watch over what the kernel does not limit by itself.

use rustix::process::{Pid, Signal, kill_process};
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::Path;
use std::str::FromStr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};

/// How often it is looked how much is used.
const GLANCE: Duration = Duration::from_millis(100);
/// The default share of this machine's memory.
const MEMORY_SHARE: (u64, u64) = (9, 10);
/// How many files and folders a file system in memory may have.
const MEMORY_FILES: u64 = 500_000;

/// What the processes of a sandbox may use together, where not a single process or file is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limits {
    /// How many processes and threads there may be at once.
    pub processes: u64,
    /// Bytes of memory, those of files in memory included; `None` leaves a tenth of the machine's free.
    pub memory: Option<u64>,
    /// How many files each process may have open.
    pub open_files: u64,
    /// Bytes that may be written to disks; no single file may be longer. `None` for what runs on and on, and writes as it does.
    pub written: Option<u64>,
    /// How long it may take.
    pub time: Option<Duration>,
}

impl Limits {
    /// Those of a step, which comes to an end.
    pub const STEP: Self =
        Self { written: Some(32 << 30), time: Some(Duration::from_secs(60 * 60)), ..Self::PROCESS };
    /// Those of a process that may run for as long as it likes.
    pub const PROCESS: Self =
        Self { processes: 4096, memory: None, open_files: 65_536, written: None, time: None };

    /// These, where an app allows its own steps less.
    pub fn lowered_to(self, app: AppLimits) -> Self {
        let lower = |own: Option<u64>, other: Option<u64>| own.into_iter().chain(other).min();
        let seconds = app.minutes.map(|minutes| Duration::from_secs(minutes.saturating_mul(60)));
        Self {
            memory: lower(self.memory, app.memory),
            time: self.time.into_iter().chain(seconds).min(),
            ..self
        }
    }

    /// Bytes of memory, configured or default.
    pub fn memory_in_force(&self) -> u64 {
        let (part, whole) = MEMORY_SHARE;
        self.memory.unwrap_or_else(|| machine_memory().map_or(u64::MAX, |all| all / whole * part))
    }

    /// The mount options that keep a file system in memory within limits.
    pub(crate) fn of_memory_files(&self) -> String {
        format!("size={},nr_inodes={MEMORY_FILES}", (self.memory_in_force() / 2).max(1 << 20))
    }
}

/// What an app allows its own build steps.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct AppLimits {
    /// Bytes of memory.
    pub memory: Option<u64>,
    /// How long each may take.
    pub minutes: Option<u64>,
}

impl AppLimits {
    /// Whether a step that broke `limit`, with `limits` of the user's, would have been allowed more without this app's own.
    pub fn was_lower(&self, limit: Limit, limits: &Limits) -> bool {
        let now = limits.lowered_to(*self);
        match limit {
            Limit::Memory => now.memory_in_force() < limits.memory_in_force(),
            Limit::Time => now.time != limits.time,
            Limit::Written => false,
        }
    }
}

/// A limit for which a sandbox was ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Limit {
    /// Of memory.
    Memory,
    /// Of what is written to disks.
    Written,
    /// Of time.
    Time,
}

/// The limit that was broken, as soon as one was.
#[derive(Clone, Default)]
pub(crate) struct Watch(Arc<AtomicU8>);

impl Watch {
    /// Looks after the limits from now on, on a thread of the first process of the namespaces; ends the command at the first
    /// that is broken. `in_memory` are the folders whose files are in memory.
    pub(crate) fn start(&self, limits: Limits, in_memory: Vec<String>, command: Pid) {
        let broken = Arc::clone(&self.0);
        std::thread::spawn(move || {
            let (started, memory) = (Instant::now(), limits.memory_in_force());
            let found = loop {
                std::thread::sleep(GLANCE);
                let used = Used::now(&in_memory);
                if limits.time.is_some_and(|most| started.elapsed() > most) {
                    break Limit::Time;
                }
                if limits.written.is_some_and(|most| used.written > most) {
                    break Limit::Written;
                }
                // Pages that processes share are counted more than once at first, and exactly only where it matters.
                if used.memory > memory && used.without_shared_pages(&in_memory) > memory {
                    break Limit::Memory;
                }
            };
            broken.store(found as u8 + 1, Ordering::SeqCst);
            // What it started ends with the namespaces. It may have ended a moment ago.
            let _ = kill_process(command, Signal::KILL);
        });
    }

    /// The limit that was broken.
    pub(crate) fn broken(&self) -> Option<Limit> {
        let all = [Limit::Memory, Limit::Written, Limit::Time];
        all.into_iter().find(|limit| *limit as u8 + 1 == self.0.load(Ordering::SeqCst))
    }
}

/// What is used at a moment.
struct Used {
    /// The processes besides this one.
    processes: Vec<String>,
    /// Bytes of their memory, and of files in memory.
    memory: u64,
    /// Bytes that they, and those that have ended, wrote to disks.
    written: u64,
}

impl Used {
    fn now(in_memory: &[String]) -> Self {
        let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
        let names = entries.filter_map(|entry| entry.file_name().into_string().ok());
        let processes: Vec<String> =
            names.filter(|name| name != "1" && name.bytes().all(|b| b.is_ascii_digit())).collect();
        let page = rustix::param::page_size() as u64;
        let memory: u64 = processes.iter().map(|process| own_pages(process) * page).sum();
        // What a process wrote passes to the one that collects it: at the end, to this one.
        let all = processes.iter().map(String::as_str).chain(["1"]);
        let written = all.map(|process| field(process, "io", "write_bytes:")).sum();
        Self { processes, memory: memory + files_in_memory(in_memory), written }
    }

    fn without_shared_pages(&self, in_memory: &[String]) -> u64 {
        let of = |process: &String| field(process, "smaps_rollup", "Pss_Anon:") << 10;
        self.processes.iter().map(of).sum::<u64>() + files_in_memory(in_memory)
    }
}

/// Pages of a process that are in memory and no file's (proc_pid_statm(5)).
fn own_pages(process: &str) -> u64 {
    let text = fs::read_to_string(Path::new("/proc").join(process).join("statm")).unwrap_or_default();
    let mut numbers = text.split(' ').skip(1).map_while(|number| u64::from_str(number).ok());
    let (resident, shared) = (numbers.next().unwrap_or_default(), numbers.next().unwrap_or_default());
    resident.saturating_sub(shared)
}

/// The number of a line of a file of a process; 0 when the process is gone, or may not be looked at.
fn field(process: &str, file: &str, name: &str) -> u64 {
    let text = fs::read_to_string(Path::new("/proc").join(process).join(file)).unwrap_or_default();
    let value = text.lines().find_map(|line| line.strip_prefix(name));
    value.and_then(|value| value.trim().trim_end_matches(" kB").parse().ok()).unwrap_or_default()
}

fn files_in_memory(folders: &[String]) -> u64 {
    let used = |folder: &String| {
        let found = rustix::fs::statvfs(folder.as_str()).ok()?;
        Some((found.f_blocks - found.f_bfree) * found.f_frsize)
    };
    folders.iter().filter_map(used).sum()
}

/// Bytes of this machine's memory (proc_meminfo(5)).
fn machine_memory() -> Option<u64> {
    let text = fs::read_to_string("/proc/meminfo").ok()?;
    let value = text.lines().find_map(|line| line.strip_prefix("MemTotal:"))?;
    Some(value.trim().trim_end_matches(" kB").parse::<u64>().ok()? << 10)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_app_lowers_limits_and_raises_none() {
        let user = Limits { memory: Some(1 << 30), ..Limits::STEP };
        let app = AppLimits { memory: Some(2 << 30), minutes: Some(5) };
        let both = user.lowered_to(app);
        assert_eq!((both.memory, both.time), (Some(1 << 30), Some(Duration::from_secs(300))));
        assert!(app.was_lower(Limit::Time, &user) && !app.was_lower(Limit::Memory, &user));
        let low = AppLimits { memory: Some(1 << 20), minutes: None };
        assert!(low.was_lower(Limit::Memory, &user) && !low.was_lower(Limit::Time, &user));
        assert_eq!(user.lowered_to(AppLimits::default()), user);
    }

    #[test]
    fn what_this_process_uses_can_be_read() {
        let own = std::process::id().to_string();
        assert!(own_pages(&own) > 10);
        assert!(field(&own, "smaps_rollup", "Pss_Anon:") > 10);
        assert!(machine_memory().unwrap() > 1 << 26);
        assert_eq!(own_pages("0"), 0, "a process that is not there uses nothing");
    }
}
