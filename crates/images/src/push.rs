//! Pushes an image of the store to a registry: what it lacks is sent, and the tags come last.

use crate::registry_places::RegistryPlaces;
use cancel::Cancel;
use content::BlobDigest;
use content::image::{Descriptor, Index, Manifest, media, to_json};
use content::store::Store;
use engine::run_indexed;
use model::error::RegistryError;
use model::{Error, Result, Role, labels};
use remote::oci::{Arrival, CredentialFiles, ImageTarget, Reference, Target};
use remote::{Fetcher, RemoteError};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use workshop::inspect::OpenImage;

/// How many blobs are sent at once.
const AT_ONCE: usize = 6;

/// What pushing and pulling takes from outside.
pub struct Transfer<'a> {
    /// The store.
    pub store: &'a Store,
    /// Asks registries.
    pub fetcher: &'a Fetcher,
    /// Where credentials are.
    pub credentials: &'a CredentialFiles,
    /// Told how many of how many bytes have gone, from any thread.
    pub progress: &'a (dyn Fn(u64, u64) + Sync),
    /// Ends it early.
    pub cancel: &'a Cancel,
}

/// An image that is in a registry now.
#[derive(Debug, Serialize)]
pub struct Pushed {
    /// Registry and name.
    pub repository: String,
    /// The index of the image.
    pub digest: BlobDigest,
    /// Each tag with what it names.
    pub tags: Vec<(String, BlobDigest)>,
    /// Documents that were attached now.
    pub attached: usize,
    /// Bytes of blobs that were sent.
    pub sent: u64,
    /// Bytes of blobs that were under another name of the registry.
    pub mounted: u64,
    /// Bytes of blobs that were there.
    pub known: u64,
}

/// Reads where an image is in a registry; `tag` is the default tag.
pub fn reference(text: &str, tag: &str) -> Result<Reference> {
    Reference::with_tag(text, tag)
        .map_err(|fault| Error::Registry(RegistryError::Reference { text: text.to_owned(), fault }))
}

/// A document that is attached to the image in the registry.
#[derive(Debug, Clone, Copy)]
pub struct Attachment<'a> {
    /// What it is.
    pub media_type: &'a str,
    /// The document.
    pub bytes: &'a [u8],
}

/// Where an image goes, and with what.
#[derive(Debug, Clone, Copy)]
pub struct Destination<'a> {
    /// A tag of a registry.
    pub to: &'a Reference,
    /// What is attached to it.
    pub attachments: &'a [Attachment<'a>],
    /// The layers that the name in the registry has, where that is known: these need not be in the store, and nothing else
    /// of the image is there.
    pub there: Option<&'a BTreeSet<BlobDigest>>,
}

/// Pushes `image` to a tag of a registry, and the image of each process type to a tag of its own.
pub fn push(image: &OpenImage, destination: &Destination<'_>, transfer: &Transfer<'_>) -> Result<Pushed> {
    let to = destination.to;
    let layers: Vec<BlobDigest> =
        image.records().flat_map(|record| &record.layers).map(|layer| layer.digest).collect();
    let places = RegistryPlaces::of(transfer.store, &to.host);
    let base = base_name(image, &to.host);
    let mut sources = places.other_names(&layers, &to.repository);
    sources.extend(base.iter().filter(|name| **name != to.repository).cloned());
    sources.dedup();
    let is_base = |digest: &BlobDigest| {
        let mut layers = image.records().flat_map(|record| &record.layers);
        layers.any(|layer| layer.digest == *digest && layer.role == Role::Base)
    };
    let mount = |digest: &BlobDigest| {
        let own = places.other_name(*digest, &to.repository);
        own.or(base.as_deref().filter(|name| is_base(digest) && *name != to.repository))
    };
    let open =
        |sources: &[String]| ImageTarget::new(to.clone(), sources, transfer.fetcher, transfer.credentials);
    let pushed = match push_to(&open(&sources), image, destination, &mount, transfer) {
        // Without access to the other repository, access to this one suffices.
        Err(Error::Registry(RegistryError::Remote { source: RemoteError::Denied { .. }, .. }))
            if !sources.is_empty() =>
        {
            push_to(&open(&[]), image, destination, &|_| None, transfer)?
        }
        pushed => pushed?,
    };
    RegistryPlaces::note(transfer.store, &to.host, &to.repository, &layers)?;
    Ok(pushed)
}

/// Pushes to a name that is open already; `mount` is where blobs may be taken from.
fn push_to<'m>(
    target: &ImageTarget<'_>,
    image: &OpenImage,
    destination: &Destination<'_>,
    mount: &MountFrom<'m>,
    transfer: &Transfer<'_>,
) -> Result<Pushed> {
    let Destination { to, attachments, there: layers_there } = *destination;
    let Target::Tag(tag) = &to.target else {
        return Err(Error::Registry(RegistryError::NotATag { text: to.to_string() }));
    };
    let store = transfer.store;
    let at_registry = |source| told(to, transfer, source);
    let whole = Target::Digest(image.digest);
    let tags = tags(image, tag)?;
    let mut pushed = Pushed {
        repository: format!("{}/{}", to.host, to.repository),
        digest: image.digest,
        tags: tags.iter().map(|(tag, bytes)| (tag.clone(), BlobDigest::of(bytes))).collect(),
        attached: 0,
        sent: 0,
        mounted: 0,
        known: 0,
    };
    pushed.tags.push((tag.clone(), image.digest));
    let blobs = blobs(image);
    let total = blobs.values().sum();
    // A registry that has the index has everything that it names.
    let is_there = layers_there.is_none() && target.digest_of(&whole).map_err(at_registry)?.is_some();
    if is_there {
        pushed.known = total;
    } else {
        let (known, missing): (BTreeMap<_, _>, BTreeMap<_, _>) = blobs
            .into_iter()
            .partition(|(digest, _)| layers_there.is_some_and(|there| there.contains(digest)));
        pushed.known = known.into_values().sum();
        send_blobs(&missing, target, (layers_there.is_some(), mount), transfer, &mut pushed)
            .map_err(at_registry)?;
        for variant in image.all_variants() {
            let bytes = store.read_blob(variant.digest)?;
            target
                .put_manifest(media::MANIFEST, &bytes, &Target::Digest(variant.digest))
                .map_err(at_registry)?;
        }
    }
    let index = store.read_blob(image.digest)?;
    // What is attached comes before the tag, and after what it is attached to.
    if !is_there && !attachments.is_empty() {
        target.put_manifest(media::INDEX, &index, &whole).map_err(at_registry)?;
    }
    let subject = Descriptor::of(media::INDEX, &index);
    for Attachment { media_type, bytes } in attachments {
        let is_new = target.attach(store, &subject, media_type, bytes).map_err(at_registry)?;
        pushed.attached += usize::from(is_new);
    }
    for (tag, bytes) in tags.iter().map(|(tag, bytes)| (tag, bytes)).chain([(tag, &index)]) {
        let target_tag = Target::Tag(tag.clone());
        let names_it = || Ok(is_there && target.digest_of(&target_tag)? == Some(BlobDigest::of(bytes)));
        if !names_it().map_err(at_registry)? {
            target.put_manifest(media::INDEX, bytes, &target_tag).map_err(at_registry)?;
        }
    }
    Ok(pushed)
}

/// The error, unless the user has ended the work.
pub(crate) fn told(image: &Reference, transfer: &Transfer<'_>, source: RemoteError) -> Error {
    match transfer.cancel.is_cancelled() {
        true => Error::Interrupted,
        false => Error::Registry(RegistryError::Remote { image: image.to_string(), source }),
    }
}

/// The configurations and layers of an image, with their sizes.
fn blobs(image: &OpenImage) -> BTreeMap<BlobDigest, u64> {
    let parts = image.all_variants().flat_map(|variant| {
        let Manifest { config, layers, .. } = &variant.manifest;
        layers.iter().chain([config])
    });
    parts.map(|part| (part.digest, part.size)).collect()
}

/// The name in the registry that the base came from, where it came from there.
fn base_name(image: &OpenImage, host: &str) -> Option<String> {
    let base = Reference::parse(image.record.base.strip_prefix("oci:")?).ok()?;
    (base.host == host).then_some(base.repository)
}

/// By process type, the digest of the index of its manifests, as it is in a registry.
pub fn digests_by_process(image: &OpenImage) -> Result<BTreeMap<String, BlobDigest>> {
    let tags = tags(image, "")?;
    let own = tags.iter().map(|(tag, bytes)| (tag.trim_start_matches('-').to_owned(), BlobDigest::of(bytes)));
    let single = image.variants.iter().map(|variant| (variant.process.clone(), image.digest));
    Ok(if tags.is_empty() { single.collect() } else { own.collect() })
}

/// For each process type, its tag and the index of its manifests. An image of a single one needs no other tag.
fn tags(image: &OpenImage, tag: &str) -> Result<Vec<(String, Vec<u8>)>> {
    let mut by_process: BTreeMap<&str, Vec<Descriptor>> = BTreeMap::new();
    let mut in_order = Vec::new();
    for descriptor in &image.index.manifests {
        let Some(process) = descriptor.annotations.get(labels::PROCESS) else { continue };
        if !by_process.contains_key(process.as_str()) {
            in_order.push(process.as_str());
        }
        by_process.entry(process).or_default().push(descriptor.clone());
    }
    if in_order.len() < 2 {
        return Ok(Vec::new());
    }
    let mut tags = Vec::new();
    for process in in_order {
        let manifests = by_process.remove(process).unwrap_or_default();
        let index = Index { manifests, ..image.index.clone() };
        tags.push((format!("{tag}-{process}"), to_json(&index)?));
    }
    Ok(tags)
}

/// The name in the registry that a blob may be taken from.
type MountFrom<'m> = dyn Fn(&BlobDigest) -> Option<&'m str> + Sync + 'm;

/// Brings all blobs into the registry, several at once; the first error ends it.
fn send_blobs<'m>(
    blobs: &BTreeMap<BlobDigest, u64>,
    target: &ImageTarget<'_>,
    (is_missing, mount): (bool, &MountFrom<'m>),
    transfer: &Transfer<'_>,
    pushed: &mut Pushed,
) -> Result<(), RemoteError> {
    // The largest first: the end of the work is not left to one of them.
    let mut in_order: Vec<(BlobDigest, u64)> = blobs.iter().map(|(digest, size)| (*digest, *size)).collect();
    in_order.sort_by_key(|(digest, size)| (std::cmp::Reverse(*size), *digest));
    let (gone, total) = (AtomicU64::new(0), in_order.iter().map(|(_, size)| size).sum());
    let (done, has_failed) = (Mutex::new(Vec::new()), AtomicBool::new(false));
    run_indexed(in_order.len(), AT_ONCE, |at| {
        if has_failed.load(Ordering::Relaxed) {
            return;
        }
        let (digest, size) = in_order[at];
        let own = AtomicU64::new(0);
        let tell = |count: u64| {
            // What is sent again does not count again.
            let before = own.fetch_add(count, Ordering::Relaxed);
            let counts = (before + count).min(size) - before.min(size);
            (transfer.progress)(gone.fetch_add(counts, Ordering::Relaxed) + counts, total);
        };
        let arrived = target.put_blob(transfer.store, (digest, size), (is_missing, mount(&digest)), &tell);
        tell(size);
        has_failed.fetch_or(arrived.is_err(), Ordering::Relaxed);
        done.lock().unwrap_or_else(PoisonError::into_inner).push(arrived.map(|arrival| (arrival, size)));
    });
    for arrived in done.into_inner().unwrap_or_else(PoisonError::into_inner) {
        let (arrival, size) = arrived?;
        match arrival {
            Arrival::Known => pushed.known += size,
            Arrival::Mounted => pushed.mounted += size,
            Arrival::Sent => pushed.sent += size,
        }
    }
    Ok(())
}
