//! A bucket of object storage in the S3 style.

use crate::place::BucketKey;
use content::BlobDigest;
use content::digest::Sha256;
use content::store::Store;
use objects::signature::{Key, Scope, Signed, UNSIGNED, authorization, encoded};
use remote::{Fetcher, Method, Payload, RemoteError};
use std::fs::File;
use std::io::{Read, Write};
use std::time::{SystemTime, UNIX_EPOCH};

/// A bucket, and who comes in there.
pub(crate) struct Bucket<'a> {
    pub server: &'a str,
    pub bucket: &'a str,
    pub beginning: &'a str,
    pub key: Option<&'a BucketKey>,
    pub fetcher: &'a Fetcher,
}

impl Bucket<'_> {
    /// The bytes of an object, up to `most`; nothing where there is none.
    pub fn get(&self, name: &str, most: u64) -> Result<Option<Vec<u8>>, RemoteError> {
        let Some(mut answer) = self.answer(name)? else { return Ok(None) };
        let mut bytes = Vec::new();
        answer.body().take(most).read_to_end(&mut bytes).map_err(|source| self.cut(name, &source))?;
        Ok(Some(bytes))
    }

    /// Writes the bytes of an object; nothing where there is none. Gives how many there were.
    pub fn get_into(&self, name: &str, to: &mut dyn Write) -> Result<Option<u64>, RemoteError> {
        let Some(mut answer) = self.answer(name)? else { return Ok(None) };
        std::io::copy(&mut answer.body(), to).map(Some).map_err(|source| self.cut(name, &source))
    }

    /// Whether there is an object.
    pub fn has(&self, name: &str) -> Result<bool, RemoteError> {
        let answer = self.send(Method::Head, name, UNSIGNED, Payload::Nothing)?;
        Ok(answer.status() == 200)
    }

    /// Makes an object.
    pub fn put(&self, name: &str, bytes: &[u8]) -> Result<(), RemoteError> {
        let digest = Sha256::of(bytes).hex();
        self.send(Method::Put, name, &digest, Payload::Bytes(bytes))?
            .with_status(&[200], &self.url(name))
            .map(drop)
    }

    /// Makes an object of a blob of the store.
    pub fn put_blob(
        &self,
        name: &str,
        store: &Store,
        digest: BlobDigest,
        size: u64,
    ) -> Result<(), RemoteError> {
        let path = store.blob_path(digest);
        let open = || -> Result<Box<dyn Read>, RemoteError> {
            let file = File::open(&path).map_err(|source| RemoteError::Io { path: path.clone(), source })?;
            Ok(Box::new(file))
        };
        let payload = Payload::Stream { open: &open, length: size };
        self.send(Method::Put, name, &digest.hex(), payload)?.with_status(&[200], &self.url(name)).map(drop)
    }

    fn answer(&self, name: &str) -> Result<Option<remote::Answer>, RemoteError> {
        let answer = self.send(Method::Get, name, &Sha256::of(b"").hex(), Payload::Nothing)?;
        if answer.status() == 404 {
            return Ok(None);
        }
        answer.with_status(&[200], &self.url(name)).map(Some)
    }

    fn url(&self, name: &str) -> String {
        format!("{}{}", self.server, self.path(name))
    }

    fn path(&self, name: &str) -> String {
        encoded(format!("/{}/{}{name}", self.bucket, self.beginning).as_bytes(), true)
    }

    fn send(
        &self,
        method: Method,
        name: &str,
        body: &str,
        payload: Payload<'_>,
    ) -> Result<remote::Answer, RemoteError> {
        let path = self.path(name);
        let host = self.server.split_once("://").map_or(self.server, |(_, host)| host);
        let mut headers = vec![("x-amz-content-sha256", body.to_owned())];
        if let Some(BucketKey { id, secret, region }) = self.key {
            let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
            let scope = Scope::at(i64::try_from(now.as_secs()).unwrap_or(i64::MAX), region);
            let signed = [("host", host), ("x-amz-content-sha256", body), ("x-amz-date", &scope.time)];
            let request = Signed {
                method: method.name(),
                path: &path,
                query: "",
                headers: signed
                    .iter()
                    .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
                    .collect(),
                body,
            };
            let key = Key { id: id.clone(), secret: secret.clone() };
            headers.push(("authorization", authorization(&request, &scope, &key)));
            headers.push(("x-amz-date", scope.time));
        }
        let headers: Vec<(&str, &str)> =
            headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        self.fetcher.send(method, &self.url(name), &headers, payload)
    }

    fn cut(&self, name: &str, source: &std::io::Error) -> RemoteError {
        RemoteError::Unreachable { url: self.url(name), detail: source.to_string() }
    }
}
