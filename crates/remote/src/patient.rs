//! Answers that come too slowly.

use std::io::{self, Read};
use std::time::{Duration, Instant};

/// In so many times the longest silence, this many bytes have to come.
const SILENCES: u32 = 3;
const FEWEST_BYTES: u64 = 256;

/// A body that has to come fast enough: a server that sends a byte now and then would keep everybody waiting.
pub(crate) struct Patient<'b> {
    body: &'b mut dyn Read,
    window: Duration,
    since: Instant,
    came: u64,
}

impl<'b> Patient<'b> {
    /// Reads from `body`; `silence` is how long nothing at all may come.
    pub(crate) fn new(body: &'b mut dyn Read, silence: Duration) -> Self {
        Self { body, window: silence * SILENCES, since: Instant::now(), came: 0 }
    }
}

impl Read for Patient<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let count = self.body.read(to)?;
        self.came += count as u64;
        if self.since.elapsed() > self.window {
            if count > 0 && self.came < FEWEST_BYTES {
                return Err(io::Error::new(io::ErrorKind::TimedOut, "the download is too slow"));
            }
            (self.since, self.came) = (Instant::now(), 0);
        }
        Ok(count)
    }
}
