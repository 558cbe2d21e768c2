//! Pulls an image of this tool from a registry into the store, everything checked.

use crate::push::{Transfer, told};
use crate::registry_places::RegistryPlaces;
use content::BlobDigest;
use content::image::{Index, media};
use engine::run_indexed;
use model::error::RegistryError;
use model::{Error, Result, names};
use remote::RemoteError;
use remote::oci::{ForeignManifest, ImageSource, Part, Reference};
use std::collections::BTreeMap;
use std::io::{self, Write};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};
use workshop::inspect::{self, OpenImage};
use workshop::record::LayerRecord;

/// How many blobs are pulled at once.
const AT_ONCE: usize = 6;
/// How many pieces of a blob may wait to be written.
const CHUNKS_WAITING: usize = 64;

/// An image that is in the store now.
#[derive(Debug)]
pub struct Pulled {
    /// The image.
    pub image: OpenImage,
    /// Bytes of blobs that were received.
    pub received: u64,
    /// Bytes of blobs that were in the store.
    pub known: u64,
}

/// Pulls an image, and gives it the name and tag in the store, which are checked.
pub fn pull(from: &Reference, (name, tag): (&str, &str), transfer: &Transfer<'_>) -> Result<Pulled> {
    names::check("app", name)?;
    names::check_tag(tag)?;
    let mut pulled = fetch(from, transfer)?;
    let store = transfer.store;
    store.write_document(&store.image_path(name, tag), &pulled.image.digest)?;
    pulled.image.label = format!("{name}:{tag}");
    Ok(pulled)
}

/// Pulls an image without giving it a name.
pub fn fetch(from: &Reference, transfer: &Transfer<'_>) -> Result<Pulled> {
    fetch_parts(from, transfer, true)
}

/// Pulls the documents of an image without its layers.
pub fn fetch_documents(from: &Reference, transfer: &Transfer<'_>) -> Result<OpenImage> {
    Ok(fetch_parts(from, transfer, false)?.image)
}

/// Pulls some layers of an image.
pub fn fetch_layers<'l>(
    from: &Reference,
    layers: impl Iterator<Item = &'l LayerRecord>,
    transfer: &Transfer<'_>,
) -> Result<()> {
    let source = ImageSource::registry(from.clone(), transfer.fetcher, transfer.credentials);
    let part = |layer: &LayerRecord| Part::new(layer.codec.media_type(), layer.digest, layer.size);
    let received = receive(layers.map(part).collect(), &source, transfer);
    received.map(drop).map_err(|source| told(from, transfer, source))
}

fn fetch_parts(from: &Reference, transfer: &Transfer<'_>, with_layers: bool) -> Result<Pulled> {
    let store = transfer.store;
    let at_registry = |source| told(from, transfer, source);
    let source = ImageSource::registry(from.clone(), transfer.fetcher, transfer.credentials);
    let (digest, bytes) = source.document().map_err(at_registry)?;
    let foreign = || Error::Registry(RegistryError::Foreign { image: from.to_string() });
    // Those of this tool are always lists.
    let index: Index = serde_json::from_slice(&bytes).map_err(|_| foreign())?;
    let mut blobs: BTreeMap<BlobDigest, Part> = BTreeMap::new();
    for listed in index.manifests.iter().filter(|listed| listed.media_type == media::MANIFEST) {
        let bytes = source.manifest(listed.digest).map_err(at_registry)?;
        let ForeignManifest { config, layers } = source.read_manifest(&bytes).map_err(at_registry)?;
        let layers = layers.into_iter().filter(|_| with_layers);
        blobs.extend(layers.chain([config]).map(|part| (part.digest, part)));
        store.put_blob(&bytes)?;
    }
    let (received, known) = receive(blobs.into_values().collect(), &source, transfer).map_err(at_registry)?;
    store.put_blob(&bytes)?;
    let image = inspect::open_index(store, &from.to_string(), digest).map_err(|error| match error {
        Error::Run(_) => foreign(),
        error => error,
    })?;
    let layers: Vec<BlobDigest> = image
        .records()
        .flat_map(|one| &one.layers)
        .filter(|_| with_layers)
        .map(|layer| layer.digest)
        .collect();
    RegistryPlaces::note(store, &from.host, &from.repository, &layers)?;
    Ok(Pulled { image, received, known })
}

/// Brings blobs into the store, several at once; gives how many bytes were received, and how many were there.
fn receive(
    parts: Vec<Part>,
    source: &ImageSource<'_>,
    transfer: &Transfer<'_>,
) -> Result<(u64, u64), RemoteError> {
    let store = transfer.store;
    let (missing, there): (Vec<_>, Vec<_>) =
        parts.into_iter().partition(|part| !store.has_verified(part.digest, part.size));
    let (known, total) =
        (there.iter().map(|part| part.size).sum(), missing.iter().map(|part| part.size).sum());
    let (gone, errors, has_failed) = (AtomicU64::new(0), Mutex::new(Vec::new()), AtomicBool::new(false));
    run_indexed(missing.len(), AT_ONCE, |at| {
        if has_failed.load(Ordering::Relaxed) {
            return;
        }
        let part = &missing[at];
        let tell = |count: u64| (transfer.progress)(gone.fetch_add(count, Ordering::Relaxed) + count, total);
        if let Err(error) = receive_one(part, source, transfer, &tell) {
            has_failed.store(true, Ordering::Relaxed);
            errors.lock().unwrap_or_else(PoisonError::into_inner).push(error);
        }
    });
    match errors.into_inner().unwrap_or_else(PoisonError::into_inner).into_iter().next() {
        Some(error) => Err(error),
        None => Ok((total, known)),
    }
}

fn receive_one(
    part: &Part,
    source: &ImageSource<'_>,
    transfer: &Transfer<'_>,
    tell: &dyn Fn(u64),
) -> Result<(), RemoteError> {
    let store = transfer.store;
    let in_store = |error: content::ContentError| RemoteError::Io {
        path: store.root().to_owned(),
        source: io::Error::other(error),
    };
    let mut file = store.temporary_file().map_err(in_store)?;
    let (sender, chunks) = sync_channel::<Vec<u8>>(CHUNKS_WAITING);
    // What arrives is hashed on this thread, and written on another one.
    let (received, written) = std::thread::scope(|scope| {
        let writer = scope.spawn(move || {
            chunks.into_iter().try_for_each(|chunk| file.write_all(&chunk))?;
            Ok::<_, io::Error>(file)
        });
        let received = source.blob(part, &mut Passing { sender, tell });
        (received, writer.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    });
    let file = written.map_err(|source| RemoteError::Io { path: store.root().to_owned(), source })?;
    // An error where the bytes are not the ones that were named.
    received?;
    store.publish_blob(file, part.digest).map_err(in_store)
}

/// Passes on what is written, and tells how much it was.
struct Passing<'a> {
    sender: SyncSender<Vec<u8>>,
    tell: &'a dyn Fn(u64),
}

impl Write for Passing<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.sender.send(bytes.to_vec()).map_err(|_| io::ErrorKind::BrokenPipe)?;
        (self.tell)(bytes.len() as u64);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
