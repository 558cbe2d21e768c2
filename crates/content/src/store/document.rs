//! Small documents that carry their own checksum, which also covers their name: damage, a truncation or an
//! exchange of two files is noticed when one is read.

use crate::digest::{Hasher, Sha256};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// What is in front of the checksum, between it and the value, and behind that.
const BEFORE: &[u8] = b"{\"sha256\":\"";
const BETWEEN: &[u8] = b"\",\"value\":";
const BEHIND: &[u8] = b"}\n";
/// Hexadecimal digits of a SHA-256.
const DIGITS: usize = 64;

/// What reading a document of the store comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stored<T> {
    /// It is there, as it was written.
    Whole(T),
    /// There is none.
    Missing,
    /// It is not what was written, or of a form that this version does not know.
    Damaged,
}

impl<T> Stored<T> {
    /// The value, if it is there.
    pub fn whole(self) -> Option<T> {
        match self {
            Self::Whole(value) => Some(value),
            Self::Missing | Self::Damaged => None,
        }
    }
}

fn checksum(name: &str, value: &[u8]) -> Sha256 {
    let mut hasher = Hasher::new();
    hasher.update(&(name.len() as u64).to_le_bytes());
    hasher.update(name.as_bytes());
    hasher.update(value);
    hasher.finish()
}

/// The bytes of the document called `name`.
pub(super) fn encode(name: &str, value: &impl Serialize) -> Result<Vec<u8>, serde_json::Error> {
    let value = serde_json::to_vec(value)?;
    let digest = checksum(name, &value).hex();
    Ok([BEFORE, digest.as_bytes(), BETWEEN, &value, BEHIND].concat())
}

/// The value in the bytes of the document called `name`; `None` when it is not what was written.
pub(super) fn decode<T: DeserializeOwned>(name: &str, bytes: &[u8]) -> Option<T> {
    let rest = bytes.strip_prefix(BEFORE)?;
    let (digest, rest) = rest.split_at_checked(DIGITS)?;
    let value = rest.strip_prefix(BETWEEN)?.strip_suffix(BEHIND)?;
    if checksum(name, value).hex().as_bytes() != digest {
        return None;
    }
    serde_json::from_slice(value).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_changed_bit_every_truncation_and_another_name_are_noticed() {
        let value = vec!["quay".to_owned(), "fog \"horn\"".to_owned()];
        let bytes = encode("steps/a.json", &value).unwrap();
        assert_eq!(decode::<Vec<String>>("steps/a.json", &bytes), Some(value));
        assert_eq!(decode::<Vec<String>>("steps/b.json", &bytes), None);
        for at in 0..bytes.len() {
            for bit in 0..8 {
                let mut changed = bytes.clone();
                changed[at] ^= 1 << bit;
                assert_eq!(decode::<Vec<String>>("steps/a.json", &changed), None, "byte {at}, bit {bit}");
            }
            assert_eq!(decode::<Vec<String>>("steps/a.json", &bytes[..at]), None, "cut at {at}");
        }
        assert_eq!(decode::<u32>("steps/a.json", &bytes), None, "of another form");
    }
}
