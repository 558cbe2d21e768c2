//! Which names of registries have which layers, as far as it was seen: from there, they need not be sent again.

use content::BlobDigest;
use content::store::Store;
use model::Result;
use std::collections::{BTreeMap, BTreeSet};

/// The name in the store under which it is kept.
const MEMORY: &str = "registry-places.json";

/// By registry, then by layer: a name in the registry.
type All = BTreeMap<String, BTreeMap<BlobDigest, String>>;

/// What is known of one registry.
pub(crate) struct RegistryPlaces(BTreeMap<BlobDigest, String>);

impl RegistryPlaces {
    /// What the store knows of a registry.
    pub(crate) fn of(store: &Store, host: &str) -> Self {
        let all: All = store.read_document(&store.tree_path(MEMORY)).whole().unwrap_or_default();
        Self(all.get(host).cloned().unwrap_or_default())
    }

    /// Another name than `repository` that has the layer.
    pub(crate) fn other_name(&self, layer: BlobDigest, repository: &str) -> Option<&str> {
        self.0.get(&layer).map(String::as_str).filter(|name| *name != repository)
    }

    /// All names that have one of these layers, except for `repository`.
    pub(crate) fn other_names(&self, layers: &[BlobDigest], repository: &str) -> Vec<String> {
        let names: BTreeSet<&str> =
            layers.iter().filter_map(|layer| self.other_name(*layer, repository)).collect();
        names.into_iter().map(str::to_owned).collect()
    }

    /// Notes that a name has these layers. Of layers that are no longer in the store, it is forgotten.
    pub(crate) fn note(store: &Store, host: &str, repository: &str, layers: &[BlobDigest]) -> Result<()> {
        let path = store.tree_path(MEMORY);
        let _turn = store.lock("registry-places")?;
        let mut all: All = store.read_document(&path).whole().unwrap_or_default();
        let known = all.entry(host.to_owned()).or_default();
        if layers.iter().all(|layer| known.contains_key(layer)) {
            return Ok(());
        }
        known.extend(layers.iter().map(|layer| (*layer, repository.to_owned())));
        for known in all.values_mut() {
            known.retain(|layer, _| store.blob_size(*layer).is_some());
        }
        Ok(store.write_document(&path, &all)?)
    }
}
