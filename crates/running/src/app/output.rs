//! What a process writes: told and kept line by line.

use super::log_file::BoundedLog;
use super::state::{InstanceName, Stream, Tell, What};
use std::io::{self, BufRead, BufReader, PipeReader, Read};
use std::path::Path;
use std::process::Stdio;
use std::sync::{Mutex, PoisonError};

/// How many bytes of a line are kept together.
const LONGEST_LINE: u64 = 16 << 10;

/// The reading ends of a process's standard output and standard error.
pub(crate) type Written = [PipeReader; 2];

/// Both ends of its output: those to read from, and what the process is started with.
pub(crate) fn pipes() -> io::Result<(Written, [Stdio; 3])> {
    let ((output, to_output), (errors, to_errors)) = (io::pipe()?, io::pipe()?);
    Ok(([output, errors], [Stdio::null(), to_output.into(), to_errors.into()]))
}

/// Shows and keeps the output of a process until it is closed.
pub(crate) fn pass_on([output, errors]: Written, log: &Path, name: &InstanceName, tell: &Tell) {
    // Without a log file, it is still shown.
    let log = Mutex::new(BoundedLog::open(log).ok());
    std::thread::scope(|scope| {
        scope.spawn(|| pass_on_one(output, Stream::Output, &log, name, tell));
        pass_on_one(errors, Stream::Errors, &log, name, tell);
    });
}

fn pass_on_one(
    from: PipeReader,
    stream: Stream,
    log: &Mutex<Option<BoundedLog>>,
    name: &InstanceName,
    tell: &Tell,
) {
    let mut from = BufReader::new(from);
    let mut line = Vec::new();
    while let Ok(1..) = from.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line) {
        let text = String::from_utf8_lossy(&line).trim_end_matches(['\n', '\r']).to_owned();
        line.clear();
        {
            let mut log = log.lock().unwrap_or_else(PoisonError::into_inner);
            // A full disk must not stop the process.
            let kept = format!("{:.3} {text}", jiff::Timestamp::now());
            if log.as_mut().is_some_and(|log| log.add(&kept).is_err()) {
                *log = None;
            }
        }
        tell(name, &What::Line { stream, text });
    }
}
