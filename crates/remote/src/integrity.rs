//! Locked hashes of packages, in the notations of the lockfiles.

use crate::error::{RemoteError, Result};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ring::digest::{Algorithm, Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA384, SHA512};
use std::collections::BTreeMap;
use std::io::Read;

/// Hashes of which a package must have one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Integrity {
    accepted: Vec<(Hash, Vec<u8>)>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Hash {
    /// Too weak to choose; old lockfiles have nothing else.
    Sha1,
    Sha256,
    Sha384,
    Sha512,
}

impl Hash {
    fn named(name: &str) -> Option<Self> {
        match name {
            "sha1" => Some(Self::Sha1),
            "sha256" => Some(Self::Sha256),
            "sha384" => Some(Self::Sha384),
            "sha512" => Some(Self::Sha512),
            _ => None,
        }
    }
    fn name(self) -> &'static str {
        match self {
            Self::Sha1 => "sha1",
            Self::Sha256 => "sha256",
            Self::Sha384 => "sha384",
            Self::Sha512 => "sha512",
        }
    }
    fn algorithm(self) -> &'static Algorithm {
        match self {
            Self::Sha1 => &SHA1_FOR_LEGACY_USE_ONLY,
            Self::Sha256 => &SHA256,
            Self::Sha384 => &SHA384,
            Self::Sha512 => &SHA512,
        }
    }
}

impl Integrity {
    /// Reads W3C subresource integrity metadata (`sha512-<base64> …`). Of several hashes only those
    /// of the strongest kind count (section 3.3.4 there). `None` when no known hash is among them.
    pub fn subresource(text: &str) -> Option<Self> {
        let mut accepted: Vec<(Hash, Vec<u8>)> = text
            .split_whitespace()
            .filter_map(|word| {
                let (name, value) = word.split_once('-')?;
                let value = value.split('?').next()?;
                Some((Hash::named(name)?, STANDARD.decode(value).ok()?))
            })
            .collect();
        let strongest = accepted.iter().map(|(hash, _)| *hash).max()?;
        accepted.retain(|(hash, _)| *hash == strongest);
        Some(Self { accepted })
    }

    /// Reads pip's notation (`sha256:<hex>`), any of which is accepted.
    pub fn any_of<'a>(hashes: impl Iterator<Item = &'a str>) -> Option<Self> {
        let accepted: Vec<_> = hashes
            .filter_map(|text| {
                let (name, value) = text.split_once(':')?;
                Some((Hash::named(name)?, from_hex(value)?))
            })
            .collect();
        (!accepted.is_empty()).then_some(Self { accepted })
    }

    /// Whether a file announced with this hash (`sha256`, hex) can be the locked one.
    pub fn may_be(&self, name: &str, hex: &str) -> bool {
        let Some(hash) = Hash::named(name) else { return true };
        let mut same_kind = self.accepted.iter().filter(|(h, _)| *h == hash).peekable();
        same_kind.peek().is_none() || same_kind.any(|(_, value)| from_hex(hex).as_ref() == Some(value))
    }

    /// The SHA-256 of something that is not locked.
    pub fn of_sha256(sum: &content::digest::Sha256) -> Self {
        Self { accepted: vec![(Hash::Sha256, sum.bytes().to_vec())] }
    }

    /// Compares `bytes`, which came from `url`.
    pub fn check(&self, url: &str, mut bytes: &[u8]) -> Result<()> {
        self.check_reader(url, &mut bytes)
    }

    /// Reads `from` to its end and compares; it came from `url`.
    pub fn check_reader(&self, url: &str, from: &mut dyn Read) -> Result<()> {
        let mut sums: BTreeMap<Hash, Context> =
            self.accepted.iter().map(|(hash, _)| (*hash, Context::new(hash.algorithm()))).collect();
        let mut piece = vec![0; 64 << 10];
        loop {
            let count = from
                .read(&mut piece)
                .map_err(|e| RemoteError::Unreachable { url: url.to_owned(), detail: e.to_string() })?;
            if count == 0 {
                break;
            }
            sums.values_mut().for_each(|sum| sum.update(&piece[..count]));
        }
        let found: BTreeMap<Hash, Vec<u8>> =
            sums.into_iter().map(|(hash, sum)| (hash, sum.finish().as_ref().to_vec())).collect();
        if self.accepted.iter().any(|(hash, expected)| found.get(hash) == Some(expected)) {
            return Ok(());
        }
        let last = self
            .accepted
            .last()
            .map(|(hash, expected)| (hash.name(), to_hex(expected), to_hex(&found[hash])));
        let (algorithm, expected, found) = last.unwrap_or(("sha256", String::new(), String::new()));
        Err(RemoteError::Integrity { url: url.to_owned(), algorithm, expected, found })
    }

    /// A text that is the same for the same set of hashes, for cache keys and records.
    pub fn canonical(&self) -> String {
        let mut words: Vec<_> =
            self.accepted.iter().map(|(h, v)| format!("{}:{}", h.name(), to_hex(v))).collect();
        words.sort();
        words.dedup();
        words.join(" ")
    }
}

fn from_hex(text: &str) -> Option<Vec<u8>> {
    if !text.is_ascii() || !text.len().is_multiple_of(2) {
        return None;
    }
    (0..text.len()).step_by(2).map(|i| u8::from_str_radix(&text[i..i + 2], 16).ok()).collect()
}

fn to_hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}
