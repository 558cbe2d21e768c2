//! The one way to hash several values into one key: each with its length, so that nothing runs together.

use content::digest::{Hasher, Sha256};

/// A digest that is being made.
pub(crate) struct Digester(Hasher);

impl Digester {
    /// Starts a digest of this kind; digests of different kinds are never equal.
    pub(crate) fn new(kind: &str) -> Self {
        let mut digester = Self(Hasher::new());
        digester.text(kind);
        digester
    }

    pub(crate) fn text(&mut self, text: &str) -> &mut Self {
        self.number(text.len() as u64);
        self.0.update(text.as_bytes());
        self
    }

    pub(crate) fn texts(&mut self, texts: &[&str]) -> &mut Self {
        self.number(texts.len() as u64);
        for text in texts {
            self.text(text);
        }
        self
    }

    pub(crate) fn number(&mut self, number: u64) -> &mut Self {
        self.0.update(&number.to_le_bytes());
        self
    }

    pub(crate) fn digest(&mut self, digest: &Sha256) -> &mut Self {
        self.0.update(digest.bytes());
        self
    }

    pub(crate) fn finish(self) -> Sha256 {
        self.0.finish()
    }
}
