//! What the layers of an image come to: which paths there are, and the few texts that tell of runtimes.

use crate::image::layer::codec_of;
use crate::paths::Paths;
use content::error::PathContext;
use content::store::Store;
use model::error::PackageError;
use model::{Error, Result};
use remote::oci::Part;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read};
use tar::EntryType;

/// Texts are no longer than this, in bytes: a list of installed packages is the longest.
const LONGEST_TEXT: u64 = 16 << 20;

/// The paths of an image.
#[derive(Default)]
pub(super) struct View {
    paths: Paths,
    texts: BTreeMap<String, String>,
}

impl View {
    /// Lays another layer, which the store has, over those before.
    pub(super) fn add(&mut self, store: &Store, part: &Part) -> Result<()> {
        let path = store.blob_path(part.digest);
        let file = BufReader::new(File::open(&path).at(&path)?);
        let reader: Box<dyn Read> = match codec_of(part) {
            Some(codec) => codec.layer_reader(file).at(&path)?,
            None => Box::new(file),
        };
        let mut archive = tar::Archive::new(reader);
        let broken = |e: std::io::Error| {
            Error::Package(PackageError::Damaged {
                package: format!("layer {}", part.digest),
                detail: e.to_string(),
            })
        };
        for entry in archive.entries().map_err(broken)? {
            let mut entry = entry.map_err(broken)?;
            let path = entry.path().map_err(broken)?.to_string_lossy().into_owned();
            let path = path.trim_start_matches("./").trim_matches('/').to_owned();
            let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
            if let Some(gone) = name.strip_prefix(".wh.") {
                let below = if folder.is_empty() { String::new() } else { format!("{folder}/") };
                self.remove(&if gone == ".wh..opq" { below } else { format!("{below}{gone}") });
                continue;
            }
            let kind = entry.header().entry_type();
            if kind.is_file() && tells_of_runtimes(&path) {
                let mut text = Vec::new();
                entry.by_ref().take(LONGEST_TEXT).read_to_end(&mut text).map_err(broken)?;
                self.texts.insert(path.clone(), String::from_utf8_lossy(&text).into_owned());
            }
            let link = match kind {
                EntryType::Symlink => entry.link_name().map_err(broken)?,
                _ => None,
            };
            self.paths.add(path, link.map(|target| target.to_string_lossy().into_owned()));
        }
        Ok(())
    }

    /// Removes a path and what is below; of a folder with its slash only what is below.
    fn remove(&mut self, path: &str) {
        let below = format!("{}/", path.trim_end_matches('/'));
        let goes = |known: &str| known == path || known.starts_with(&below) || below == "/";
        self.paths.retain(|known| !goes(known));
        self.texts.retain(|known, _| !goes(known));
    }

    /// Where `path` leads, links followed; `None` when that is not there.
    pub(super) fn real(&self, path: &str) -> Option<String> {
        self.paths.real(path)
    }

    /// The texts whose paths begin and end so.
    pub(super) fn texts<'v>(
        &'v self,
        begin: &'v str,
        end: &'v str,
    ) -> impl Iterator<Item = (&'v str, &'v str)> {
        let texts = self.texts.iter().map(|(path, text)| (path.as_str(), text.as_str()));
        texts.filter(move |(path, _)| path.starts_with(begin) && path.ends_with(end))
    }
}

/// Whether the file says which version of a runtime there is, or which packages are installed.
fn tells_of_runtimes(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    matches!(name, "node_version.h" | "patchlevel.h" | "rbconfig.rb" | "php_version.h" | "release")
        || matches!(path, "var/lib/dpkg/status" | "lib/apk/db/installed" | "usr/lib/apk/db/installed")
}
