//! OCI image layout: a folder (or a tar archive of it) with `oci-layout`, `index.json` and `blobs/`.

use super::documents::{Descriptor, Index, Manifest, media};
use crate::digest::BlobDigest;
use crate::error::{ContentError, PathContext, Result};
use crate::layer::{Entry, TarWriter};
use crate::store::Store;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufWriter, Read, Write};
use std::path::{Path, PathBuf};

/// The whole content of the file `oci-layout`.
const LAYOUT: &[u8] = br#"{"imageLayoutVersion":"1.0.0"}"#;

/// Whether a layout can be written to `folder`: it does not exist, is empty, or is a layout already.
pub fn may_become_layout(folder: &Path) -> bool {
    let is_empty = || fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_none());
    !folder.exists() || folder.join("oci-layout").exists() || is_empty()
}

/// Writes the image with index `index` as a layout folder; all or nothing.
///
/// The folder must be one that [`may_become_layout`]; an older layout is replaced.
pub fn write_layout(store: &Store, index: BlobDigest, to: &Path) -> Result<()> {
    let old = to.exists();
    let parent = match to.parent() {
        Some(parent) if parent != Path::new("") => parent,
        _ => Path::new("."),
    };
    fs::create_dir_all(parent).at(parent)?;
    let name = to.file_name().unwrap_or_default().to_string_lossy();
    let fresh = parent.join(format!(".{name}.{}", std::process::id()));
    let written = fill_layout(store, index, &fresh);
    if let Err(error) = written {
        crate::store::remove_tree(&fresh);
        return Err(error);
    }
    if old {
        fs::remove_dir_all(to).at(to)?;
    }
    fs::rename(&fresh, to).at(to)
}

fn fill_layout(store: &Store, index: BlobDigest, folder: &Path) -> Result<()> {
    let blobs = folder.join("blobs/sha256");
    fs::create_dir_all(&blobs).at(&blobs)?;
    for digest in blobs_of(store, index)? {
        let (from, to) = (store.blob_path(digest), blobs.join(digest.hex()));
        fs::copy(&from, &to).at(&to)?;
    }
    let index_file = folder.join("index.json");
    fs::write(&index_file, store.read_blob(index)?).at(&index_file)?;
    let layout = folder.join("oci-layout");
    fs::write(&layout, LAYOUT).at(&layout)
}

/// Writes the image as a tar archive of its layout; all or nothing.
pub fn write_archive(store: &Store, index: BlobDigest, to: &Path) -> Result<()> {
    let name = to.file_name().unwrap_or_default().to_string_lossy();
    let fresh = to.with_file_name(format!(".{name}.{}", std::process::id()));
    let written = fill_archive(store, index, &fresh);
    if written.is_err() {
        // The error of the writing is the one to tell.
        let _ = fs::remove_file(&fresh);
    }
    written?;
    fs::rename(&fresh, to).at(to)
}

fn fill_archive(store: &Store, index: BlobDigest, path: &Path) -> Result<()> {
    let file = BufWriter::new(File::create(path).at(path)?);
    let mut tar = TarWriter::new(file);
    let small = |name: &str, bytes: &[u8], tar: &mut TarWriter<BufWriter<File>>| {
        tar.file(&Entry::file(name, bytes.len() as u64, false), &mut &*bytes).at(path)
    };
    small("oci-layout", LAYOUT, &mut tar)?;
    small("index.json", &store.read_blob(index)?, &mut tar)?;
    tar.entry(&Entry::folder("blobs")).at(path)?;
    tar.entry(&Entry::folder("blobs/sha256")).at(path)?;
    for digest in blobs_of(store, index)? {
        let from = store.blob_path(digest);
        let mut blob = File::open(&from).at(&from)?;
        let size = blob.metadata().at(&from)?.len();
        tar.file(&Entry::file(format!("blobs/sha256/{}", digest.hex()), size, false), &mut blob).at(path)?;
    }
    let mut file = tar.into_inner();
    file.write_all(&[0; 1024]).at(path)?;
    let file = file.into_inner().map_err(io::IntoInnerError::into_error).at(path)?;
    file.sync_data().at(path)
}

/// All blobs of an image in a fixed order: by digest, the index first of all.
fn blobs_of(store: &Store, index: BlobDigest) -> Result<Vec<BlobDigest>> {
    let mut found = BTreeMap::new();
    let list: Index = parse("image index", &store.read_blob(index)?)?;
    for manifest in &list.manifests {
        found.insert(manifest.digest, ());
        let document: Manifest = parse("image manifest", &store.read_blob(manifest.digest)?)?;
        let parts = document.layers.iter().chain([&document.config]);
        found.extend(parts.map(|d| (d.digest, ())));
    }
    Ok(std::iter::once(index).chain(found.into_keys().filter(|d| *d != index)).collect())
}

/// Takes a layout folder into the store: every blob is checked on the way. Gives the index digest.
pub fn read_layout(store: &Store, folder: &Path) -> Result<BlobDigest> {
    let layout = folder.join("oci-layout");
    fs::metadata(&layout).at(&layout)?;
    let index_file = folder.join("index.json");
    let bytes = fs::read(&index_file).at(&index_file)?;
    let index: Index = parse("index.json", &bytes)?;
    for manifest in index.manifests.iter().filter(|m| m.media_type == media::MANIFEST) {
        let bytes = take_in(store, folder, manifest)?;
        let document: Manifest = parse("image manifest", &bytes)?;
        take_in(store, folder, &document.config)?;
        for layer in &document.layers {
            take_in_layer(store, folder, layer)?;
        }
    }
    store.put_blob(&bytes)
}

fn blob_in(folder: &Path, descriptor: &Descriptor) -> PathBuf {
    folder.join("blobs/sha256").join(descriptor.digest.hex())
}

fn take_in(store: &Store, folder: &Path, descriptor: &Descriptor) -> Result<Vec<u8>> {
    let path = blob_in(folder, descriptor);
    let bytes = fs::read(&path).at(&path)?;
    let found = store.put_blob(&bytes)?;
    if found == descriptor.digest {
        return Ok(bytes);
    }
    Err(ContentError::DigestMismatch {
        what: path.display().to_string(),
        expected: descriptor.digest.to_string(),
        found: found.to_string(),
    })
}

fn take_in_layer(store: &Store, folder: &Path, layer: &Descriptor) -> Result<()> {
    if store.blob_size(layer.digest) == Some(layer.size) {
        return Ok(());
    }
    let path = blob_in(folder, layer);
    let mut from = File::open(&path).at(&path)?;
    let mut file = store.temporary_file()?;
    io::copy(&mut from, &mut file).at(&path)?;
    file.publish(&store.blob_path(layer.digest))?;
    let checked = store.verify_blob(layer.digest);
    if checked.is_err() {
        // A blob under a wrong name must not stay.
        let _ = fs::remove_file(store.blob_path(layer.digest));
    }
    checked
}

/// Unpacks an archive of a layout into the empty folder `into`; blobs are checked by [`read_layout`].
pub fn unpack_archive(archive: &Path, into: &Path) -> Result<()> {
    let mut from = tar::Archive::new(File::open(archive).at(archive)?);
    let blobs = into.join("blobs/sha256");
    fs::create_dir_all(&blobs).at(&blobs)?;
    let malformed = |detail: String| ContentError::Malformed { what: archive.display().to_string(), detail };
    let unreadable = |e: io::Error| malformed(format!("it is no whole tar archive ({e})"));
    for entry in from.entries().map_err(unreadable)? {
        let mut entry = entry.map_err(unreadable)?;
        if !entry.header().entry_type().is_file() {
            continue;
        }
        let name = entry.path().map_err(unreadable)?.to_string_lossy().into_owned();
        let name = name.trim_start_matches("./");
        let hex = name.strip_prefix("blobs/sha256/");
        let expected = match hex {
            Some(hex) => hex.len() == 64 && hex.bytes().all(|b| b.is_ascii_hexdigit()),
            None => matches!(name, "oci-layout" | "index.json"),
        };
        // Some programs put documents of other formats beside a layout.
        if !expected {
            continue;
        }
        let path = into.join(name);
        let mut bytes = File::create(&path).at(&path)?;
        io::copy(&mut entry.by_ref(), &mut bytes).at(archive)?;
    }
    Ok(())
}

fn parse<T: serde::de::DeserializeOwned>(what: &str, bytes: &[u8]) -> Result<T> {
    serde_json::from_slice(bytes)
        .map_err(|e| ContentError::Malformed { what: what.to_owned(), detail: e.to_string() })
}
