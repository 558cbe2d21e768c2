//! Asks the yard.

use crate::place::Yard;
use crate::protocol::{Answer, Asked, Fault, Request, VERSION};
use crate::serve::through;
use rustix::fs::{FlockOperation, flock};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};

/// How often it is looked whether the yard has ended.
const GLANCE: Duration = Duration::from_millis(5);

/// Why there is no answer.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum Trouble {
    /// The yard does not run.
    #[error("the yard is not running")]
    NotRunning,
    /// The yard ended before the answer.
    #[error("the yard ended before it answered")]
    Ended,
    /// The yard could not do it.
    #[error("{0:?}")]
    Fault(Fault),
    /// The connection failed.
    #[error(transparent)]
    Io(#[from] io::Error),
}

/// Asks one yard.
pub struct Client<'y>(pub &'y Yard);

impl Client<'_> {
    /// Whether the yard is running.
    pub fn is_running(&self) -> bool {
        through(self.0, UnixStream::connect).is_ok()
    }

    /// Waits until the process in the background has ended, but no longer than `patience`.
    pub fn wait_for_end(&self, patience: Duration) -> io::Result<()> {
        let lock = File::create(self.0.lock())?;
        let deadline = Instant::now() + patience;
        while flock(&lock, FlockOperation::NonBlockingLockShared).is_err() && Instant::now() < deadline {
            std::thread::sleep(GLANCE);
        }
        Ok(())
    }

    /// The last answer to a request; `meanwhile` hears of what comes before it.
    pub fn ask(&self, request: Request, mut meanwhile: impl FnMut(Answer)) -> Result<Answer, Trouble> {
        let mut stream = through(self.0, UnixStream::connect).map_err(|error| match error.kind() {
            io::ErrorKind::NotFound | io::ErrorKind::ConnectionRefused => Trouble::NotRunning,
            _ => Trouble::Io(error),
        })?;
        let mut line = serde_json::to_vec(&Asked { version: VERSION, request }).map_err(io::Error::from)?;
        line.push(b'\n');
        stream.write_all(&line)?;
        for line in BufReader::new(stream).lines() {
            match serde_json::from_str(&line?).map_err(io::Error::from)? {
                meant @ Answer::Meanwhile { .. } => meanwhile(meant),
                Answer::Failed { fault } => return Err(Trouble::Fault(fault)),
                last => return Ok(last),
            }
        }
        Err(Trouble::Ended)
    }
}
