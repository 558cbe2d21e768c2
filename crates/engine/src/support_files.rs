//! Small files of ours that a buildpack adds to an image.

use crate::{Action, Step, StepContext};
use crate::{Fingerprint, Recipe};
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
    Step::new(name, Role::Support, SupportFiles(files))
}

struct SupportFiles(Vec<SupportFile>);

impl Action for SupportFiles {
    fn fingerprint(&self) -> Fingerprint {
        let Self(files) = self;
        let part = |file: &SupportFile| {
            let SupportFile { path, text, executable } = file;
            let digest = Sha256::of(text.as_bytes()).hex();
            ((*path).to_owned(), format!("{digest} {}", if *executable { "run" } else { "file" }))
        };
        let parts = files.iter().map(part).collect::<BTreeMap<_, _>>();
        Fingerprint::of(Recipe::new("support files", 1)).input("files", parts)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, _cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
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
