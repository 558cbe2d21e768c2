//! Uploading blobs to a registry (OCI distribution specification 1.1, "Push").

use super::registry::Registry;
use crate::address::shown;
use crate::error::{RemoteError, Result};
use crate::fetch::{Answer, followed, server_of};
use crate::send::{Method, Payload};
use content::BlobDigest;
use content::store::Store;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};

/// A blob that is no longer than this, in bytes, is sent with the request that ends its upload.
const SENT_AT_ONCE: u64 = 1 << 20;
/// The length of the pieces, in bytes, for servers that do not take a blob in one.
const PIECE: u64 = 8 << 20;
/// The answer of a server to a piece that is too long for it.
const TOO_LARGE: u16 = 413;

/// How a blob came to be in a registry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arrival {
    /// It was there.
    Known,
    /// It was under another name of the registry.
    Mounted,
    /// It was sent.
    Sent,
}

/// A blob of the store on its way.
pub(super) struct Upload<'a> {
    pub(super) registry: &'a Registry<'a>,
    pub(super) store: &'a Store,
    pub(super) digest: BlobDigest,
    pub(super) size: u64,
    /// Whether it is known that the name does not have it.
    pub(super) is_missing: bool,
    /// Another name of the registry that may have it.
    pub(super) mount_from: Option<&'a str>,
    /// Told of each number of bytes that was sent.
    pub(super) sent: &'a (dyn Fn(u64) + Sync),
}

/// Where an upload is, and how far.
struct Session {
    url: String,
    offset: u64,
}

/// What a registry says to a new upload.
enum Started {
    Mounted,
    Open(Session),
}

impl Upload<'_> {
    /// Brings the blob into the registry, unless it is there.
    pub(super) fn run(&self) -> Result<Arrival> {
        // Taking it from another name says as well whether it is there.
        let first = match self.mount_from {
            Some(_) => Some(self.start(self.mount_from)?),
            None => None,
        };
        if matches!(first, Some(Started::Mounted)) {
            return Ok(Arrival::Mounted);
        }
        if !self.is_missing && self.is_there()? {
            return Ok(Arrival::Known);
        }
        let mut session = match first.map_or_else(|| self.start(None), Ok)? {
            Started::Mounted => return Ok(Arrival::Mounted),
            Started::Open(session) => session,
        };
        let mut piece = u64::MAX;
        let mut is_interrupted = false;
        loop {
            let before = session.offset;
            let sent = self.registry.fetcher().with_retry(|| {
                if is_interrupted {
                    self.resume(&mut session)?;
                }
                is_interrupted = true;
                self.rest(&mut session, &mut piece)
            });
            match sent {
                // A connection that brings something each time is not given up.
                Err(RemoteError::Unreachable { .. }) if session.offset > before => {}
                sent => return sent.map(|()| Arrival::Sent),
            }
        }
    }

    fn is_there(&self) -> Result<bool> {
        let url = self.registry.reference.url(&format!("blobs/{}", self.digest));
        self.registry.fetcher().with_retry(|| {
            let answer = self.registry.send(Method::Head, &url, &[], Payload::Nothing)?;
            match answer.status() {
                404 => Ok(false),
                // It is somewhere else, but it is.
                301..=308 => Ok(true),
                _ => answer.with_status(&[200], &url).map(|_| true),
            }
        })
    }

    fn start(&self, mount_from: Option<&str>) -> Result<Started> {
        let mut rest = "blobs/uploads/".to_owned();
        if let Some(from) = mount_from {
            rest.push_str(&format!("?mount={}&from={from}", self.digest));
        }
        let url = self.registry.reference.url(&rest);
        self.registry.fetcher().with_retry(|| {
            let answer = self.registry.send(Method::Post, &url, &[], Payload::Nothing)?;
            let answer = answer.with_status(&[201, 202], &url)?;
            match answer.status() {
                201 if mount_from.is_some() => Ok(Started::Mounted),
                _ => Ok(Started::Open(Session { url: location(&answer, &url)?, offset: 0 })),
            }
        })
    }

    /// Asks how much of what was sent has arrived; starts over where that is not known.
    fn resume(&self, session: &mut Session) -> Result<()> {
        let answer = self.registry.send(Method::Get, &session.url, &[], Payload::Nothing)?;
        if answer.status() == 204 {
            // "0-99" are the first hundred bytes; of none at all, some say "0-0".
            let range = answer.headers("Range");
            let last = range.first().and_then(|range| range.rsplit('-').next()?.trim().parse::<u64>().ok());
            session.offset = last.map_or(0, |last| if last == 0 { 0 } else { last + 1 });
            session.url = location(&answer, &session.url).unwrap_or_else(|_| session.url.clone());
            if session.offset > 0 && session.offset <= self.size {
                return Ok(());
            }
        }
        if let Started::Open(fresh) = self.start(None)? {
            *session = fresh;
        }
        Ok(())
    }

    /// Sends what has not been sent, and ends the upload.
    fn rest(&self, session: &mut Session, piece: &mut u64) -> Result<()> {
        let at_once = session.offset == 0 && self.size <= SENT_AT_ONCE;
        while !at_once && session.offset < self.size {
            let length = (self.size - session.offset).min(*piece);
            let range = format!("{}-{}", session.offset, session.offset + length - 1);
            let headers = [("Content-Range", range.as_str()), ("Content-Type", "application/octet-stream")];
            let open = || self.content(session.offset);
            let payload = Payload::Stream { open: &open, length };
            let answer = self.registry.send(Method::Patch, &session.url, &headers, payload)?;
            if answer.status() == TOO_LARGE && *piece > PIECE {
                *piece = PIECE;
                self.resume(session)?;
                continue;
            }
            let answer = answer.with_status(&[202], &session.url)?;
            session.url = location(&answer, &session.url)?;
            session.offset += length;
        }
        let sign = if session.url.contains('?') { '&' } else { '?' };
        let url = format!("{}{sign}digest={}", session.url, self.digest);
        let open = || self.content(0);
        let payload = match at_once {
            true => Payload::Stream { open: &open, length: self.size },
            false => Payload::Nothing,
        };
        let headers = [("Content-Type", "application/octet-stream")];
        let answer = self.registry.send(Method::Put, &url, &headers, payload)?;
        answer.with_status(&[201], &url).map(drop)
    }

    fn content<'c>(&'c self, offset: u64) -> Result<Box<dyn Read + 'c>> {
        let path = self.store.blob_path(self.digest);
        let opened = File::open(&path).and_then(|mut file| {
            file.seek(SeekFrom::Start(offset))?;
            Ok(file)
        });
        let file = opened.map_err(|source| RemoteError::Io { path, source })?;
        Ok(Box::new(Counted { from: file, told: self.sent }))
    }
}

/// Tells how many bytes were read.
struct Counted<'a> {
    from: File,
    told: &'a (dyn Fn(u64) + Sync),
}

impl Read for Counted<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let count = self.from.read(to)?;
        (self.told)(count as u64);
        Ok(count)
    }
}

/// Where an upload goes on. A server is not let send a blob to another one without encryption.
fn location(answer: &Answer, url: &str) -> Result<String> {
    let malformed = |detail: &str| RemoteError::Malformed { url: shown(url), detail: detail.to_owned() };
    let location = answer.headers("Location").into_iter().next();
    let onward =
        followed(url, &location.ok_or_else(|| malformed("it does not say where to continue the upload"))?);
    match server_of(&onward) == server_of(url) || onward.starts_with("https://") {
        true => Ok(onward),
        false => Err(malformed("it redirects the upload to another server, without TLS")),
    }
}
