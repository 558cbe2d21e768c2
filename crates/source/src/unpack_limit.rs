//! How much an archive may unpack to. What is far beyond its own length is no package but a decompression bomb.

use std::fmt;

/// So many bytes may always be in an archive.
const ALWAYS: u64 = 128 << 20;
/// Beyond that, its content is at most so many times as long as the archive itself. Packages have 3 to 20
/// times; deflate (RFC 1951) ends at about 1,032.
const TIMES: u64 = 200;

/// The most that an archive may unpack to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UnpackLimit {
    /// In bytes.
    pub bytes: u64,
    by_length: bool,
}

impl UnpackLimit {
    /// For an archive of this length; whatever its length is, no more than `most`. Both in bytes.
    pub fn of(length: u64, most: u64) -> Self {
        let by_length = ALWAYS.max(length.saturating_mul(TIMES));
        Self { bytes: by_length.min(most), by_length: by_length < most }
    }
}

/// What is wrong with an archive that has more.
impl fmt::Display for UnpackLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "it unpacks to more than {} MiB", self.bytes >> 20)?;
        if self.by_length { write!(f, ", over {TIMES} times its own length") } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_archives_may_hold_some_and_large_ones_in_proportion() {
        let most = 2 << 30;
        assert_eq!(UnpackLimit::of(10, most).bytes, ALWAYS);
        assert_eq!(UnpackLimit::of(1 << 20, most).bytes, 200 << 20);
        assert_eq!(UnpackLimit::of(u64::MAX, most).bytes, most);
    }
}
