//! Documents that are attached to an image in a registry (OCI distribution specification 1.1, "Listing Referrers", and the
//! tag for registries without that).

use super::reference::Target;
use super::registry::Registry;
use super::source::ImageSource;
use super::target::ImageTarget;
use crate::address::shown;
use crate::error::{RemoteError, Result};
use crate::fetch::{followed, server_of};
use crate::send::{Method, Payload};
use content::BlobDigest;
use content::image::{Descriptor, media};
use content::store::Store;
use serde_json::{Value, json};
use std::io::Read;

/// The media type of a configuration that says nothing, and its only content (OCI image specification 1.1).
const EMPTY: &str = "application/vnd.oci.empty.v1+json";
const NOTHING: &[u8] = b"{}";
/// The header of a registry that lists referrers by itself.
const LISTS_REFERRERS: &str = "OCI-Subject";
/// A list is no longer than this, in bytes, and has no more pages.
const LONGEST_LIST: u64 = 8 << 20;
const MOST_PAGES: usize = 100;

/// A document that is attached to an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attached {
    /// What it is.
    pub artifact_type: String,
    /// Its manifest.
    pub manifest: BlobDigest,
}

impl ImageTarget<'_> {
    /// Attaches a document to the image with this index, unless it is attached already. Whether it was not.
    pub fn attach(
        &self,
        store: &Store,
        subject: &Descriptor,
        artifact_type: &str,
        bytes: &[u8],
    ) -> Result<bool> {
        let document = Descriptor::of(artifact_type, bytes);
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": media::MANIFEST,
            "artifactType": artifact_type,
            "config": { "mediaType": EMPTY, "digest": BlobDigest::of(NOTHING), "size": NOTHING.len() },
            "layers": [document],
            "subject": { "mediaType": subject.media_type, "digest": subject.digest, "size": subject.size },
        })
        .to_string();
        let digest = BlobDigest::of(manifest.as_bytes());
        if self.digest_of(&Target::Digest(digest))?.is_some() {
            return Ok(false);
        }
        for blob in [NOTHING, bytes] {
            let in_store = |error| RemoteError::Io {
                path: store.root().to_owned(),
                source: std::io::Error::other(error),
            };
            let digest = store.put_blob(blob).map_err(in_store)?;
            self.put_blob(store, (digest, blob.len() as u64), (false, None), &|_| {})?;
        }
        let registry = self.registry();
        let url = registry.reference.url(&format!("manifests/{digest}"));
        let lists_referrers = registry.fetcher().with_retry(|| {
            let headers = [("Content-Type", media::MANIFEST)];
            let answer = registry.send(Method::Put, &url, &headers, Payload::Bytes(manifest.as_bytes()))?;
            Ok(!answer.with_status(&[201], &url)?.headers(LISTS_REFERRERS).is_empty())
        })?;
        if !lists_referrers {
            let entry = json!({
                "mediaType": media::MANIFEST, "digest": digest, "size": manifest.len(), "artifactType": artifact_type,
            });
            self.add_to_tag(subject.digest, entry)?;
        }
        Ok(true)
    }

    /// Lists a document under the tag that stands for the list.
    fn add_to_tag(&self, subject: BlobDigest, entry: Value) -> Result<()> {
        let tag = list_tag(subject);
        let mut list = match self.registry().manifest(&tag) {
            Ok(bytes) => serde_json::from_slice(&bytes).unwrap_or_default(),
            Err(RemoteError::NotFound { .. }) => Value::Null,
            Err(error) => return Err(error),
        };
        if !list["manifests"].is_array() {
            list = json!({ "schemaVersion": 2, "mediaType": media::INDEX, "manifests": [] });
        }
        if let Some(all) = list["manifests"].as_array_mut() {
            all.retain(|known| known["digest"] != entry["digest"]);
            all.push(entry);
        }
        self.put_manifest(media::INDEX, list.to_string().as_bytes(), &tag)
    }
}

impl ImageSource<'_> {
    /// The documents that are attached to the image with this index; none for a layout.
    pub fn attached(&self, subject: BlobDigest) -> Result<Vec<Attached>> {
        let Some(registry) = self.in_registry() else { return Ok(Vec::new()) };
        let mut all = Vec::new();
        let mut next = Some(registry.reference.url(&format!("referrers/{subject}")));
        for _ in 0..MOST_PAGES {
            let Some(url) = next.take() else { break };
            match page(registry, &url)? {
                Some((list, onward)) => {
                    all.extend(entries(&list));
                    next = onward;
                }
                None => match registry.manifest(&list_tag(subject)) {
                    Ok(bytes) => all.extend(entries(&serde_json::from_slice(&bytes).unwrap_or_default())),
                    Err(RemoteError::NotFound { .. }) => {}
                    Err(error) => return Err(error),
                },
            }
        }
        Ok(all)
    }

    /// The bytes of an attached document, which is no longer than `most` bytes.
    pub fn attached_document(&self, attached: &Attached, most: u64) -> Result<Vec<u8>> {
        let manifest = self.read_manifest(&self.manifest(attached.manifest)?)?;
        let malformed =
            |detail: &str| RemoteError::Malformed { url: self.label(), detail: detail.to_owned() };
        let part =
            manifest.layers.first().ok_or_else(|| malformed("an attached document has no contents"))?;
        if part.size > most {
            return Err(RemoteError::TooLarge { url: self.label(), most });
        }
        let mut bytes = Vec::new();
        self.blob(part, &mut bytes)?;
        Ok(bytes)
    }
}

/// A page of the list, and where the next one is; nothing where the registry has no such lists.
fn page(registry: &Registry<'_>, url: &str) -> Result<Option<(Value, Option<String>)>> {
    registry.fetcher().with_retry(|| {
        let answer = registry.send(Method::Get, url, &[("Accept", media::INDEX)], Payload::Nothing)?;
        if matches!(answer.status(), 404 | 405 | 400) {
            return Ok(None);
        }
        let mut answer = answer.with_status(&[200], url)?;
        let onward = answer.headers("Link").iter().find_map(|link| {
            let (target, relation) = link.split_once('>')?;
            let onward = followed(url, target.trim_start_matches(['<', ' ']));
            (relation.contains("next") && server_of(&onward) == server_of(url)).then_some(onward)
        });
        let mut bytes = Vec::new();
        let read = answer.body().take(LONGEST_LIST).read_to_end(&mut bytes);
        read.map_err(|error| RemoteError::Unreachable { url: shown(url), detail: error.to_string() })?;
        // A page for people is no list.
        Ok(serde_json::from_slice(&bytes).ok().map(|list| (list, onward)))
    })
}

fn entries(list: &Value) -> Vec<Attached> {
    let all = list["manifests"].as_array().into_iter().flatten();
    let entry = |entry: &Value| {
        let artifact_type = entry["artifactType"].as_str()?.to_owned();
        Some(Attached { artifact_type, manifest: entry["digest"].as_str()?.parse().ok()? })
    };
    all.filter_map(entry).collect()
}

/// The tag for the list of what is attached to an image ("Referrers Tag Schema").
fn list_tag(subject: BlobDigest) -> Target {
    Target::Tag(subject.to_string().replace(':', "-"))
}
