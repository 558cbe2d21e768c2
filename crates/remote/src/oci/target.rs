//! Where images are pushed to: a name in a registry.

use super::credentials::CredentialFiles;
use super::reference::{Reference, Target};
use super::registry::Registry;
use super::upload::{Arrival, Upload};
use crate::address::shown;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use crate::send::{Method, Payload};
use content::BlobDigest;
use content::store::Store;

/// A name in a registry, to push to.
pub struct ImageTarget<'a> {
    registry: Registry<'a>,
    mounts: bool,
}

impl<'a> ImageTarget<'a> {
    /// `sources` are other names of the registry from which blobs may be mounted.
    pub fn new(
        reference: Reference,
        sources: &[String],
        fetcher: &'a Fetcher,
        credentials: &'a CredentialFiles,
    ) -> Self {
        let own = format!("repository:{}:pull,push", reference.repository);
        let others = sources.iter().map(|name| format!("repository:{name}:pull"));
        let scopes = std::iter::once(own).chain(others).collect();
        Self {
            registry: Registry::new(reference, fetcher, credentials).with_scopes(scopes),
            mounts: !sources.is_empty(),
        }
    }

    pub(super) fn registry(&self) -> &Registry<'a> {
        &self.registry
    }

    /// The digest of what a tag names, or of a manifest that is there; nothing where there is none.
    pub fn digest_of(&self, target: &Target) -> Result<Option<BlobDigest>> {
        let url = self.registry.reference.url(&format!("manifests/{target}"));
        let accept = super::documents::ACCEPTED.join(", ");
        self.registry.fetcher().with_retry(|| {
            let answer = self.registry.send(Method::Head, &url, &[("Accept", &accept)], Payload::Nothing)?;
            if answer.status() == 404 {
                return Ok(None);
            }
            let answer = answer.with_status(&[200], &url)?;
            let said = answer.headers("Docker-Content-Digest").first().and_then(|text| text.parse().ok());
            Ok(match target {
                Target::Digest(digest) => Some(*digest),
                Target::Tag(_) => said,
            })
        })
    }

    /// Brings a blob of the store into the registry, unless it is there, which is not asked where `is_missing` says so;
    /// `mount_from` is another name of the registry that may have it. `sent` is told of each number of bytes that was sent.
    pub fn put_blob(
        &self,
        store: &Store,
        (digest, size): (BlobDigest, u64),
        (is_missing, mount_from): (bool, Option<&str>),
        sent: &(dyn Fn(u64) + Sync),
    ) -> Result<Arrival> {
        let mount_from = mount_from.filter(|_| self.mounts);
        Upload { registry: &self.registry, store, digest, size, is_missing, mount_from, sent }.run()
    }

    /// Puts a manifest or an index; everything that it names has to be there.
    pub fn put_manifest(&self, media_type: &str, bytes: &[u8], target: &Target) -> Result<()> {
        let url = self.registry.reference.url(&format!("manifests/{target}"));
        let digest = BlobDigest::of(bytes);
        self.registry.fetcher().with_retry(|| {
            let headers = [("Content-Type", media_type)];
            let answer = self.registry.send(Method::Put, &url, &headers, Payload::Bytes(bytes))?;
            let answer = answer.with_status(&[201], &url)?;
            match answer.headers("Docker-Content-Digest").first() {
                Some(said) if said.parse().ok() != Some(digest) => Err(RemoteError::Malformed {
                    url: shown(&url),
                    detail: format!("it answered with digest {said} for {digest}"),
                }),
                _ => Ok(()),
            }
        })
    }
}
