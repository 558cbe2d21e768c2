//! Licences of modules, by the texts in their archives.

use crate::module_files::FOLDER;
use model::licence_text::{identifier, is_licence_file};
use remote::packages::go;
use std::fs::File;
use std::io::Read;
use std::path::Path;
use zip::ZipArchive;

/// The largest text that is read, in bytes.
const LARGEST: u64 = 1 << 20;

/// The licence of a module whose archive is laid out below `root`.
pub(super) fn of(root: &Path, module: &str, version: &str) -> Option<&'static str> {
    let file = File::open(root.join(FOLDER).join(go::path(module, version, "zip"))).ok()?;
    let mut archive = ZipArchive::new(file).ok()?;
    let inside = format!("{module}@{version}/");
    let is_one = |name: &&String| name.strip_prefix(&inside).is_some_and(is_licence_file);
    let names: Vec<String> = archive.file_names().filter_map(|name| Some(name.ok()?.into_owned())).collect();
    let name = names.iter().find(is_one)?;
    let mut text = Vec::new();
    archive.by_name(name).ok()?.take(LARGEST).read_to_end(&mut text).ok()?;
    identifier(&String::from_utf8_lossy(&text))
}
