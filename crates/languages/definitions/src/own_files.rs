//! What a buildpack brings for its steps: the files in its folder `files`, which they find at `/buildpack`.

use content::digest::Sha256;
use content::layer::{Entry, LayerWriter};
use engine::{Action, Fingerprint, Recipe, StepContext, collect};
use model::error::SurveyError;
use model::{Error, PackageFact, PathFacts, Place, Result};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::Arc;

/// The folder in that of the buildpack.
const FOLDER: &str = "files";
/// Where its steps find them, from the root.
pub(super) const PLACE: &str = "buildpack";
/// The most that they come to, in bytes.
const LARGEST: u64 = 64 << 20;

/// The files, by their paths.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct OwnFiles(Arc<BTreeMap<String, OwnFile>>);

#[derive(Debug, PartialEq)]
struct OwnFile {
    bytes: Vec<u8>,
    executable: bool,
}

impl OwnFiles {
    /// Reads them; `shown` is how people know the buildpack's folder.
    pub(super) fn read(folder: &Path, shown: &str) -> Result<Self> {
        let root = folder.join(FOLDER);
        let bad = |detail: String| {
            Error::Survey(SurveyError::Malformed {
                place: Place::new(format!("{shown}/{FOLDER}"), None),
                detail,
            })
        };
        // Who writes a source must not have other files of this machine read.
        match fs::symlink_metadata(&root) {
            Ok(found) if found.is_symlink() => return Err(bad("it is a link".to_owned())),
            Ok(found) if found.is_dir() => {}
            _ => return Ok(Self::default()),
        }
        let mut files = BTreeMap::new();
        let mut left = LARGEST;
        for path in collect::files(&root)? {
            let full = root.join(&path);
            let metadata = fs::symlink_metadata(&full).facts(&full)?;
            if metadata.is_symlink() {
                return Err(bad(format!("{path} is a link, but a buildpack may contain only regular files")));
            }
            left = left
                .checked_sub(metadata.len())
                .ok_or_else(|| bad(format!("more than {} MiB", LARGEST >> 20)))?;
            let executable = metadata.permissions().mode() & 0o100 != 0;
            files.insert(path, OwnFile { bytes: fs::read(&full).facts(&full)?, executable });
        }
        Ok(Self(Arc::new(files)))
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether there is a program at this path.
    pub(super) fn has_program(&self, path: &str) -> bool {
        self.0.get(path).is_some_and(|file| file.executable)
    }

    /// Each path with what stands for the file's content and mode.
    pub(super) fn digests(&self) -> BTreeMap<String, String> {
        let Self(files) = self;
        let part = |(path, file): (&String, &OwnFile)| {
            (path.clone(), format!("{} {}", Sha256::of(&file.bytes).hex(), file.executable))
        };
        files.iter().map(part).collect()
    }

    /// Writes them into a folder.
    pub(super) fn write_to(&self, folder: &Path) -> Result<()> {
        for (path, file) in self.0.iter() {
            let to = folder.join(path);
            let above = to.parent().unwrap_or(folder);
            fs::create_dir_all(above).facts(above)?;
            fs::write(&to, &file.bytes).facts(&to)?;
            let mode = if file.executable { 0o755 } else { 0o644 };
            fs::set_permissions(&to, Permissions::from_mode(mode)).facts(&to)?;
        }
        Ok(())
    }
}

impl Action for OwnFiles {
    fn fingerprint(&self) -> Fingerprint {
        // All of it is in the digests.
        let Self(_) = self;
        Fingerprint::of(Recipe::new("files of a buildpack", 1)).input("files", self.digests())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, _cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        layer.part::<Error>(|tar| {
            let mut folders = BTreeSet::new();
            for (path, file) in self.0.iter() {
                let full = format!("{PLACE}/{path}");
                for (at, _) in full.match_indices('/') {
                    if folders.insert(full[..at].to_owned()) {
                        tar.entry(&Entry::folder(&full[..at]))?;
                    }
                }
                tar.file(
                    &Entry::file(&full, file.bytes.len() as u64, file.executable),
                    &mut &file.bytes[..],
                )?;
            }
            Ok(())
        })?;
        Ok(Vec::new())
    }
}
