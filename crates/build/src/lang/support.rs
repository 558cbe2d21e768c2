//! Small files of ours that a buildpack adds to an image.

use crate::error::{BuildError, Result};
use crate::worklist::{Input, PackageFact, Role, Step, Tools, Work};
use content::digest::Sha256;
use content::layer::{Entry, LayerWriter};
use std::collections::{BTreeMap, BTreeSet};

/// One file.
pub(super) struct SupportFile {
    /// Its path from the root of the image.
    pub(super) path: &'static str,
    /// Its whole content.
    pub(super) text: String,
    /// Whether it is a program.
    pub(super) executable: bool,
}

/// The step called `name` that puts these files down.
pub(super) fn step(name: &str, files: Vec<SupportFile>) -> Step {
    let digest = |f: &SupportFile| (f.path.to_owned(), Sha256::of(f.text.as_bytes()).hex());
    Step::new(
        name,
        Role::Support,
        vec![Input::of_parts("files", files.iter().map(digest).collect::<BTreeMap<_, _>>())],
        SupportFiles(files),
    )
}

struct SupportFiles(Vec<SupportFile>);

impl Work for SupportFiles {
    fn write(&self, layer: &mut LayerWriter<'_>, _tools: &Tools<'_>) -> Result<Vec<PackageFact>> {
        layer.part::<BuildError>(|tar| {
            let mut folders = BTreeSet::new();
            for file in &self.0 {
                for (at, _) in file.path.match_indices('/') {
                    if folders.insert(&file.path[..at]) {
                        tar.entry(&Entry::folder(&file.path[..at]))?;
                    }
                }
                let entry = Entry::file(file.path, file.text.len() as u64, file.executable);
                tar.file(&entry, &mut file.text.as_bytes())?;
            }
            Ok(())
        })?;
        Ok(Vec::new())
    }
}
