//! The version of the store's folder layout. Entries carry format versions of their own in names and keys: a program that
//! writes a newer format makes new entries, and pruning removes the old ones. Only a change of the folders needs a new
//! version here.

use super::{Store, Stored};
use crate::error::{ContentError, Result};

/// The layout that this program knows; stores without the file have it, too.
const VERSION: u32 = 1;

/// An error where the store has a layout that only a newer program knows; the version is written down where it is not yet.
pub(super) fn settle(store: &Store) -> Result<()> {
    let path = store.root.join("version");
    match store.read_document::<u32>(&path) {
        Stored::Whole(version) if version > VERSION => {
            Err(ContentError::OtherLayout { path: store.root.clone(), version })
        }
        Stored::Missing | Stored::Damaged if store.temporary.is_some() => {
            store.write_document(&path, &VERSION)
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[test]
    fn a_store_of_a_newer_program_is_left_alone_and_a_damaged_version_is_written_again() {
        let folder = std::env::temp_dir().join(format!("shtetl-version-{}", std::process::id()));
        let store = Store::open(&folder).unwrap();
        let path = folder.join("version");
        store.write_document(&path, &(VERSION + 1)).unwrap();
        assert!(matches!(Store::open(&folder), Err(ContentError::OtherLayout { version: 2, .. })));
        fs::write(&path, "ferry").unwrap();
        drop(Store::open(&folder).unwrap());
        assert_eq!(store.read_document::<u32>(&path), Stored::Whole(VERSION));
        crate::store::remove_tree(&folder);
    }
}
