//! Runs the program hermetically: its own folders, an empty environment, an invented machine.

use crate::host::{SEARCH_PATH, write_invented_host};
use std::ffi::OsStr;
use std::fmt;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use tempfile::TempDir;

/// The program with a place of its own.
pub struct Program {
    executable: PathBuf,
    place: TempDir,
    variables: Vec<(String, String)>,
    user: Option<u32>,
}

/// The program's output and exit status, with what differs between runs replaced.
#[must_use]
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    /// Standard output.
    pub stdout: String,
    /// Standard error.
    pub stderr: String,
    /// The exit status; the number of the signal, negative, that ended it.
    pub code: i32,
}

impl fmt::Display for Said {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.stdout)?;
        if !self.stderr.is_empty() {
            write!(f, "--- stderr\n{}", self.stderr)?;
        }
        write!(f, "--- exit {}", self.code)
    }
}

impl Program {
    /// The program at `executable`, with the invented machine as its host.
    pub fn new(executable: &str) -> Self {
        let place = TempDir::new().expect("a temporary folder");
        fs::set_permissions(place.path(), fs::Permissions::from_mode(0o777)).expect("own folder");
        let program = Self { executable: executable.into(), place, variables: Vec::new(), user: None };
        let [host, home, store] = ["host", "home", "store"].map(|f| program.path(f).display().to_string());
        write_invented_host(Path::new(&host));
        // Tests that are cut off from the network need at least this; elsewhere it is up already.
        let _ = sandbox::raise_loopback();
        program
            .with("PATH", SEARCH_PATH)
            .with("HOME", &home)
            .with("SHTETL_STORE", &store)
            .with("SHTETL_HOST_ROOT", &host)
    }

    /// The same with a variable set, or changed.
    pub fn with(mut self, name: &str, value: &str) -> Self {
        self.variables.retain(|(n, _)| n != name);
        self.variables.push((name.to_owned(), value.to_owned()));
        self
    }

    /// The same without a variable.
    pub fn without(mut self, name: &str) -> Self {
        self.variables.retain(|(n, _)| n != name);
        self
    }

    /// The same, run by another user; only the superuser can do that. The program is copied to where
    /// that user can run it.
    pub fn as_user(mut self, uid: u32) -> Self {
        let copy = self.path("shtetl");
        fs::copy(&self.executable, &copy).expect("the program can be copied");
        self.executable = copy;
        self.user = Some(uid);
        self
    }

    /// Whether the tests may act as other users: as root, and not in a user namespace that
    /// has only one.
    pub fn may_act_as_others() -> bool {
        let read = |file: &str| fs::read_to_string(file).unwrap_or_default();
        let many = read("/proc/self/uid_map")
            .split_whitespace()
            .nth(2)
            .and_then(|n| n.parse().ok())
            .unwrap_or(0_u64);
        read("/proc/self/status").contains("Uid:\t0") && many > 65_535
    }

    /// A path in the program's place.
    pub fn path(&self, inside: &str) -> PathBuf {
        self.place.path().join(inside)
    }

    /// Writes a file into the place, with its folders.
    pub fn write(&self, inside: &str, bytes: impl AsRef<[u8]>) {
        let path = self.path(inside);
        fs::create_dir_all(path.parent().expect("files lie in folders")).expect("own folder");
        fs::write(path, bytes).expect("own folder");
    }

    /// Replaces text in a file of the place; the text must be there.
    pub fn edit(&self, inside: &str, from: &str, to: &str) {
        let text = fs::read_to_string(self.path(inside)).expect("the file is there");
        assert!(text.contains(from), "{inside} has no {from:?}");
        fs::write(self.path(inside), text.replace(from, to)).expect("own folder");
    }

    /// Copies the demo apps into the place: `timetable`, `fares`, `notices` and `mirror`.
    pub fn with_demo(self) -> Self {
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
        copy_tree(&demo, self.place.path());
        self
    }

    /// A command of the program, to be changed or spawned.
    pub fn command<S: AsRef<OsStr>>(&self, arguments: impl IntoIterator<Item = S>) -> Command {
        let mut command = Command::new(&self.executable);
        command.args(arguments).env_clear().envs(self.variables.iter().cloned());
        command.current_dir(self.place.path()).stdin(Stdio::null());
        if let Some(uid) = self.user {
            command.uid(uid).gid(uid);
        }
        command
    }

    /// Runs the program; the arguments are separated by blanks.
    pub fn run(&self, arguments: &str) -> Said {
        self.said(&self.command(arguments.split_whitespace()).output().expect("the program can be started"))
    }

    /// Runs the program from a shell that first runs `before`, which may lower limits.
    pub fn run_after(&self, before: &str, arguments: &str) -> Said {
        let mut shell = Command::new("/bin/sh");
        shell.args(["-c", &format!("{before}; exec \"$0\" \"$@\"")]).arg(&self.executable);
        shell.args(arguments.split_whitespace()).env_clear().envs(self.variables.iter().cloned());
        shell.current_dir(self.place.path()).stdin(Stdio::null());
        self.said(&shell.output().expect("there is a shell"))
    }

    /// Runs the program and expects success; returns its output.
    pub fn succeed(&self, arguments: &str) -> Said {
        let said = self.run(arguments);
        assert_eq!(said.code, 0, "shtetl {arguments}\n{said}");
        said
    }

    /// Runs the program for JSON and expects success.
    pub fn json(&self, arguments: &str) -> serde_json::Value {
        let said = self.succeed(&format!("{arguments} --format json"));
        serde_json::from_str(&said.stdout).expect("one JSON document")
    }

    /// Normalises an output.
    pub fn said(&self, output: &Output) -> Said {
        let place = fs::canonicalize(self.place.path()).expect("own folder");
        let normal = |bytes: &[u8]| {
            let text = String::from_utf8_lossy(bytes);
            let text = text.replace(&place.display().to_string(), "[place]");
            text.lines().map(|line| without_times(line) + "\n").collect::<String>()
        };
        Said {
            stdout: normal(&output.stdout),
            stderr: normal(&output.stderr),
            code: output.status.code().unwrap_or_else(|| -output.status.signal().unwrap_or_default()),
        }
    }
}

/// Replaces `12 ms` and `1.2 s` by `[time]`.
fn without_times(line: &str) -> String {
    let mut words: Vec<String> = line.split(' ').map(str::to_owned).collect();
    for at in 1..words.len() {
        let is_unit = matches!(words[at].trim_end_matches([',', ';']), "ms" | "s");
        let is_number =
            !words[at - 1].is_empty() && words[at - 1].chars().all(|c| c.is_ascii_digit() || c == '.');
        if is_unit && is_number {
            let rest = words[at].trim_start_matches(['m', 's']).to_owned();
            words[at - 1] = format!("[time]{rest}");
            words[at] = "\0".to_owned();
        }
    }
    words.retain(|w| w != "\0");
    words.join(" ")
}

/// Copies a folder with everything in it.
pub fn copy_tree(from: &Path, to: &Path) {
    fs::create_dir_all(to).expect("own folder");
    for entry in fs::read_dir(from).expect("a readable folder").flatten() {
        let (source, target) = (entry.path(), to.join(entry.file_name()));
        if source.is_dir() {
            copy_tree(&source, &target);
        } else {
            fs::copy(&source, &target).expect("own folder");
        }
    }
}
