//! SHA-256 digests, with one type for each kind of object, so that they cannot be mixed up.

use ring::digest::{Context, SHA256};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::io::{self, Read, Write};
use std::str::FromStr;

/// The 32 bytes of a SHA-256 digest.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Sha256([u8; 32]);

impl Sha256 {
    /// The digest of `bytes`.
    pub fn of(bytes: &[u8]) -> Self {
        let mut hasher = Hasher::new();
        hasher.update(bytes);
        hasher.finish()
    }

    /// The 64 lower-case hexadecimal digits.
    pub fn hex(&self) -> String {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        self.0
            .iter()
            .flat_map(|b| [DIGITS[usize::from(b >> 4)], DIGITS[usize::from(b & 15)]])
            .map(char::from)
            .collect()
    }

    /// The raw bytes.
    pub fn bytes(&self) -> &[u8; 32] {
        &self.0
    }

    fn from_hex(hex: &str) -> Option<Self> {
        let digits = hex.as_bytes();
        if digits.len() != 64 || digits.iter().any(u8::is_ascii_uppercase) {
            return None;
        }
        let mut out = [0; 32];
        for (byte, pair) in out.iter_mut().zip(digits.chunks(2)) {
            let high = char::from(pair[0]).to_digit(16)?;
            let low = char::from(pair[1]).to_digit(16)?;
            *byte = u8::try_from(high * 16 + low).ok()?;
        }
        Some(Self(out))
    }
}

/// A digest of bytes that arrive piece by piece.
pub struct Hasher(Context);

impl Hasher {
    /// A digest over nothing yet.
    pub fn new() -> Self {
        Self(Context::new(&SHA256))
    }

    /// Adds bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of all bytes added.
    pub fn finish(self) -> Sha256 {
        let mut out = [0; 32];
        out.copy_from_slice(self.0.finish().as_ref());
        Sha256(out)
    }

    /// Reads `from` to its end; gives its digest and length in bytes.
    pub fn of_reader(from: &mut dyn Read) -> io::Result<(Sha256, u64)> {
        let mut hasher = Self::new();
        let length = io::copy(from, &mut hasher)?;
        Ok((hasher.finish(), length))
    }
}

impl Default for Hasher {
    fn default() -> Self {
        Self::new()
    }
}

impl Write for Hasher {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.update(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Text that is not `sha256:` and 64 lower-case hexadecimal digits.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{0:?} is not a SHA-256 digest")]
pub struct NotADigest(pub String);

/// What is read through it is hashed.
pub struct HashingReader<R> {
    from: R,
    hasher: Hasher,
}

impl<R: Read> HashingReader<R> {
    /// Hashes what comes from `from`.
    pub fn new(from: R) -> Self {
        Self { from, hasher: Hasher::new() }
    }

    /// The digest of all that was read.
    pub fn finish(self) -> Sha256 {
        self.hasher.finish()
    }
}

impl<R: Read> Read for HashingReader<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let count = self.from.read(to)?;
        self.hasher.update(&to[..count]);
        Ok(count)
    }
}

/// What is written through it is hashed.
pub struct HashingWriter<W> {
    to: W,
    hasher: Hasher,
    written: u64,
}

impl<W: Write> HashingWriter<W> {
    /// Hashes what goes to `to`.
    pub fn new(to: W) -> Self {
        Self { to, hasher: Hasher::new(), written: 0 }
    }

    /// How many bytes were written.
    pub fn written(&self) -> u64 {
        self.written
    }

    /// The writer, and the digest of all that was written.
    pub fn finish(self) -> (W, Sha256) {
        (self.to, self.hasher.finish())
    }
}

impl<W: Write> Write for HashingWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.to.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        self.written += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}

macro_rules! digest_kinds {
    ($($(#[$doc:meta])* $name:ident),* $(,)?) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(pub Sha256);

        impl $name {
            /// The digest of `bytes`.
            pub fn of(bytes: &[u8]) -> Self {
                Self(Sha256::of(bytes))
            }
            /// The 64 hexadecimal digits without the algorithm.
            pub fn hex(&self) -> String {
                self.0.hex()
            }
            /// The first twelve hexadecimal digits, for people.
            pub fn short(&self) -> String {
                self.0.hex()[..12].to_owned()
            }
        }
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "sha256:{}", self.0.hex())
            }
        }
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "{}({self})", stringify!($name))
            }
        }
        impl FromStr for $name {
            type Err = NotADigest;
            fn from_str(text: &str) -> Result<Self, NotADigest> {
                text.strip_prefix("sha256:")
                    .and_then(Sha256::from_hex)
                    .map(Self)
                    .ok_or_else(|| NotADigest(text.to_owned()))
            }
        }
        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }
        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                let text = String::deserialize(from)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }
    )*};
}

digest_kinds! {
    /// Names a blob by its stored (compressed) bytes: OCI descriptor digest.
    BlobDigest,
    /// Names a layer by its uncompressed tar bytes: OCI image configuration `diff_ids`.
    DiffId,
    /// Names a step by its action and all its inputs.
    StepKey,
    /// Names one input of a step.
    InputDigest,
    /// Names a source tree by paths, modes and contents.
    TreeDigest,
}
