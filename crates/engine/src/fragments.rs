//! Fragments of a layer that is being put together.

use content::ContentError;
use content::digest::Sha256;
use content::layer::{Fragment, LayerWriter};
use model::Result;

/// Appends the fragment `key` of what is called `label`, which was put into the store before.
pub fn append_fragment(layer: &mut LayerWriter<'_>, key: Sha256, label: &str) -> Result<()> {
    let fragment = Fragment::read(layer.store(), layer.codec(), key);
    let damaged = || ContentError::Damaged { what: format!("the fragment of {label}") };
    Ok(layer.fragment(&fragment.ok_or_else(damaged)?)?)
}
