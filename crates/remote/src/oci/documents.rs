//! Image documents that others wrote: only what is used is read, and their bytes are kept as they are.

use content::{BlobDigest, DiffId};
use serde::Deserialize;
use std::collections::BTreeMap;

/// Media types of manifests and of lists of them, as registries are asked for them.
pub(super) const ACCEPTED: [&str; 4] = [
    "application/vnd.oci.image.index.v1+json",
    "application/vnd.oci.image.manifest.v1+json",
    "application/vnd.docker.distribution.manifest.list.v2+json",
    "application/vnd.docker.distribution.manifest.v2+json",
];

/// A blob or document that another one names.
#[derive(Debug, Clone, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Part {
    /// What it is.
    #[serde(default)]
    pub media_type: String,
    /// Digest of its bytes.
    pub digest: BlobDigest,
    /// Length in bytes.
    pub size: u64,
    /// For manifests in a list.
    pub(super) platform: Option<Platform>,
    #[serde(default)]
    pub(super) annotations: BTreeMap<String, String>,
}

#[derive(Debug, Clone, Deserialize)]
pub(super) struct Platform {
    os: String,
    architecture: String,
}

impl Part {
    /// A blob of this kind.
    pub fn new(media_type: &str, digest: BlobDigest, size: u64) -> Self {
        Self { media_type: media_type.to_owned(), digest, size, platform: None, annotations: BTreeMap::new() }
    }

    /// Whether it is for the platform, which is written as in `linux/amd64`; one that says nothing may be.
    pub(super) fn is_for(&self, platform: &str) -> bool {
        self.platform.as_ref().is_none_or(|own| format!("{}/{}", own.os, own.architecture) == platform)
    }
}

/// A manifest, or a list of them.
#[derive(Debug, Deserialize)]
pub(super) struct Either {
    #[serde(default)]
    pub(super) manifests: Vec<Part>,
    pub(super) config: Option<Part>,
}

/// An image manifest.
#[derive(Debug, Clone, Deserialize)]
pub struct ForeignManifest {
    /// The image configuration.
    pub config: Part,
    /// Bottom to top.
    pub layers: Vec<Part>,
}

/// An image configuration.
#[derive(Debug, Clone, Deserialize)]
pub struct ForeignConfig {
    /// As in `linux`.
    #[serde(default)]
    pub os: String,
    /// As in `amd64`.
    #[serde(default)]
    pub architecture: String,
    #[serde(default)]
    config: Option<Run>,
    rootfs: RootFs,
}

#[derive(Debug, Clone, Deserialize)]
struct Run {
    #[serde(rename = "Env", default)]
    env: Option<Vec<String>>,
    #[serde(rename = "Labels", default)]
    labels: Option<BTreeMap<String, String>>,
}

#[derive(Debug, Clone, Deserialize)]
struct RootFs {
    diff_ids: Vec<DiffId>,
}

impl ForeignConfig {
    /// Environment of every process.
    pub fn env(&self) -> BTreeMap<String, String> {
        let lines = self.config.iter().flat_map(|run| run.env.iter().flatten());
        lines.filter_map(|line| line.split_once('=')).map(|(k, v)| (k.to_owned(), v.to_owned())).collect()
    }

    /// The value of a label.
    pub fn label(&self, name: &str) -> Option<&str> {
        let labels = self.config.as_ref()?.labels.as_ref()?;
        labels.get(name).map(String::as_str)
    }

    /// Digests of the uncompressed layers, bottom to top.
    pub fn diff_ids(&self) -> &[DiffId] {
        &self.rootfs.diff_ids
    }
}
