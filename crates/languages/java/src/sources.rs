//! The files that a module is compiled from.

use model::{Result, in_folder};
use source::SourceTree;

/// Their paths and texts; `folder` is that of the module.
pub(crate) fn texts(tree: &SourceTree, folder: &str) -> Result<Vec<(String, String)>> {
    let sources = in_folder(folder, "src/main/java/");
    let paths = tree.files().keys().filter(|path| path.starts_with(&sources));
    paths.map(|path| Ok((path.clone(), tree.read(path)?.unwrap_or_default()))).collect()
}
