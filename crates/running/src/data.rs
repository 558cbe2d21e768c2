//! Folders that several processes of an app write to at once.
//!
//! One process alone writes over what its image has (an overlay); two overlays cannot share a folder, so here the files of
//! the image are copied into it once, and every process has the folder itself in the place of the image's.

use crate::image::{give_to_app, layer_folders, owned_folder};
use content::store::{Store, remove_tree};
use engine::sandbox_mode::working_mode;
use model::folder::entries;
use model::{PathFacts, Result};
use sandbox::Mode;
use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{FileTypeExt, symlink};
use std::path::Path;
use workshop::image::inside_app;
use workshop::inspect::OpenImage;

/// Makes the folders in `data` that process types of `image` write to, each with the files that the image has there; what
/// is there already stays as it is.
pub fn fill(store: &Store, image: &OpenImage, data: &Path) -> Result<()> {
    let mode = working_mode(store)?;
    let all: BTreeSet<&str> =
        image.record.processes.iter().flat_map(|process| &process.writable).map(String::as_str).collect();
    let Some(variant) = image.variants.first() else { return Ok(()) };
    let layers = layer_folders(store, variant, mode)?;
    for folder in all {
        let place = if folder == "." { data.to_owned() } else { data.join(folder) };
        owned_folder(place.clone(), mode)?;
        if !entries(&place)?.is_empty() {
            continue;
        }
        // Whole or not at all: a copy that was cut short would be taken for what the app wrote.
        let fresh = place.with_extension("filling");
        remove_tree(&fresh);
        owned_folder(fresh.clone(), mode)?;
        for layer in &layers {
            let from = layer.join(&inside_app(folder)[1..]);
            if from.symlink_metadata().is_ok_and(|found| found.is_dir()) {
                copy_folder(&from, &fresh, mode)?;
            }
        }
        fs::rename(&fresh, &place).facts(&place)?;
    }
    Ok(())
}

fn copy_folder(from: &Path, to: &Path, mode: Mode) -> Result<()> {
    for source in entries(from)? {
        let target = to.join(source.file_name().unwrap_or_default());
        let metadata = source.symlink_metadata().facts(&source)?;
        let there = target.symlink_metadata();
        if metadata.is_dir() {
            if there.is_ok_and(|there| !there.is_dir()) {
                fs::remove_file(&target).facts(&target)?;
            }
            owned_folder(target.clone(), mode)?;
            copy_folder(&source, &target, mode)?;
            continue;
        }
        match there {
            Ok(there) if there.is_dir() => remove_tree(&target),
            Ok(_) => fs::remove_file(&target).facts(&target)?,
            Err(_) => {}
        }
        let kind = metadata.file_type();
        if kind.is_symlink() {
            symlink(fs::read_link(&source).facts(&source)?, &target).facts(&target)?;
        } else if kind.is_char_device() {
            // It only says that what was there is gone.
            continue;
        } else {
            fs::copy(&source, &target).facts(&target)?;
        }
        give_to_app(&target, mode)?;
    }
    Ok(())
}
