//! Faults of the machine at any moment: a call of the system that fails, and an end without warning. Whatever happens, a
//! build is right or says that it failed, and the next one is right.
//!
//! A few moments are tried; with `SHTETL_FAULTS=N` in the environment, every call up to the N-th of each thread.

use crate::program;
use std::collections::BTreeMap;
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
fn can_trace() -> bool {
    let mut probe = Command::new(TRACER);
    probe.args(["-f", "-qq", "-o", "/dev/null", "/bin/true"]).stderr(Stdio::null());
    probe.status().is_ok_and(|status| status.success())
}

/// Every file below a folder, with its bytes.
fn contents(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut pending = vec![folder.to_owned()];
    while let Some(next) = pending.pop() {
        for entry in fs::read_dir(&next).unwrap().flatten() {
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
    // The next build is right, whatever was left behind.
    let built = program.json(&format!("build {app} --layout out"));
    assert_eq!(built["digest"], right.digest, "{what}");
    assert_eq!(contents(&program.path("out")), right.layout, "{what}");
    assert_eq!(program.run("store check").code, 0, "{what}");
    let left =
        fs::read_dir(program.path("store/tmp")).unwrap().flatten().filter(|e| e.path().is_dir()).count();
    assert_eq!(left, 0, "{what}: temporary files are left");
}

#[test]
#[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
fn a_fault_at_any_moment_leaves_the_next_build_right() {
    if !can_trace() {
        println!("not tried: {TRACER} is not there, or may not trace");
        return;
    }
    let all = env::var("SHTETL_FAULTS").ok().and_then(|text| text.parse::<u32>().ok());
    let moments: Vec<u32> = all.map_or(MOMENTS.to_vec(), |most| (1..=most).collect());
    let apps: &[&str] = if all.is_some() { &["notices", "fares", "timetable"] } else { &["notices"] };
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
