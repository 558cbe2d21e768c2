//! Puts the layers of an app on another base, without building again.
//!
//! What the app's layers need of base and runtimes is in the record, so that neither these layers nor the source have to be
//! at hand. What the old base has of that, the new one has to have.

mod assemble;
mod bases;
mod contract;

use assemble::NewManifests;
pub use bases::{NewBases, Onto, SwapRequest};

use crate::compare::{PackageChange, Pair, package_changes};
use content::BlobDigest;
use engine::Session;
use model::error::SwapError;
use model::{Error, Result, Role};
use serde::Serialize;
use workshop::inspect::OpenImage;
use workshop::record::{LayerRecord, Record};

/// Brings layers of the old image into the store.
pub type FetchLayers<'a> = dyn Fn(&[&LayerRecord]) -> Result<()> + 'a;

/// An image on its new base.
#[derive(Debug, Serialize)]
pub struct Swapped {
    /// Digests of the indexes; the same where the base has not changed.
    pub digest: Pair<BlobDigest>,
    /// The names of the bases.
    pub base: Pair<String>,
    /// The packages that changed.
    pub packages: Vec<PackageChange>,
    /// How many layers are other ones.
    pub new_layers: usize,
    /// Bytes of them, packed.
    pub bytes: u64,
}

impl Swapped {
    /// Whether the image is on that base already.
    pub fn is_same(&self) -> bool {
        self.digest.before == self.digest.after
    }

    /// Together with what happened on another platform.
    fn with(mut self, other: Self) -> Self {
        self.packages.extend(
            other.packages.into_iter().filter(|one| !self.packages.contains(one)).collect::<Vec<_>>(),
        );
        self.new_layers += other.new_layers;
        self.bytes += other.bytes;
        self
    }
}

/// Puts an image on the base that is wanted, on all of its platforms; its new documents and the layers of the base are in the
/// store then, without a name. `fetch` brings those of its layers that have to be looked into.
pub fn swap(
    image: &OpenImage,
    bases: &NewBases<'_>,
    session: &Session<'_>,
    fetch: &FetchLayers<'_>,
) -> Result<Swapped> {
    let mut manifests = NewManifests::new();
    let mut swapped: Option<Swapped> = None;
    for image in image.platforms() {
        let one = swap_platform(&image, bases, session, fetch, &mut manifests)?;
        swapped = Some(match swapped {
            None => one,
            Some(all) => all.with(one),
        });
    }
    let fixed = || SwapError::FixedBase { image: image.label.clone(), base: image.record.base.clone() };
    let mut swapped = swapped.ok_or_else(fixed)?;
    swapped.digest.after = assemble::index(image, &manifests, session.store)?;
    Ok(swapped)
}

fn swap_platform(
    image: &OpenImage,
    bases: &NewBases<'_>,
    session: &Session<'_>,
    fetch: &FetchLayers<'_>,
    manifests: &mut NewManifests,
) -> Result<Swapped> {
    let old = &image.record;
    let fixed = || SwapError::FixedBase { image: image.label.clone(), base: old.base.clone() };
    let replaced: Vec<&LayerRecord> = old.layers.iter().filter(|layer| is_replaced(old, layer)).collect();
    if replaced.is_empty() {
        return Err(Error::Swap(fixed()));
    }
    let unknown = || SwapError::Unknown { image: image.label.clone() };
    let needs = old.needs.as_ref().ok_or_else(unknown)?;
    let new = bases.in_place_of(image, session)?;
    let mut swapped = Swapped {
        digest: Pair { before: image.digest, after: image.digest },
        base: Pair { before: old.base.clone(), after: new.name.clone() },
        packages: Vec::new(),
        new_layers: 0,
        bytes: 0,
    };
    let of_new = new.layers_for(old).into_iter().map(|layer| layer.record.diff_id);
    if replaced.iter().map(|layer| layer.diff_id).eq(of_new) {
        return Ok(swapped);
    }
    let misfits = contract::misfits(image, needs, &replaced, &new, session.store, fetch)?;
    if !misfits.is_empty() {
        let (image, base) = (image.label.clone(), new.name.clone());
        return Err(Error::Swap(SwapError::Unfit { image, base, misfits }));
    }
    let record = assemble::record(image, &new);
    swapped.packages = package_changes(&old.packages, &record.packages);
    let known: Vec<BlobDigest> = old.layers.iter().map(|layer| layer.digest).collect();
    let other = record.layers.iter().filter(|layer| !known.contains(&layer.digest));
    (swapped.new_layers, swapped.bytes) = other.fold((0, 0), |(n, sum), layer| (n + 1, sum + layer.size));
    manifests.extend(assemble::documents(image, record, &new, session.store)?);
    Ok(swapped)
}

/// Whether the layer is of the base: one that was composed, or one of a foreign image.
fn is_replaced(record: &Record, layer: &LayerRecord) -> bool {
    match &record.composition {
        Some(composition) => composition.sets.values().any(|set| set.step == layer.step),
        None => layer.role == Role::Base && record.base.contains(':'),
    }
}
