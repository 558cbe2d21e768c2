//! Where an image is: in a registry, or in a layout on this machine.

use super::credentials::CredentialFiles;
use super::documents::{Either, ForeignConfig, ForeignManifest, Part};
use super::reference::{Reference, Target};
use super::registry::{Registry, wrong};
use crate::error::{RemoteError, Result};
use crate::fetch::{Fetcher, read};
use content::BlobDigest;
use content::digest::HashingWriter;
use serde::de::DeserializeOwned;
use std::fs::File;
use std::io::{self, Write};
use std::path::PathBuf;

/// The annotation with the tag of a manifest in a layout.
const TAG: &str = "org.opencontainers.image.ref.name";

/// Where an image is.
pub struct ImageSource<'a>(Kind<'a>);

enum Kind<'a> {
    Registry(Registry<'a>),
    Layout { folder: PathBuf, tag: Option<String> },
}

impl<'a> ImageSource<'a> {
    /// An image in a registry.
    pub fn registry(reference: Reference, fetcher: &'a Fetcher, credentials: &'a CredentialFiles) -> Self {
        Self(Kind::Registry(Registry::new(reference, fetcher, credentials)))
    }

    /// An image in a layout folder (OCI image layout); the one with this tag, where several are.
    pub fn layout(folder: PathBuf, tag: Option<String>) -> Self {
        Self(Kind::Layout { folder, tag })
    }

    /// The manifest for a platform that the name stands for now, with its digest.
    pub fn newest(&self, platform: &str) -> Result<(BlobDigest, Vec<u8>)> {
        let (digest, bytes) = self.document()?;
        let mut document: Either = self.parsed("it", &bytes)?;
        if document.config.is_some() {
            return Ok((digest, bytes));
        }
        if let Kind::Layout { tag: Some(tag), .. } = &self.0 {
            document.manifests.retain(|part| part.annotations.get(TAG) == Some(tag));
        }
        // A layout may list indexes, each of which lists manifests.
        for _ in 0..2 {
            let chosen = document.manifests.iter().find(|part| part.is_for(platform));
            let digest = chosen
                .map(|part| part.digest)
                .ok_or_else(|| RemoteError::NotFound { url: format!("{} for {platform}", self.label()) })?;
            let bytes = self.manifest(digest)?;
            document = self.parsed("it", &bytes)?;
            if document.config.is_some() {
                return Ok((digest, bytes));
            }
        }
        Err(self.malformed("its lists of manifests list only lists"))
    }

    /// The document that the name stands for now, a manifest or a list of them, with its digest.
    pub fn document(&self) -> Result<(BlobDigest, Vec<u8>)> {
        let bytes = match &self.0 {
            Kind::Registry(registry) => registry.manifest(&registry.reference.target)?,
            Kind::Layout { folder, .. } => read(&folder.join("index.json"))?,
        };
        Ok((BlobDigest::of(&bytes), bytes))
    }

    /// The bytes of the manifest with this digest.
    pub fn manifest(&self, digest: BlobDigest) -> Result<Vec<u8>> {
        match &self.0 {
            Kind::Registry(registry) => registry.manifest(&Target::Digest(digest)),
            Kind::Layout { folder, .. } => {
                let path = folder.join("blobs/sha256").join(digest.hex());
                let bytes = read(&path)?;
                match BlobDigest::of(&bytes) {
                    found if found == digest => Ok(bytes),
                    found => Err(wrong(&path.display().to_string(), digest, found)),
                }
            }
        }
    }

    /// A manifest's bytes, read.
    pub fn read_manifest(&self, bytes: &[u8]) -> Result<ForeignManifest> {
        self.parsed("its manifest", bytes)
    }

    /// A configuration's bytes, read; an error when it is not for an image of so many layers.
    pub fn read_config(&self, bytes: &[u8], layers: usize) -> Result<ForeignConfig> {
        let config: ForeignConfig = self.parsed("its configuration", bytes)?;
        match config.diff_ids().len() {
            known if known == layers => Ok(config),
            known => {
                Err(self
                    .malformed(&format!("its configuration describes {known} layers, but it has {layers}")))
            }
        }
    }

    /// Writes a blob to `to`; an error at the end when its bytes are not the ones that were named.
    pub fn blob(&self, part: &Part, to: &mut dyn Write) -> Result<()> {
        let mut hashed = HashingWriter::new(to);
        let label = match &self.0 {
            Kind::Registry(registry) => {
                registry.blob(part.digest, part.size, &mut hashed)?;
                format!("{} {}", registry.reference, part.digest)
            }
            Kind::Layout { folder, .. } => {
                let path = folder.join("blobs/sha256").join(part.digest.hex());
                let at = |source| RemoteError::Io { path: path.clone(), source };
                let mut file = File::open(&path).map_err(at)?;
                io::copy(&mut file, &mut hashed).map_err(at)?;
                path.display().to_string()
            }
        };
        let (size, found) = (hashed.written(), hashed.finish().1);
        if BlobDigest(found) != part.digest {
            return Err(wrong(&label, part.digest, BlobDigest(found)));
        }
        if size != part.size {
            return Err(self.malformed(&format!(
                "{} has {size} bytes, but its manifest says {}",
                part.digest, part.size
            )));
        }
        Ok(())
    }

    /// The registry that it is in.
    pub(super) fn in_registry(&self) -> Option<&Registry<'a>> {
        match &self.0 {
            Kind::Registry(registry) => Some(registry),
            Kind::Layout { .. } => None,
        }
    }

    /// How people know it.
    pub fn label(&self) -> String {
        match &self.0 {
            Kind::Registry(registry) => registry.reference.to_string(),
            Kind::Layout { folder, .. } => folder.display().to_string(),
        }
    }

    fn parsed<T: DeserializeOwned>(&self, what: &str, bytes: &[u8]) -> Result<T> {
        serde_json::from_slice(bytes)
            .map_err(|e| self.malformed(&format!("{what} is not an image document ({e})")))
    }

    fn malformed(&self, detail: &str) -> RemoteError {
        RemoteError::Malformed { url: self.label(), detail: detail.to_owned() }
    }
}
