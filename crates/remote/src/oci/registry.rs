//! A name in a registry: what it answers, once it lets us in, and what is pulled from it.

use super::authorisation::{Wanted, answer, denied};
use super::credentials::CredentialFiles;
use super::documents::ACCEPTED;
use super::reference::{Reference, Target};
use crate::address::shown;
use crate::error::{RemoteError, Result};
use crate::fetch::{Answer, Fetcher, copy, server_of};
use crate::send::{Method, Payload};
use content::BlobDigest;
use std::io::{Read, Write};
use std::sync::Mutex;

/// A document is no larger than this, in bytes (the specification lets registries refuse beyond 4 MiB).
const LARGEST_DOCUMENT: u64 = 8 << 20;

/// A name in a registry, with what was learned of how to be let in.
pub(super) struct Registry<'a> {
    pub(super) reference: Reference,
    fetcher: &'a Fetcher,
    credentials: &'a CredentialFiles,
    /// What is wanted of names in the registry, as scopes of tokens; what a challenge says where nothing is.
    scopes: Vec<String>,
    /// The header that let us in last.
    authorisation: Mutex<Option<String>>,
}

impl<'a> Registry<'a> {
    pub(super) fn new(reference: Reference, fetcher: &'a Fetcher, credentials: &'a CredentialFiles) -> Self {
        Self { reference, fetcher, credentials, scopes: Vec::new(), authorisation: Mutex::new(None) }
    }

    /// The same, to be let in for these scopes at once.
    pub(super) fn with_scopes(self, scopes: Vec<String>) -> Self {
        Self { scopes, ..self }
    }

    /// What asks it.
    pub(super) fn fetcher(&self) -> &Fetcher {
        self.fetcher
    }

    /// The bytes of a manifest.
    pub(super) fn manifest(&self, target: &Target) -> Result<Vec<u8>> {
        let url = self.reference.url(&format!("manifests/{target}"));
        let accept = ACCEPTED.join(", ");
        let bytes = self.fetcher.with_retry(|| {
            let mut answer = self.ask(&url, &[("Accept", &accept)])?.successful(&url)?;
            let mut bytes = Vec::new();
            let read = answer.body().take(LARGEST_DOCUMENT).read_to_end(&mut bytes);
            read.map_err(|e| RemoteError::Unreachable { url: shown(&url), detail: e.to_string() })?;
            Ok(bytes)
        })?;
        match target {
            Target::Digest(digest) if BlobDigest::of(&bytes) != *digest => {
                Err(wrong(&url, *digest, BlobDigest::of(&bytes)))
            }
            _ => Ok(bytes),
        }
    }

    /// Writes a blob to `to`. What came before a connection was cut is not asked for again.
    pub(super) fn blob(&self, digest: BlobDigest, size: u64, to: &mut dyn Write) -> Result<()> {
        let url = self.reference.url(&format!("blobs/{digest}"));
        let mut received = 0;
        loop {
            let before = received;
            match self.fetcher.with_retry(|| self.rest_of(&url, size, &mut received, to)) {
                // A connection that brings something each time is not given up.
                Err(RemoteError::Unreachable { .. }) if received > before => {}
                ended => return ended,
            }
        }
    }

    fn rest_of(&self, url: &str, size: u64, received: &mut u64, to: &mut dyn Write) -> Result<()> {
        let range = format!("bytes={received}-");
        let headers: &[(&str, &str)] = if *received == 0 { &[] } else { &[("Range", &range)] };
        let mut answer = self.ask(url, headers)?;
        let goes_on = *received > 0 && answer.goes_on_at(*received);
        if !goes_on {
            // A server that knows nothing of parts sends all again.
            answer = if answer.is_part() { self.ask(url, &[])? } else { answer }.successful(url)?;
        }
        let mut known = if goes_on { 0 } else { *received };
        copy(&mut self.fetcher.patient(&mut answer.body()), size - *received + known, url, &mut |bytes| {
            let skipped = known.min(bytes.len() as u64);
            known -= skipped;
            let new = &bytes[usize::try_from(skipped).unwrap_or(bytes.len())..];
            to.write_all(new)?;
            *received += new.len() as u64;
            Ok(())
        })?;
        if *received >= size {
            return Ok(());
        }
        let detail = format!("it ended after {received} of {size} bytes");
        Err(RemoteError::Unreachable { url: shown(url), detail })
    }

    /// Asks, and once more with credentials when they are asked for.
    fn ask(&self, url: &str, headers: &[(&str, &str)]) -> Result<Answer> {
        self.let_in(url, |login| self.fetcher.ask(url, &with_authorisation(headers, login)))
    }

    /// Sends, and once more with credentials when they are asked for; to another server never with them.
    pub(super) fn send(
        &self,
        method: Method,
        url: &str,
        headers: &[(&str, &str)],
        payload: Payload<'_>,
    ) -> Result<Answer> {
        if server_of(url) != server_of(&self.reference.url("")) {
            return self.fetcher.send(method, url, headers, payload);
        }
        self.let_in(url, |login| self.fetcher.send(method, url, &with_authorisation(headers, login), payload))
    }

    fn let_in(&self, url: &str, attempt: impl Fn(Option<&str>) -> Result<Answer>) -> Result<Answer> {
        let known = self.authorisation.lock().map(|known| known.clone()).unwrap_or_default();
        let first = attempt(known.as_deref())?;
        if !matches!(first.status(), 401 | 403) {
            return Ok(first);
        }
        let challenges = first.headers("WWW-Authenticate");
        drop(first);
        let wanted = Wanted { reference: &self.reference, scopes: &self.scopes };
        let (value, found) = answer(self.fetcher, self.credentials, wanted, &challenges)?;
        let refused = || denied(&self.reference, &shown(url), found.clone());
        let value = value.ok_or_else(refused)?;
        let second = attempt(Some(&value))?;
        if matches!(second.status(), 401 | 403) {
            return Err(refused());
        }
        if let Ok(mut known) = self.authorisation.lock() {
            *known = Some(value);
        }
        Ok(second)
    }
}

fn with_authorisation<'h>(headers: &[(&'h str, &'h str)], value: Option<&'h str>) -> Vec<(&'h str, &'h str)> {
    headers.iter().copied().chain(value.map(|value| ("Authorization", value))).collect()
}

/// That bytes are not the ones that were named.
pub(super) fn wrong(url: &str, expected: BlobDigest, found: BlobDigest) -> RemoteError {
    RemoteError::Integrity {
        url: shown(url),
        algorithm: "sha256",
        expected: expected.hex(),
        found: found.hex(),
    }
}
