//! The documents of the finished image: one manifest a process type, all sharing their layers.

use crate::plan::PORT_VARIABLE;
use crate::record::Record;
use content::image::{
    Config, Descriptor, History, Index, Manifest, Platform, RootFs, RunConfig, media, to_json,
};
use content::store::Store;
use content::{BlobDigest, ContentError};
use model::labels;
use model::{ProcessType, Result};
use std::collections::BTreeMap;

/// The working folder of every process.
pub(crate) const WORKING_FOLDER: &str = "/app";

/// What goes into the documents besides the record.
pub struct Documents<'a> {
    /// The record.
    pub record: &'a Record,
    /// Environment of every process, without settings.
    pub env: &'a BTreeMap<String, String>,
    /// What the image of each process type starts.
    pub entrypoints: &'a BTreeMap<String, Vec<String>>,
    /// The tag of the default process type.
    pub tag: &'a str,
    /// Creation time (RFC 3339).
    pub created: &'a str,
}

/// Writes the documents into the store; gives the digest of the index over all process types.
///
/// In the index, the default process type (the first one) has the plain tag, the others
/// `<tag>-<type>`.
pub fn write(store: &Store, documents: &Documents<'_>) -> Result<BlobDigest> {
    let record = documents.record;
    let label = String::from_utf8_lossy(&to_json(record)?).into_owned();
    let mut manifests = Vec::new();
    for (number, process) in record.processes.iter().enumerate() {
        let config = to_json(&config(documents, process, &label))?;
        store.put_blob(&config)?;
        let manifest = Manifest {
            schema_version: 2,
            media_type: media::MANIFEST.to_owned(),
            config: Descriptor::of(media::CONFIG, &config),
            layers: record.layers.iter().map(|l| l.descriptor()).collect(),
            annotations: annotations(documents, process),
        };
        let manifest = to_json(&manifest)?;
        store.put_blob(&manifest)?;
        let tag = if number == 0 {
            documents.tag.to_owned()
        } else {
            format!("{}-{}", documents.tag, process.name)
        };
        let mut descriptor = Descriptor::of(media::MANIFEST, &manifest);
        descriptor.platform = Some(platform(record));
        descriptor.annotations.insert(media::REF_NAME.to_owned(), tag);
        descriptor.annotations.insert(labels::PROCESS.to_owned(), process.name.clone());
        manifests.push(descriptor);
    }
    let index = Index {
        schema_version: 2,
        media_type: media::INDEX.to_owned(),
        manifests,
        annotations: BTreeMap::from([(media::TITLE.to_owned(), record.name.clone())]),
    };
    Ok(store.put_blob(&to_json(&index)?)?)
}

/// Joins the indexes of one image for several platforms; gives the digest of the index of all. The default process type is
/// first, for each platform in their order, then come the others: who takes the first that fits gets the default one.
pub fn join(store: &Store, indexes: &[BlobDigest]) -> Result<BlobDigest> {
    let read = |digest: &BlobDigest| -> Result<Index> {
        let parsed = serde_json::from_slice(&store.read_blob(*digest)?);
        Ok(parsed.map_err(|error| ContentError::Malformed {
            what: "image index".to_owned(),
            detail: error.to_string(),
        })?)
    };
    let all: Vec<Index> = indexes.iter().map(read).collect::<Result<_>>()?;
    let types = all.iter().map(|index| index.manifests.len()).max().unwrap_or_default();
    let in_order =
        (0..types).flat_map(|number| all.iter().filter_map(move |index| index.manifests.get(number)));
    let annotations = all.iter().flat_map(|index| index.annotations.clone()).collect();
    let joined = Index {
        schema_version: 2,
        media_type: media::INDEX.to_owned(),
        manifests: in_order.cloned().collect(),
        annotations,
    };
    Ok(store.put_blob(&to_json(&joined)?)?)
}

/// A folder of the app in the image; a dot is all of it.
pub fn inside_app(folder: &str) -> String {
    if matches!(folder, "." | "") { WORKING_FOLDER.to_owned() } else { format!("{WORKING_FOLDER}/{folder}") }
}

fn platform(record: &Record) -> Platform {
    let (os, architecture) = record.platform.split_once('/').unwrap_or(("linux", &record.platform));
    Platform { architecture: architecture.to_owned(), os: os.to_owned() }
}

fn annotations(documents: &Documents<'_>, process: &ProcessType) -> BTreeMap<String, String> {
    BTreeMap::from([
        (media::TITLE.to_owned(), documents.record.name.clone()),
        (media::CREATED.to_owned(), documents.created.to_owned()),
        (labels::PROCESS.to_owned(), process.name.clone()),
    ])
}

fn config(documents: &Documents<'_>, process: &ProcessType, record_label: &str) -> Config {
    let record = documents.record;
    let Platform { architecture, os } = platform(record);
    let mut env = documents.env.clone();
    let values = record.settings.iter().filter_map(|(name, rule)| Some((name.clone(), rule.value.clone()?)));
    env.extend(values);
    env.extend(process.env.clone());
    if let Some(port) = process.port {
        env.insert(PORT_VARIABLE.to_owned(), port.to_string());
    }
    let user = model::places::APP_USER;
    Config {
        created: documents.created.to_owned(),
        architecture,
        os,
        config: RunConfig {
            user: format!("{}:{}", user.uid, user.gid),
            exposed_ports: process.port.map(|p| (format!("{p}/tcp"), BTreeMap::new())).into_iter().collect(),
            volumes: process.writable.iter().map(|folder| (inside_app(folder), BTreeMap::new())).collect(),
            env: env.into_iter().map(|(k, v)| format!("{k}={v}")).collect(),
            entrypoint: documents.entrypoints.get(&process.name).unwrap_or(&process.command).clone(),
            working_dir: inside_app(&process.folder),
            labels: BTreeMap::from([
                (media::TITLE.to_owned(), record.name.clone()),
                (labels::PROCESS.to_owned(), process.name.clone()),
                (labels::RECORD.to_owned(), record_label.to_owned()),
            ]),
            stop_signal: "SIGTERM".to_owned(),
        },
        rootfs: RootFs {
            kind: "layers".to_owned(),
            diff_ids: record.layers.iter().map(|l| l.diff_id).collect(),
        },
        history: record
            .layers
            .iter()
            .map(|l| History {
                created: documents.created.to_owned(),
                created_by: format!("shtetl: {}", l.step),
            })
            .collect(),
    }
}
