//! `Release`: what a suite of an archive holds.

use super::control::paragraphs;
use super::signature::{SignatureFault, Signatures};

/// What a signed release says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Release {
    /// The suite's code name.
    pub codename: String,
    /// When it was made, as it says.
    pub date: String,
    /// Until when it is valid, as it says; some suites have no end.
    pub valid_until: Option<String>,
    /// Whether listed files can be had by their hash.
    pub by_hash: bool,
    /// Files with their hashes.
    files: Vec<Listed>,
}

/// A file that a release lists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Path in the suite's folder.
    pub path: String,
    /// Hexadecimal SHA-256.
    pub sha256: String,
    /// Length in bytes.
    pub size: u64,
}

impl Release {
    /// Reads an `InRelease` file that one of the keys has signed; `now` is in seconds since 1970.
    pub fn verified(text: &str, keys: &Signatures, now: i64) -> Result<Self, SignatureFault> {
        let signed = keys.verified_text(text, now)?;
        Self::parse(&signed).ok_or(SignatureFault::NotARelease)
    }

    fn parse(text: &str) -> Option<Self> {
        let text = text.replace('\r', "");
        let paragraph = paragraphs(&text).next()?;
        let listed = |line: &str| {
            let mut words = line.split_whitespace();
            let (sha256, size, path) = (words.next()?, words.next()?, words.next()?);
            Some(Listed { path: path.to_owned(), sha256: sha256.to_owned(), size: size.parse().ok()? })
        };
        Some(Self {
            codename: paragraph.get("Codename")?.to_owned(),
            date: paragraph.get("Date")?.to_owned(),
            valid_until: paragraph.get("Valid-Until").map(str::to_owned),
            by_hash: paragraph.get("Acquire-By-Hash") == Some("yes"),
            files: paragraph.get("SHA256")?.lines().filter_map(listed).collect(),
        })
    }

    /// The file at `path`, if the release lists it.
    pub fn file(&self, path: &str) -> Option<&Listed> {
        self.files.iter().find(|f| f.path == path)
    }
}
