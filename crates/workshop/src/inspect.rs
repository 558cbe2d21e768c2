//! Finds images and reads their documents.

use model::error::RunError;
use model::folder::entries;
use model::labels;
use model::platform::own_platform;
use model::{Error, Result, names};

use crate::ledger;
use crate::record::Record;
use content::image::{Config, Index, Manifest, media, read_layout, unpack_archive, unpack_stream};
use content::store::Store;
use content::{BlobDigest, ContentError};
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;

/// The default tag.
pub const DEFAULT_TAG: &str = "latest";

/// An image of this tool, opened for one platform: this machine's, where it has that.
#[derive(Debug, Clone)]
pub struct OpenImage {
    /// How it was named.
    pub label: String,
    /// Digest of the index.
    pub digest: BlobDigest,
    /// The index.
    pub index: Index,
    /// One for each process type, the default one first.
    pub variants: Vec<ProcessImage>,
    /// How it came about.
    pub record: Record,
    /// The same for its other platforms.
    pub others: Vec<PlatformImage>,
}

/// What there is of an image for one platform.
#[derive(Debug, Clone)]
pub struct PlatformImage {
    /// One for each process type, the default one first.
    pub variants: Vec<ProcessImage>,
    /// How it came about.
    pub record: Record,
}

/// The image of one process type.
#[derive(Debug, Clone)]
pub struct ProcessImage {
    /// The process type.
    pub process: String,
    /// Its tag.
    pub tag: String,
    /// Digest of its manifest.
    pub digest: BlobDigest,
    /// The manifest.
    pub manifest: Manifest,
    /// The configuration.
    pub config: Config,
}

/// Opens what `text` means: a layout folder, an archive file, a name with an optional tag, or a build of the ledger
/// (`timetable#12`).
/// Layouts and archives are taken into the store, all digests checked.
pub fn open(store: &Store, text: &str) -> Result<OpenImage> {
    let path = Path::new(text);
    if path.join("oci-layout").is_file() {
        return open_index(store, text, read_layout(store, path)?);
    }
    if path.is_file() {
        let folder = store.temporary_folder()?;
        unpack_archive(path, &folder)?;
        return open_index(store, text, read_layout(store, &folder)?);
    }
    if let Some((app, number)) = text.split_once('#') {
        let number_of = || number.parse().ok().filter(|_| names::check("app", app).is_ok());
        let build = number_of().and_then(|number| ledger::entry(store, app, number));
        let digest = build.and_then(|build| build.digest).filter(|digest| store.blob_size(*digest).is_some());
        let missing = || Error::Run(RunError::NoBuild { name: app.to_owned(), number: number.to_owned() });
        return open_index(store, text, digest.ok_or_else(missing)?);
    }
    let (name, tag) = text.split_once(':').unwrap_or((text, DEFAULT_TAG));
    let valid = names::check("app", name).is_ok() && names::check_tag(tag).is_ok();
    let digest =
        valid.then(|| store.read_document::<BlobDigest>(&store.image_path(name, tag)).whole()).flatten();
    match digest {
        Some(digest) => open_index(store, &format!("{name}:{tag}"), digest),
        None => Err(Error::Run(RunError::NoImage { name: text.to_owned(), known: all(store)? })),
    }
}

/// Opens the archive that is read; `label` is what it is called.
pub fn open_stream(store: &Store, label: &str, from: &mut dyn Read) -> Result<OpenImage> {
    let folder = store.temporary_folder()?;
    unpack_stream(from, Path::new(label), &folder)?;
    open_index(store, label, read_layout(store, &folder)?)
}

/// The tag in what an image is called; the default one for a layout or an archive.
pub fn tag_of(text: &str) -> &str {
    // Of an image in a registry, what is before the last slash may have a colon, too.
    match text.rsplit('/').next().unwrap_or(text).split_once(':') {
        Some((_, tag)) if names::check_tag(tag).is_ok() => tag,
        _ => DEFAULT_TAG,
    }
}

/// Names with tags of all images in the store, in order.
pub fn all(store: &Store) -> Result<Vec<String>> {
    let mut found = Vec::new();
    for app in entries(&store.root().join("images"))? {
        for tag in entries(&app)? {
            let name = |path: &Path| Some(path.file_name()?.to_str()?.to_owned());
            found.extend(name(&app).zip(name(&tag)).map(|(app, tag)| format!("{app}:{tag}")));
        }
    }
    Ok(found)
}

/// Opens the image with this index, which is in the store.
pub fn open_index(store: &Store, label: &str, digest: BlobDigest) -> Result<OpenImage> {
    let index: Index = document(store, "image index", digest)?;
    let mut variants: BTreeMap<String, Vec<ProcessImage>> = BTreeMap::new();
    for descriptor in index.manifests.iter().filter(|d| d.media_type == media::MANIFEST) {
        let manifest: Manifest = document(store, "image manifest", descriptor.digest)?;
        let config: Config = document(store, "image configuration", manifest.config.digest)?;
        let labelled = config.config.labels.get(labels::PROCESS).cloned();
        let platform = format!("{}/{}", config.os, config.architecture);
        variants.entry(platform).or_default().push(ProcessImage {
            process: labelled.unwrap_or_default(),
            tag: descriptor.annotations.get(media::REF_NAME).cloned().unwrap_or_default(),
            digest: descriptor.digest,
            manifest,
            config,
        });
    }
    let of_platform = |variants: Vec<ProcessImage>| {
        let record = variants.first().and_then(|v| v.config.config.labels.get(labels::RECORD));
        let record = record.and_then(|text| serde_json::from_str(text).ok());
        let record = record.ok_or_else(|| RunError::NoRecord { image: label.to_owned() })?;
        Ok::<_, Error>(PlatformImage { variants, record })
    };
    let all: Result<BTreeMap<String, PlatformImage>> =
        variants.into_iter().map(|(platform, variants)| Ok((platform, of_platform(variants)?))).collect();
    let mut all = all?;
    let chosen = all.remove(&own_platform()).or_else(|| all.pop_first().map(|(_, first)| first));
    let Some(PlatformImage { variants, record }) = chosen else {
        return Err(Error::Run(RunError::NoRecord { image: label.to_owned() }));
    };
    let others = all.into_values().collect();
    Ok(OpenImage { label: label.to_owned(), digest, index, variants, record, others })
}

fn document<T: DeserializeOwned>(store: &Store, what: &str, digest: BlobDigest) -> Result<T> {
    let bytes = store.read_blob(digest)?;
    let malformed =
        |e: serde_json::Error| ContentError::Malformed { what: what.to_owned(), detail: e.to_string() };
    Ok(serde_json::from_slice(&bytes).map_err(malformed)?)
}

impl OpenImage {
    /// The image for each of its platforms, that of the opened one first.
    pub fn platforms(&self) -> Vec<Self> {
        let others = self.others.iter().cloned();
        let other = |PlatformImage { variants, record }| Self { variants, record, ..self.alone() };
        std::iter::once(self.alone()).chain(others.map(other)).collect()
    }

    /// The image for the opened platform alone.
    fn alone(&self) -> Self {
        Self { others: Vec::new(), ..self.clone() }
    }

    /// The images of all process types on all platforms.
    pub fn all_variants(&self) -> impl Iterator<Item = &ProcessImage> {
        self.variants.iter().chain(self.others.iter().flat_map(|other| &other.variants))
    }

    /// The records for all platforms.
    pub fn records(&self) -> impl Iterator<Item = &Record> {
        std::iter::once(&self.record).chain(self.others.iter().map(|other| &other.record))
    }

    /// The image of a process type; the default one when none is named.
    pub fn variant(&self, process: Option<&str>) -> Result<&ProcessImage> {
        let found = match process {
            None => self.variants.first(),
            Some(name) => self.variants.iter().find(|v| v.process == name),
        };
        found.ok_or_else(|| {
            Error::Run(RunError::NoSuchProcess {
                name: process.unwrap_or_default().to_owned(),
                known: self.variants.iter().map(|v| v.process.clone()).collect(),
            })
        })
    }
}
