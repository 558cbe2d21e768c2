//! Folders of unpacked files: put into the store once, and looked over before each use.
//!
//! Every entry is compared, by what the file system says of it, with what was there when the folder was made.

use super::Store;
use super::memo::Signature;
use crate::digest::{Hasher, InputDigest, Sha256};
use crate::error::{ContentError, PathContext, Result};
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

impl Store {
    /// The folder `name` under `trees/`, if it is as it was put there; one that is not is removed.
    fn tree(&self, name: &str) -> Option<PathBuf> {
        let path = self.tree_path(name);
        if !path.is_dir() {
            return None;
        }
        if self.is_whole_tree(name) {
            return Some(path);
        }
        self.note_damage(&path);
        super::remove_tree(&path);
        None
    }

    /// Whether the tree `name` is as it was put there; it stays as it is.
    pub fn is_whole_tree(&self, name: &str) -> bool {
        let expected = self.read_document::<InputDigest>(&self.listing_path(name)).whole();
        expected.is_some() && expected == look_over(&self.tree_path(name)).ok()
    }

    /// The tree `name`; where it is not there as it was put, `make` makes its files in a new folder of the store.
    pub fn tree_or<E: From<ContentError>>(
        &self,
        name: &str,
        make: impl FnOnce() -> Result<PathBuf, E>,
    ) -> Result<PathBuf, E> {
        let turn = Sha256::of(name.as_bytes()).hex();
        // Waits for the process that creates it.
        let _turn = self.lock(&format!("tree-{}", &turn[..2]))?;
        match self.tree(name) {
            Some(path) => Ok(path),
            None => Ok(self.put_tree(&make()?, name)?),
        }
    }

    fn put_tree(&self, fresh: &Path, name: &str) -> Result<PathBuf> {
        let path = self.tree_path(name);
        if path.exists() {
            super::remove_tree(&path);
        }
        fs::rename(fresh, &path).at(&path)?;
        // After the renaming, which the times of the folder itself may tell.
        self.write_document(&self.listing_path(name), &look_over(&path)?)?;
        Ok(path)
    }

    fn listing_path(&self, name: &str) -> PathBuf {
        self.tree_path(&format!("{name}.listing.json"))
    }
}

/// A digest over the names below a folder and what the file system says of each.
fn look_over(folder: &Path) -> Result<InputDigest> {
    let mut hasher = Hasher::new();
    let mut pending = vec![folder.to_owned()];
    while let Some(next) = pending.pop() {
        let mut entries: Vec<_> = fs::read_dir(&next).at(&next)?.collect::<std::io::Result<_>>().at(&next)?;
        entries.sort_by_key(fs::DirEntry::file_name);
        for entry in entries {
            let metadata = entry.metadata().at(entry.path())?;
            hasher.update(entry.file_name().as_bytes());
            hasher.update(b"\0");
            hasher.update(&Signature::of(&metadata).to_bytes());
            if metadata.is_dir() {
                pending.push(entry.path());
            }
        }
        hasher.update(b"\0");
    }
    Ok(InputDigest(hasher.finish()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    /// A store with the tree `t` of two files and a link.
    fn with_tree(label: &str) -> (PathBuf, Store) {
        let folder = std::env::temp_dir().join(format!("shtetl-trees-{label}-{}", std::process::id()));
        let store = Store::open(&folder).unwrap();
        let fresh = store.temporary_folder().unwrap();
        fs::create_dir(fresh.join("lib")).unwrap();
        fs::write(fresh.join("lib/fog.js"), "1").unwrap();
        fs::write(fresh.join("quay.js"), "2").unwrap();
        symlink("quay.js", fresh.join("link")).unwrap();
        store.put_tree(&fresh, "t").unwrap();
        (folder, store)
    }

    #[test]
    fn a_tree_that_anybody_touched_is_made_again() {
        type Change = fn(&Path);
        let changes: [(&str, Change); 6] = [
            ("content", |tree| fs::write(tree.join("lib/fog.js"), "9").unwrap()),
            ("more", |tree| fs::write(tree.join("lib/new.js"), "").unwrap()),
            ("gone", |tree| fs::remove_file(tree.join("quay.js")).unwrap()),
            ("link", |tree| {
                fs::remove_file(tree.join("link")).unwrap();
                symlink("lib/fog.js", tree.join("link")).unwrap();
            }),
            ("swapped", |tree| {
                fs::rename(tree.join("quay.js"), tree.join("x")).unwrap();
                fs::rename(tree.join("lib/fog.js"), tree.join("quay.js")).unwrap();
                fs::rename(tree.join("x"), tree.join("lib/fog.js")).unwrap();
            }),
            ("mode", |tree| {
                use std::os::unix::fs::PermissionsExt;
                fs::set_permissions(tree.join("quay.js"), fs::Permissions::from_mode(0o755)).unwrap();
            }),
        ];
        for (label, change) in changes {
            let (folder, store) = with_tree(label);
            assert!(store.tree("t").is_some());
            change(&store.tree_path("t"));
            assert_eq!(store.tree("t"), None, "{label}");
            assert!(!store.tree_path("t").exists() && !store.take_damage().is_empty());
            crate::store::remove_tree(&folder);
        }
    }
}
