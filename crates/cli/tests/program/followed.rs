//! A program that runs beside the test.

use std::io::{BufRead, BufReader};
use std::process::{Child, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;
use testkit::program::Program;

/// How long something that is waited for may take on a slow machine.
const PATIENCE: Duration = Duration::from_secs(60);

/// A running program whose lines can be waited for; ended with the test, however that ends.
pub struct Followed {
    child: Child,
    lines: Receiver<String>,
    pub seen: Vec<String>,
}

impl Drop for Followed {
    fn drop(&mut self) {
        // It may have ended already, which is fine.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Followed {
    pub fn start(program: &Program, arguments: &str) -> Self {
        let mut command = program.command(arguments.split(' '));
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let (tell, lines) = channel();
        let other = tell.clone();
        let (output, errors) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
        std::thread::spawn(move || {
            BufReader::new(output).lines().map_while(Result::ok).try_for_each(|line| tell.send(line))
        });
        std::thread::spawn(move || {
            BufReader::new(errors).lines().map_while(Result::ok).try_for_each(|line| other.send(line))
        });
        Self { child, lines, seen: Vec::new() }
    }

    pub fn wait_for(&mut self, wanted: &str) -> String {
        while let Ok(line) = self.lines.recv_timeout(PATIENCE) {
            self.seen.push(line.clone());
            if line.contains(wanted) {
                return line;
            }
        }
        panic!("{wanted:?} never came: {:#?}", self.seen);
    }

    /// Ends it with a signal, and gives its exit code.
    pub fn end(&mut self, signal: &str) -> Option<i32> {
        let number = self.child.id().to_string();
        assert!(std::process::Command::new("kill").args([signal, &number]).status().unwrap().success());
        let code = self.child.wait().unwrap().code();
        self.seen.extend(self.lines.iter());
        code
    }
}
