//! How many bytes may be fetched.

use std::io::{self, Write};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// Bytes that several files share.
pub(crate) struct Allowance {
    left: AtomicU64,
    used_up: AtomicBool,
}

impl Allowance {
    pub fn new(bytes: u64) -> Self {
        Self { left: AtomicU64::new(bytes), used_up: AtomicBool::new(false) }
    }

    /// Whether a file wanted more than was left.
    pub fn is_used_up(&self) -> bool {
        self.used_up.load(Ordering::Relaxed)
    }

    /// What is written to `inner` counts, unless it is given up.
    pub fn counting<W>(&self, inner: W) -> Counting<'_, W> {
        Counting { inner, taken: Taken { bytes: 0, of: self } }
    }
}

/// Takes bytes as long as any are left.
pub(crate) struct Counting<'a, W> {
    inner: W,
    taken: Taken<'a>,
}

/// What was taken for one try; it is there again when that is given up.
struct Taken<'a> {
    bytes: u64,
    of: &'a Allowance,
}

impl Drop for Taken<'_> {
    fn drop(&mut self) {
        self.of.left.fetch_add(self.bytes, Ordering::Relaxed);
    }
}

impl<W> Counting<'_, W> {
    /// What was written to, once all is there.
    pub fn finish(self) -> W {
        let Self { inner, mut taken } = self;
        taken.bytes = 0;
        inner
    }
}

impl<W: Write> Write for Counting<'_, W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let (count, allowance) = (bytes.len() as u64, self.taken.of);
        let less = |left: u64| left.checked_sub(count);
        if allowance.left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less).is_err() {
            allowance.used_up.store(true, Ordering::Relaxed);
            return Err(io::ErrorKind::QuotaExceeded.into());
        }
        self.taken.bytes += count;
        self.inner.write_all(bytes)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_try_took_is_there_again_when_it_is_given_up() {
        let allowance = Allowance::new(5);
        let mut first = allowance.counting(Vec::new());
        first.write_all(b"buoy").unwrap();
        drop(first);
        let mut second = allowance.counting(Vec::new());
        second.write_all(b"buoys").unwrap();
        assert!(!allowance.is_used_up());
        assert_eq!(second.finish(), b"buoys");
        assert!(allowance.counting(Vec::new()).write_all(b"!").is_err());
        assert!(allowance.is_used_up());
    }
}
