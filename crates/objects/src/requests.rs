//! What a request asks for, and whether who sent it may.

use crate::body::{IN_PIECES, Pieces};
use crate::signature::{Claim, Key, Signed, UNSIGNED, signature};
use content::digest::HashingReader;
use remote::percent;
use std::collections::BTreeMap;
use std::io::{self, Read};

/// A request without its body.
pub(crate) struct Request {
    pub method: String,
    /// As it was sent, without the query.
    pub path: String,
    raw_query: String,
    /// The decoded parameters.
    pub query: BTreeMap<String, String>,
    /// By name in small letters.
    pub headers: BTreeMap<String, String>,
    /// The bucket, and the key of the object; empty where there is none.
    pub bucket: String,
    pub key: String,
}

impl Request {
    pub fn new(method: &str, url: &str, headers: &[(String, String)]) -> Self {
        let (path, raw_query) = url.split_once('?').unwrap_or((url, ""));
        let text = |text: &str| String::from_utf8_lossy(&percent::decoded(text)).into_owned();
        let pair = |part: &str| {
            let (name, value) = part.split_once('=').unwrap_or((part, ""));
            (text(name), text(&value.replace('+', "%20")))
        };
        let query = raw_query.split('&').filter(|part| !part.is_empty()).map(pair).collect();
        let (bucket, key) =
            path.trim_start_matches('/').split_once('/').unwrap_or((&path[1.min(path.len())..], ""));
        Self {
            method: method.to_owned(),
            path: path.to_owned(),
            raw_query: raw_query.to_owned(),
            query,
            headers: headers.iter().cloned().collect(),
            bucket: text(bucket),
            key: text(key),
        }
    }

    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name).map(String::as_str)
    }

    pub fn asks(&self, parameter: &str) -> bool {
        self.query.contains_key(parameter)
    }

    pub fn parameter(&self, name: &str) -> &str {
        self.query.get(name).map_or("", String::as_str)
    }

    /// Whether it is signed with the key.
    pub fn is_signed_with(&self, key: &Key) -> bool {
        let in_header = self
            .header("authorization")
            .and_then(|value| Claim::in_header(value, self.header("x-amz-date").unwrap_or_default()));
        let body = match in_header {
            Some(_) => self.header("x-amz-content-sha256").unwrap_or(UNSIGNED),
            None => UNSIGNED,
        };
        let Some(claim) = in_header.or_else(|| Claim::in_query(&self.query)) else { return false };
        let value = |name: &String| Some((name.clone(), self.headers.get(name)?.clone()));
        let signed = Signed {
            method: &self.method,
            path: &self.path,
            query: &self.raw_query,
            headers: claim.headers.iter().filter_map(value).collect(),
            body,
        };
        claim.id == key.id && signature(&signed, &claim.scope, key) == claim.signature
    }

    /// The data of a body: put together where it comes in pieces.
    pub fn data<'b>(&self, body: &'b mut dyn Read) -> Box<dyn Read + 'b> {
        let digest = self.header("x-amz-content-sha256").unwrap_or_default();
        if digest.starts_with(IN_PIECES) {
            return Box::new(Pieces::new(body));
        }
        if digest.is_empty() || digest == UNSIGNED {
            return Box::new(body);
        }
        Box::new(Checked { from: Some(HashingReader::new(body)), wanted: digest.to_owned() })
    }

    /// The part of `size` bytes that is asked for, as its first byte and the one after its last (RFC 9110, 14.1.2);
    /// `Err` where it lies outside.
    pub fn range(&self, size: u64) -> Option<Result<(u64, u64), ()>> {
        let (first, last) = self.header("range")?.strip_prefix("bytes=")?.split_once('-')?;
        let range = match (first.parse::<u64>(), last.parse::<u64>()) {
            (Ok(first), Ok(last)) if first <= last => (first, size.min(last + 1)),
            (Ok(first), Err(_)) if last.is_empty() => (first, size),
            (Err(_), Ok(last)) if first.is_empty() => (size.saturating_sub(last), size),
            _ => return None,
        };
        Some(if range.0 < range.1 { Ok(range) } else { Err(()) })
    }
}

/// Bytes that must have a digest: those that do not are an error at their end.
struct Checked<R> {
    from: Option<HashingReader<R>>,
    wanted: String,
}

impl<R: Read> Read for Checked<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let Some(from) = &mut self.from else { return Ok(0) };
        let read = from.read(to)?;
        if read == 0 && !to.is_empty() {
            let digest = self.from.take().map(|from| from.finish().hex());
            if digest.as_deref() != Some(self.wanted.as_str()) {
                return Err(io::ErrorKind::InvalidData.into());
            }
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn buckets_keys_and_ranges_are_read_from_requests() {
        let range = ("range".to_owned(), "bytes=2-".to_owned());
        let request = Request::new("GET", "/tides/a%20b/c?prefix=x%2Fy&uploads", &[range]);
        assert_eq!((request.bucket.as_str(), request.key.as_str()), ("tides", "a b/c"));
        assert_eq!((request.parameter("prefix"), request.asks("uploads")), ("x/y", true));
        assert_eq!(request.range(5), Some(Ok((2, 5))));
        assert_eq!(request.range(2), Some(Err(())));
        let of_root = Request::new("GET", "/", &[]);
        assert_eq!((of_root.bucket.as_str(), of_root.key.as_str()), ("", ""));
    }
}
