//! Faults of the machine at any moment: a call of the system that fails, and an end without warning. Whatever happens, a
//! build is right or says that it failed, and the next one is right.
//!
//! A few moments are tried; with `SHTETL_FAULTS=N` in the environment, every call up to the N-th of each thread.

use crate::program;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::{env, fs};
use testkit::program::Program;

/// What stops a program at a call of the system.
const TRACER: &str = "/usr/bin/strace";
/// Calls by which files come to be, and are read.
const CALLS: [&str; 12] = [
    "write",
    "rename",
    "openat",
    "fdatasync",
    "mkdir",
    "unlink",
    "read",
    "getdents64",
    "ftruncate",
    "pwrite64",
    "copy_file_range",
    "statx",
];
/// What a call comes to.
const FAULTS: [&str; 3] = ["error=ENOSPC", "error=EIO", "signal=SIGKILL"];
/// The moments that are tried where nothing is said: spread over the beginning, where most calls are.
const MOMENTS: [u32; 4] = [1, 3, 11, 40];

/// Whether programs can be stopped at their calls here.
#[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
fn can_trace() -> bool {
    let mut probe = Command::new(TRACER);
    probe.args(["-f", "-qq", "-o", "/dev/null", "/bin/true"]).stderr(Stdio::null());
    let can = probe.status().is_ok_and(|status| status.success());
    if !can {
        println!("not tried: {TRACER} is not there, or may not trace");
    }
    can
}

/// The last moment to try, where all up to it are wanted, and the apps for that.
fn extent() -> (Option<u32>, &'static [&'static str]) {
    let last = env::var("SHTETL_FAULTS").ok().and_then(|text| text.parse::<u32>().ok());
    (last, if last.is_some() { &["notices", "fares", "timetable"] } else { &["notices"] })
}

/// Every file below a folder, with its bytes.
fn contents(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut pending = vec![folder.to_owned()];
    while let Some(next) = pending.pop() {
        for entry in fs::read_dir(&next).into_iter().flatten().flatten() {
            match entry.file_type().unwrap().is_dir() {
                true => pending.push(entry.path()),
                false => drop(found.insert(entry.path(), fs::read(entry.path()).unwrap())),
            }
        }
    }
    found
}

/// What must be true after a fault in a build of `app`, whose right digest and layout are known.
struct Right {
    digest: serde_json::Value,
    layout: BTreeMap<PathBuf, Vec<u8>>,
}

impl Right {
    /// The next build is right, whatever was left behind.
    fn holds_after(&self, program: &Program, app: &str, what: &str) {
        let built = program.json(&format!("build {app} --layout out"));
        assert_eq!(built["digest"], self.digest, "{what}");
        assert_eq!(contents(&program.path("out")), self.layout, "{what}");
        let check = program.run("store check");
        assert_eq!(check.code, 0, "{what}: {check}");
        let tmp = fs::read_dir(program.path("store/tmp")).unwrap().flatten();
        let left = tmp.filter(|entry| entry.path().is_dir()).count();
        assert_eq!(left, 0, "{what}: temporary files are left");
    }
}

fn try_fault(program: &Program, app: &str, right: &Right, call: &str, fault: &str, moment: u32) {
    let what = format!("{app}: {fault} at call {moment} of {call}");
    let before = format!(
        "exec {TRACER} -f -qq -o /dev/null -e trace={call} -e inject={call}:{fault}:when={moment} \"$0\" \"$@\""
    );
    let said = program.run_after(&before, &format!("build {app} --layout out --format json"));
    // The standard library itself gives up when the output of a program that it started cannot be read.
    let is_own = said.stderr.contains("panicked") && !said.stderr.contains("library/std/src/sys/process");
    assert!(!is_own, "{what}: {said}");
    if said.code == 0 {
        let built: serde_json::Value = serde_json::from_str(&said.stdout).unwrap();
        assert_eq!(built["digest"], right.digest, "{what}");
        assert_eq!(contents(&program.path("out")), right.layout, "{what}");
    }
    right.holds_after(program, app, &what);
}

#[test]
fn a_fault_at_any_moment_leaves_the_next_build_right() {
    if !can_trace() {
        return;
    }
    let (all, apps) = extent();
    let moments: Vec<u32> = all.map_or(MOMENTS.to_vec(), |most| (1..=most).collect());
    for app in apps {
        let program = program().with_demo();
        let digest = program.json(&format!("build {app} --layout out"))["digest"].clone();
        let right = Right { digest, layout: contents(&program.path("out")) };
        for call in CALLS {
            for (number, fault) in FAULTS.into_iter().enumerate() {
                for (at, moment) in moments.iter().enumerate() {
                    // A third of them, in turn, where not all are wanted.
                    if all.is_none() && at % FAULTS.len() != number {
                        continue;
                    }
                    // From an empty store every other time, and from one that has everything.
                    if moment % 2 == 1 {
                        content::store::remove_tree(&program.path("store"));
                        content::store::remove_tree(&program.path("out"));
                    }
                    try_fault(&program, app, &right, call, fault, *moment);
                }
            }
        }
    }
}

/// Calls by which files change, are made durable, and get their names.
const WRITING_CALLS: &str = "write,pwrite64,ftruncate,copy_file_range,sendfile,fdatasync,fsync,rename";

/// What a machine may find on its disk after its power failed.
#[derive(Debug, Clone, Copy)]
enum Loss {
    /// Files that nobody made durable are empty.
    Emptied,
    /// They end in the middle.
    Cut,
    /// Every other new name is lost: what had it before is there again.
    Names,
}

/// What a traced program did to files.
#[derive(Default)]
struct Traced {
    /// Files that were written to, and not made durable after that.
    unsynced: BTreeSet<PathBuf>,
    /// The new names that were given, in order, and whose folder was not made durable after that.
    names: Vec<PathBuf>,
}

impl Traced {
    /// Reads what strace wrote with the paths of descriptors (`-y`), as far as it is about files below `folder`.
    fn read(log: &str, folder: &Path) -> Self {
        let mut traced = Self::default();
        for line in log.lines() {
            let Some((call, arguments)) = line.split_once('(') else { continue };
            let call = call.rsplit(' ').next().unwrap_or_default();
            let descriptors: Vec<PathBuf> = arguments
                .split('<')
                .skip(1)
                .filter_map(|part| Some(PathBuf::from(part.split_once('>')?.0)))
                .filter(|path| path.starts_with(folder))
                .collect();
            let quoted: Vec<PathBuf> =
                arguments.split('"').skip(1).step_by(2).map(|p| folder.join(p)).collect();
            let written = if call == "copy_file_range" { descriptors.last() } else { descriptors.first() };
            match (call, written, quoted.as_slice()) {
                ("fdatasync" | "fsync", Some(path), _) => {
                    traced.unsynced.remove(path);
                    traced.names.retain(|name| name.parent() != Some(path));
                }
                ("rename", _, [from, to]) => traced.renamed(from, to),
                (_, Some(path), _) => drop(traced.unsynced.insert(path.clone())),
                _ => {}
            }
        }
        traced
    }

    fn renamed(&mut self, from: &Path, to: &Path) {
        let moved: Vec<PathBuf> =
            self.unsynced.iter().filter(|path| path.starts_with(from)).cloned().collect();
        for path in moved {
            self.unsynced.remove(&path);
            let rest = path.strip_prefix(from).unwrap();
            self.unsynced.insert(if rest.as_os_str().is_empty() { to.to_owned() } else { to.join(rest) });
        }
        self.names.push(to.to_owned());
    }

    /// Puts the disk into the state that a loss of power may leave; says how many files it changed.
    fn lose_power(&self, loss: Loss, before: &BTreeMap<PathBuf, Vec<u8>>) -> usize {
        let lost: Vec<&PathBuf> = match loss {
            Loss::Emptied | Loss::Cut => self.unsynced.iter().filter(|path| path.is_file()).collect(),
            Loss::Names => self.names.iter().step_by(2).filter(|path| path.exists()).collect(),
        };
        for path in &lost {
            match (loss, before.get(*path)) {
                (Loss::Emptied, _) => fs::write(path, "").unwrap(),
                (Loss::Cut, _) => {
                    let bytes = fs::read(path).unwrap();
                    fs::write(path, &bytes[..bytes.len() / 2]).unwrap();
                }
                (Loss::Names, Some(old)) => fs::write(path, old).unwrap(),
                (Loss::Names, None) if path.is_dir() => content::store::remove_tree(path),
                (Loss::Names, None) => fs::remove_file(path).unwrap(),
            }
        }
        lost.len()
    }
}

#[test]
fn a_loss_of_power_leaves_the_next_build_right() {
    if !can_trace() {
        return;
    }
    let program = program().with_demo();
    let (all, apps) = extent();
    let moments: Vec<u32> = all
        .map_or(vec![3, 5, 9, 15, 22, 99_999, 100_000], |most| (1..=most).chain([99_999, 100_000]).collect());
    let folder = fs::canonicalize(program.path("")).unwrap();
    let mut changed = 0;
    for app in apps {
        let digest = program.json(&format!("build {app} --layout out"))["digest"].clone();
        let right = Right { digest, layout: contents(&program.path("out")) };
        for (loss, moment) in [Loss::Emptied, Loss::Cut, Loss::Names]
            .into_iter()
            .flat_map(|loss| moments.iter().map(move |m| (loss, m)))
        {
            // From an empty store every other time, and from one that has everything.
            if moment % 2 == 1 {
                content::store::remove_tree(&program.path("store"));
            }
            let before = contents(&program.path("store"));
            content::store::remove_tree(&program.path("out"));
            let log = program.path("calls.txt");
            let trace = format!(
                "exec {TRACER} -f -qq -y -s 0 -o {} -e trace={WRITING_CALLS} \
                 -e inject=rename:signal=SIGKILL:when={moment} \"$0\" \"$@\"",
                log.display()
            );
            // How it ends is not asked: it may be killed.
            let _ = program.run_after(&trace, &format!("build {app} --layout out"));
            let traced = Traced::read(&fs::read_to_string(&log).unwrap(), &folder);
            changed += traced.lose_power(loss, &before);
            let what = format!("{app}: {loss:?} after {moment} new names");
            let built = program.json(&format!("build {app} --layout out"));
            assert_eq!(built["digest"], right.digest, "{what}");
            // What that build had no need to read may still be damaged, and is found.
            let _ = program.run("store check --repair");
            right.holds_after(&program, app, &what);
        }
    }
    assert!(changed > 50, "only {changed} files were changed: the trace was not read");
}
