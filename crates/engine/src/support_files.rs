//! Small files of ours that a buildpack adds to an image.

use crate::{Action, Input, Step, StepContext};
use content::digest::Sha256;
use content::layer::{Entry, LayerWriter};
use model::{Error, PackageFact, Result, Role};
use std::collections::{BTreeMap, BTreeSet};

/// One file.
pub struct SupportFile {
    /// Its path from the root of the image.
    pub path: &'static str,
    /// Its whole content.
    pub text: String,
    /// Whether it is a program.
    pub executable: bool,
}

/// The step called `name` that puts these files down.
pub fn step(name: &str, files: Vec<SupportFile>) -> Step {
    let digest = |f: &SupportFile| (f.path.to_owned(), Sha256::of(f.text.as_bytes()).hex());
    Step::new(
        name,
        Role::Support,
        vec![Input::of_parts("files", files.iter().map(digest).collect::<BTreeMap<_, _>>())],
        SupportFiles(files),
    )
}

struct SupportFiles(Vec<SupportFile>);

impl Action for SupportFiles {
    fn write(&self, layer: &mut LayerWriter<'_>, _tools: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        layer.part::<Error>(|tar| {
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
