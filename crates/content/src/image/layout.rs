//! OCI image layout: a folder (or a tar archive of it) with `oci-layout`, `index.json` and `blobs/`.

use super::documents::{Descriptor, Index, Manifest, media, to_json};
use crate::digest::{BlobDigest, HashingReader, HashingWriter};
use crate::error::{ContentError, PathContext, Result};
use crate::layer::{Entry, TarWriter};
use crate::store::{Lock, Store};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{self, BufWriter, Read, Write};
use std::path::{Path, PathBuf};

/// The whole content of the file `oci-layout`.
const LAYOUT: &[u8] = br#"{"imageLayoutVersion":"1.0.0"}"#;

/// Names of the parts of a layout.
const LAYOUT_FILE: &str = "oci-layout";
const INDEX_FILE: &str = "index.json";
const BLOBS: &str = "blobs/sha256";
/// The manifest of archives before there were layouts.
const OLDER_MANIFEST: &str = "manifest.json";
/// What is added to the name of a file that is being written.
const UNFINISHED: &str = ".new";

/// Whether a layout can be written to `folder`: it does not exist, is empty, or is a layout already, be it one whose writing
/// ended at its first file.
pub fn may_become_layout(folder: &Path) -> bool {
    let first = format!("{LAYOUT_FILE}{UNFINISHED}");
    let is_empty = || {
        let entries = fs::read_dir(folder);
        entries.is_ok_and(|entries| entries.flatten().all(|entry| entry.file_name() == *first))
    };
    !folder.exists() || folder.join(LAYOUT_FILE).exists() || is_empty()
}

/// Writes the image with index `index` as a layout folder.
///
/// The folder must be one that [`may_become_layout`]. In an older layout, the blobs of its index that the new
/// one does not have are removed; nothing else in the folder is touched. Blobs come first and the index last, by
/// renaming, so that a reader sees the old image or the new one. Writers take turns.
pub fn write_layout(store: &Store, index: BlobDigest, to: &Path) -> Result<()> {
    let blobs = to.join(BLOBS);
    fs::create_dir_all(to).at(to)?;
    let _turn = Lock::of_folder(to)?;
    // From here on, an interrupted layout is known as one.
    replace(&to.join(LAYOUT_FILE), |file| file.write_all(LAYOUT))?;
    fs::create_dir_all(&blobs).at(&blobs)?;
    sync_names(to)?;
    let new = blobs_of(store, index)?;
    let old = blobs_in_layout(to);
    for digest in &new {
        let path = blobs.join(digest.hex());
        let mut unreadable = None;
        replace(&path, |file| {
            let mut to = Noting { to: file, failed: None };
            let copied = store.copy_blob(*digest, &mut to);
            copied.map(drop).map_err(|error| {
                // What cannot be written is told of the layout, everything else of the store.
                let failed = to.failed.take();
                failed.unwrap_or_else(|| {
                    unreadable = Some(error);
                    io::Error::other("the blob cannot be read")
                })
            })
        })
        .map_err(|error| unreadable.take().unwrap_or(error))?;
    }
    let Top { document, nested } = Top::of(store, index)?;
    for bytes in &nested {
        replace(&blobs.join(BlobDigest::of(bytes).hex()), |file| file.write_all(bytes))?;
    }
    let new: BTreeSet<BlobDigest> =
        new.into_iter().chain(nested.iter().map(|bytes| BlobDigest::of(bytes))).collect();
    // No index without its blobs, after a loss of power too.
    sync_names(&blobs)?;
    replace(&to.join(INDEX_FILE), |file| file.write_all(&document))?;
    sync_names(to)?;
    for digest in old.into_iter().filter(|digest| !new.contains(digest)) {
        // What stays is a file too many, and nothing else.
        let _ = fs::remove_file(blobs.join(digest.hex()));
    }
    Ok(())
}

/// Notes why it could not write.
struct Noting<W> {
    to: W,
    failed: Option<io::Error>,
}

impl<W: Write> Write for Noting<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.to.write(bytes).map_err(|error| {
            let kind = error.kind();
            self.failed = Some(error);
            kind.into()
        })
    }

    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}

/// Writes a file beside its place and renames it there; a leftover of an interrupted try is overwritten.
fn replace(path: &Path, write: impl FnOnce(&mut File) -> io::Result<()>) -> Result<()> {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(UNFINISHED);
    let fresh = path.with_file_name(name);
    let mut file = File::create(&fresh).at(&fresh)?;
    let written = write(&mut file).and_then(|()| file.sync_data());
    if let Err(error) = written {
        // The error of the writing is the one to report.
        let _ = fs::remove_file(&fresh);
        return Err(error).at(path);
    }
    fs::rename(&fresh, path).at(path)
}

/// Makes the names in a folder durable, where its file system can.
fn sync_names(folder: &Path) -> Result<()> {
    match File::open(folder).and_then(|folder| folder.sync_all()) {
        Err(error) if matches!(error.kind(), io::ErrorKind::InvalidInput | io::ErrorKind::Unsupported) => {
            Ok(())
        }
        done => done.at(folder),
    }
}

/// The blobs that the index of a layout leads to, as far as it can be read.
fn blobs_in_layout(folder: &Path) -> BTreeSet<BlobDigest> {
    fn read<T: serde::de::DeserializeOwned>(path: &Path) -> Option<T> {
        serde_json::from_slice(&fs::read(path).ok()?).ok()
    }
    let blob = |digest: BlobDigest| folder.join(BLOBS).join(digest.hex());
    let mut found = BTreeSet::new();
    let Ok(bytes) = fs::read(folder.join(INDEX_FILE)) else { return found };
    found.insert(BlobDigest::of(&bytes));
    let index = serde_json::from_slice::<Index>(&bytes).ok();
    let mut listed = index.map(|index| index.manifests).unwrap_or_default();
    for nested in listed.clone().iter().filter(|one| one.media_type == media::INDEX) {
        found.insert(nested.digest);
        listed.extend(read::<Index>(&blob(nested.digest)).into_iter().flat_map(|index| index.manifests));
    }
    for descriptor in listed {
        found.insert(descriptor.digest);
        let Some(manifest) = read::<Manifest>(&blob(descriptor.digest)) else { continue };
        found.extend(manifest.layers.iter().chain([&manifest.config]).map(|part| part.digest));
    }
    found
}

/// What stands at the top of a layout.
struct Top {
    /// The file `index.json`.
    document: Vec<u8>,
    /// Indexes that it names and that are no blobs of the image: those of tags.
    nested: Vec<Vec<u8>>,
}

impl Top {
    /// Of an image for one platform, its index; of one for several, a list of an index for each tag, so that each tag is
    /// once, and clients choose by platform.
    fn of(store: &Store, index: BlobDigest) -> Result<Self> {
        let bytes = store.read_blob(index)?;
        let whole: Index = parse("image index", &bytes)?;
        let tagged = whole.by_tag();
        if tagged.iter().all(|(_, index)| index.manifests.len() == 1) {
            return Ok(Self { document: bytes, nested: Vec::new() });
        }
        let mut top = Index { manifests: Vec::new(), ..whole.clone() };
        let mut nested = Vec::new();
        for (number, (tag, index)) in tagged.into_iter().enumerate() {
            let bytes = if number == 0 { bytes.clone() } else { to_json(&index)? };
            let mut descriptor = Descriptor::of(media::INDEX, &bytes);
            descriptor.annotations.insert(media::REF_NAME.to_owned(), tag);
            top.manifests.push(descriptor);
            nested.push(bytes);
        }
        Ok(Self { document: to_json(&top)?, nested })
    }
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
    let mut file = BufWriter::new(File::create(path).at(path)?);
    stream_archive(store, index, &mut file, path)?;
    let file = file.into_inner().map_err(io::IntoInnerError::into_error).at(path)?;
    file.sync_data().at(path)
}

/// Writes the image as a tar archive of its layout, and the manifest of older programs beside that; `path` is what errors
/// call it. What has been written before an error is no whole archive.
pub fn stream_archive(store: &Store, index: BlobDigest, to: &mut dyn Write, path: &Path) -> Result<()> {
    let mut tar = TarWriter::new(to);
    let small = |name: &str, bytes: &[u8], tar: &mut TarWriter<&mut dyn Write>| {
        tar.file(&Entry::file(name, bytes.len() as u64, false), &mut &*bytes).at(path)
    };
    let Top { document, nested } = Top::of(store, index)?;
    small(LAYOUT_FILE, LAYOUT, &mut tar)?;
    small(INDEX_FILE, &document, &mut tar)?;
    small(OLDER_MANIFEST, &older_manifest(store, &store.read_blob(index)?)?, &mut tar)?;
    tar.entry(&Entry::folder("blobs")).at(path)?;
    tar.entry(&Entry::folder("blobs/sha256")).at(path)?;
    let blobs = blobs_of(store, index)?;
    for bytes in nested.iter().filter(|bytes| !blobs.contains(&BlobDigest::of(bytes))) {
        small(&format!("{BLOBS}/{}", BlobDigest::of(bytes).hex()), bytes, &mut tar)?;
    }
    for digest in blobs {
        let from = store.blob_path(digest);
        let blob = File::open(&from).at(&from)?;
        let size = blob.metadata().at(&from)?.len();
        let mut blob = HashingReader::new(blob);
        tar.file(&Entry::file(format!("{BLOBS}/{}", digest.hex()), size, false), &mut blob).at(path)?;
        if blob.finish() != digest.0 {
            return Err(store.damaged_blob(digest));
        }
    }
    let to = tar.into_inner();
    to.write_all(&[0; 1024]).and_then(|()| to.flush()).at(path)
}

/// What programs read that do not know layouts: each image with its configuration, its name, and its layers.
fn older_manifest(store: &Store, index: &[u8]) -> Result<Vec<u8>> {
    let index: Index = parse("image index", index)?;
    let name = index.annotations.get(media::TITLE);
    let blob = |digest: BlobDigest| format!("{BLOBS}/{}", digest.hex());
    let mut images = Vec::new();
    // These programs know no platforms: they get the first one's.
    let platform = index.manifests.first().and_then(|first| first.platform.clone());
    for listed in index.manifests.iter().filter(|listed| listed.platform == platform) {
        let manifest: Manifest = parse("image manifest", &store.read_blob(listed.digest)?)?;
        let tag = listed.annotations.get(media::REF_NAME);
        let names: Vec<String> =
            name.zip(tag).map(|(name, tag)| format!("{name}:{tag}")).into_iter().collect();
        images.push(serde_json::json!({
            "Config": blob(manifest.config.digest),
            "RepoTags": names,
            "Layers": manifest.layers.iter().map(|layer| blob(layer.digest)).collect::<Vec<_>>(),
        }));
    }
    to_json(&images)
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
    let layout = folder.join(LAYOUT_FILE);
    fs::metadata(&layout).at(&layout)?;
    let index_file = folder.join(INDEX_FILE);
    let bytes = fs::read(&index_file).at(&index_file)?;
    let mut bytes = bytes;
    let mut index: Index = parse("index.json", &bytes)?;
    if let Some(whole) = index.manifests.first().filter(|first| first.media_type == media::INDEX) {
        // An index for each tag: the first has everything.
        bytes = take_in(store, folder, whole)?;
        index = parse("image index", &bytes)?;
    }
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
    folder.join(BLOBS).join(descriptor.digest.hex())
}

fn take_in(store: &Store, folder: &Path, descriptor: &Descriptor) -> Result<Vec<u8>> {
    let path = blob_in(folder, descriptor);
    let bytes = fs::read(&path).at(&path)?;
    let found = BlobDigest::of(&bytes);
    if found == descriptor.digest {
        store.put_blob(&bytes)?;
        return Ok(bytes);
    }
    Err(ContentError::DigestMismatch {
        what: path.display().to_string(),
        expected: descriptor.digest.to_string(),
        found: found.to_string(),
    })
}

fn take_in_layer(store: &Store, folder: &Path, layer: &Descriptor) -> Result<()> {
    if store.has_verified(layer.digest, layer.size) {
        return Ok(());
    }
    let path = blob_in(folder, layer);
    let mut from = File::open(&path).at(&path)?;
    let mut to = HashingWriter::new(store.temporary_file()?);
    io::copy(&mut from, &mut to).at(&path)?;
    let (file, found) = to.finish();
    if found == layer.digest.0 {
        return store.publish_blob(file, layer.digest);
    }
    Err(ContentError::DigestMismatch {
        what: path.display().to_string(),
        expected: layer.digest.to_string(),
        found: BlobDigest(found).to_string(),
    })
}

/// Unpacks an archive of a layout into the empty folder `into`; blobs are checked by [`read_layout`].
pub fn unpack_archive(archive: &Path, into: &Path) -> Result<()> {
    unpack_stream(&mut File::open(archive).at(archive)?, archive, into)
}

/// The same from what is read; `archive` is what errors call it.
pub fn unpack_stream(from: &mut dyn Read, archive: &Path, into: &Path) -> Result<()> {
    let mut from = tar::Archive::new(from);
    let blobs = into.join(BLOBS);
    fs::create_dir_all(&blobs).at(&blobs)?;
    let malformed = |detail: String| ContentError::Malformed { what: archive.display().to_string(), detail };
    let unreadable = |e: io::Error| malformed(format!("it is not a complete tar archive ({e})"));
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
