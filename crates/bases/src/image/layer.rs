//! Layers of a foreign image: kept as they are, so that registries that have them need not get them.

use crate::image::location::Location;
use crate::image::remote;
use content::DiffId;
use content::error::PathContext;
use content::layer::{Codec, LayerWriter};
use content::store::Store;
use engine::{Action, StepContext};
use engine::{Fingerprint, Recipe};
use model::{PackageFact, Result};
use remote::oci::{CredentialFiles, ImageSource, Part};
use std::fs::File;
use std::sync::Arc;

/// The step that takes one layer in.
pub(super) struct PulledLayer {
    pub(super) location: Location,
    pub(super) credentials: Arc<CredentialFiles>,
    pub(super) part: Part,
    pub(super) diff_id: DiffId,
}

impl Action for PulledLayer {
    fn fingerprint(&self) -> Fingerprint {
        // Place and credentials are only how the layer is got.
        let Self { location: _, credentials: _, part, diff_id } = self;
        let values = [
            ("layer", part.digest.to_string()),
            ("media type", part.media_type.clone()),
            ("content", diff_id.to_string()),
        ];
        Fingerprint::of(Recipe::new("layer of an image", 1)).values("image", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let store = layer.store();
        if !is_there(store, &self.part) {
            let source = self.location.open(cx.fetcher, &self.credentials, store)?;
            take_in(store, &source, &self.part)?;
        }
        match codec_of(&self.part) {
            Some(codec) => layer.adopt(self.part.digest, codec, self.diff_id)?,
            None => {
                let path = store.blob_path(self.part.digest);
                layer.archive(&mut File::open(&path).at(&path)?, &self.part.digest.to_string())?;
            }
        }
        Ok(Vec::new())
    }
}

fn is_there(store: &Store, part: &Part) -> bool {
    store.has_verified(part.digest, part.size)
}

/// Gets a layer into the store.
pub(super) fn take_in(store: &Store, source: &ImageSource<'_>, part: &Part) -> Result<()> {
    if is_there(store, part) {
        return Ok(());
    }
    let mut file = store.temporary_file()?;
    source.blob(part, &mut file).map_err(remote(&source.label()))?;
    Ok(store.publish_blob(file, part.digest)?)
}

/// How the layer is compressed, as every media type of layers ends with it; `None` when it is not.
pub(super) fn codec_of(part: &Part) -> Option<Codec> {
    let ends = |endings: [&str; 3]| endings.iter().any(|end| part.media_type.ends_with(end));
    if ends(["+zstd", ".zstd", "-zstd"]) {
        Some(Codec::Zstd)
    } else {
        ends(["+gzip", ".gzip", "-gzip"]).then_some(Codec::Gzip)
    }
}
