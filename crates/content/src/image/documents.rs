//! The documents of the OCI image specification 1.1 that this tool writes and reads.
//!
//! Maps are ordered, so the same document always has the same bytes and so the same digest.

use crate::digest::{BlobDigest, DiffId};
use crate::error::{ContentError, Result};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Media types and annotation names of the OCI image specification.
pub mod media {
    /// An image index.
    pub const INDEX: &str = "application/vnd.oci.image.index.v1+json";
    /// An image manifest.
    pub const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
    /// An image configuration.
    pub const CONFIG: &str = "application/vnd.oci.image.config.v1+json";
    /// Annotation: the tag of a manifest in a layout's index.
    pub const REF_NAME: &str = "org.opencontainers.image.ref.name";
    /// Annotation: title of an image.
    pub const TITLE: &str = "org.opencontainers.image.title";
    /// Annotation: creation time of an image (RFC 3339).
    pub const CREATED: &str = "org.opencontainers.image.created";
    /// Annotation: version of the packaged software.
    pub const VERSION: &str = "org.opencontainers.image.version";
}

/// Operating system and processor architecture, in the names of the Go programming language.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Platform {
    /// For example `amd64`.
    pub architecture: String,
    /// For example `linux`.
    pub os: String,
}

/// Points to a blob (OCI descriptor).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// What kind of document or layer it is.
    pub media_type: String,
    /// Digest of its bytes.
    pub digest: BlobDigest,
    /// Length in bytes.
    pub size: u64,
    /// For manifests in an index.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub platform: Option<Platform>,
    /// Free annotations.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

/// Lists manifests (OCI image index).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Index {
    /// Always 2.
    pub schema_version: u32,
    /// [`media::INDEX`].
    pub media_type: String,
    /// One for each process type.
    pub manifests: Vec<Descriptor>,
    /// Free annotations.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

/// One runnable image (OCI image manifest).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Manifest {
    /// Always 2.
    pub schema_version: u32,
    /// [`media::MANIFEST`].
    pub media_type: String,
    /// The image configuration.
    pub config: Descriptor,
    /// Bottom to top.
    pub layers: Vec<Descriptor>,
    /// Free annotations.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

/// How an image is run, and of which layers it consists (OCI image configuration).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Config {
    /// RFC 3339, UTC.
    pub created: String,
    /// For example `amd64`.
    pub architecture: String,
    /// For example `linux`.
    pub os: String,
    /// What is run.
    pub config: RunConfig,
    /// The uncompressed layers.
    pub rootfs: RootFs,
    /// One line a layer.
    #[serde(default)]
    pub history: Vec<History>,
}

/// The `config` object of an image configuration.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub struct RunConfig {
    /// `uid:gid`.
    pub user: String,
    /// `port/tcp` as keys; the values are empty objects.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub exposed_ports: BTreeMap<String, BTreeMap<String, String>>,
    /// Folders that processes write to as keys; the values are empty objects.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub volumes: BTreeMap<String, BTreeMap<String, String>>,
    /// `NAME=value`.
    pub env: Vec<String>,
    /// The program and its arguments.
    pub entrypoint: Vec<String>,
    /// Where it is started.
    pub working_dir: String,
    /// Names of the record and the like.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// The signal that asks the process to end.
    pub stop_signal: String,
}

/// The `rootfs` object of an image configuration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RootFs {
    /// Always `layers`.
    #[serde(rename = "type")]
    pub kind: String,
    /// Bottom to top.
    pub diff_ids: Vec<DiffId>,
}

/// One line of the `history` of an image configuration.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct History {
    /// RFC 3339, UTC.
    #[serde(default)]
    pub created: String,
    /// What made the layer.
    #[serde(default)]
    pub created_by: String,
}

impl Index {
    /// For each tag that is noted of manifests, an index with these; the first tag stands for the whole image, and its index
    /// has everything.
    pub fn by_tag(&self) -> Vec<(String, Self)> {
        let mut tagged: Vec<(String, Self)> = Vec::new();
        for manifest in &self.manifests {
            let Some(tag) = manifest.annotations.get(media::REF_NAME) else { continue };
            match tagged.iter_mut().find(|(known, _)| known == tag) {
                Some((_, index)) => index.manifests.push(manifest.clone()),
                None => {
                    tagged.push((tag.clone(), Self { manifests: vec![manifest.clone()], ..self.clone() }))
                }
            }
        }
        tagged
    }
}

impl Descriptor {
    /// A descriptor of a document's bytes.
    pub fn of(media_type: &str, bytes: &[u8]) -> Self {
        Self {
            media_type: media_type.to_owned(),
            digest: BlobDigest::of(bytes),
            size: bytes.len() as u64,
            platform: None,
            annotations: BTreeMap::new(),
        }
    }
}

/// Compact JSON; the same value always gives the same bytes.
pub fn to_json(value: &impl Serialize) -> Result<Vec<u8>> {
    serde_json::to_vec(value)
        .map_err(|e| ContentError::Malformed { what: "a new document".to_owned(), detail: e.to_string() })
}
