//! A name in a registry of images: each result is an artefact (OCI image specification 1.1, "Guidelines for artifact usage")
//! with a tag made from the key of its step; the layers of its manifest are the layer of the step and the signed document.

use crate::result::LONGEST;
use content::StepKey;
use content::image::media;
use content::store::Store;
use engine::Produced;
use remote::oci::{CredentialFiles, ImageSource, ImageTarget, Part, Reference, Target};
use remote::{Fetcher, RemoteError};
use serde_json::json;
use std::io::Write;

/// What the artefacts are.
const ARTEFACT: &str = "application/vnd.shtetl.step-result.v1";
/// What the signed document is.
const DOCUMENT: &str = "application/vnd.dsse.envelope.v1+json";

/// What stands for no configuration.
const EMPTY: &str = "application/vnd.oci.empty.v1+json";

/// A name in a registry.
pub(crate) struct RegistryName<'a> {
    pub reference: &'a Reference,
    pub fetcher: &'a Fetcher,
    pub credentials: &'a CredentialFiles,
}

impl RegistryName<'_> {
    fn at(&self, key: StepKey) -> Reference {
        Reference { target: Target::Tag(format!("step-{}", key.hex())), ..self.reference.clone() }
    }

    fn source(&self, key: StepKey) -> ImageSource<'_> {
        ImageSource::registry(self.at(key), self.fetcher, self.credentials)
    }

    /// The signed document of a step; nothing where there is none.
    pub fn get(&self, key: StepKey) -> Result<Option<Vec<u8>>, RemoteError> {
        let source = self.source(key);
        let bytes = match source.document() {
            Ok((_, bytes)) => bytes,
            Err(RemoteError::NotFound { .. }) => return Ok(None),
            Err(error) => return Err(error),
        };
        let manifest = source.read_manifest(&bytes)?;
        let Some(part) =
            manifest.layers.iter().find(|part| part.media_type == DOCUMENT && part.size <= LONGEST)
        else {
            return Ok(None);
        };
        let mut document = Vec::new();
        source.blob(part, &mut document)?;
        Ok(Some(document))
    }

    /// Writes the layer of a step.
    pub fn get_blob(&self, key: StepKey, produced: &Produced, to: &mut dyn Write) -> Result<(), RemoteError> {
        let layer = &produced.layer;
        self.source(key).blob(&Part::new(layer.codec.media_type(), layer.digest, layer.size), to)
    }

    /// Whether there is a result of a step.
    pub fn has(&self, key: StepKey) -> Result<bool, RemoteError> {
        let target = self.target(key);
        Ok(target.digest_of(&self.at(key).target)?.is_some())
    }

    fn target(&self, key: StepKey) -> ImageTarget<'_> {
        ImageTarget::new(self.at(key), &[], self.fetcher, self.credentials)
    }

    /// Puts a result: the layer and the document first, the tag last.
    pub fn put(
        &self,
        key: StepKey,
        produced: &Produced,
        document: &[u8],
        store: &Store,
    ) -> Result<(), RemoteError> {
        let target = self.target(key);
        let layer = &produced.layer;
        target.put_blob(store, (layer.digest, layer.size), (false, None), &|_| {})?;
        let in_store = |error: content::ContentError| RemoteError::Io {
            path: store.root().to_owned(),
            source: std::io::Error::other(error),
        };
        let described = store.put_blob(document).map_err(in_store)?;
        let config = store.put_blob(b"{}").map_err(in_store)?;
        for (digest, size) in [(described, document.len()), (config, 2)] {
            target.put_blob(store, (digest, size as u64), (false, None), &|_| {})?;
        }
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": media::MANIFEST,
            "artifactType": ARTEFACT,
            "config": { "mediaType": EMPTY, "digest": config, "size": 2 },
            "layers": [
                { "mediaType": layer.codec.media_type(), "digest": layer.digest, "size": layer.size },
                { "mediaType": DOCUMENT, "digest": described, "size": document.len() },
            ],
        });
        target.put_manifest(media::MANIFEST, manifest.to_string().as_bytes(), &self.at(key).target)
    }
}
