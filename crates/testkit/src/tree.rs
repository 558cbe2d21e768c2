//! Source trees of folders, for tests of buildpacks.

use content::store::Signature;
use source::{SourceTree, TreeFile, TreeKind};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// All files of a folder, by no rules.
pub fn tree_of(folder: &Path) -> SourceTree {
    let mut files = BTreeMap::new();
    let mut pending = vec![folder.to_owned()];
    while let Some(next) = pending.pop() {
        for entry in fs::read_dir(&next).expect("a folder of the test") {
            let path = entry.expect("a folder of the test").path();
            let facts = fs::metadata(&path).expect("a folder of the test");
            if facts.is_dir() {
                pending.push(path);
                continue;
            }
            let name = path.strip_prefix(folder).expect("a folder of the test").display().to_string();
            let kind = TreeKind::File { size: facts.len(), executable: false };
            files.insert(name, TreeFile { kind, signature: Signature::of(&facts) });
        }
    }
    SourceTree::new(folder.to_owned(), files)
}
