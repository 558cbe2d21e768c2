//! Changes that an app makes to packages: patches in its source, as lockfiles of yarn, pnpm and bun name them.

use content::digest::Sha256;
use diffy::patch_set::{FileMode, FileOperation, ParseOptions, PatchKind, PatchSet};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::{fs, io};

/// The files of a package, to be changed.
pub(super) trait Changeable {
    /// The text of a file; what is wrong with it, in words.
    fn text(&mut self, path: &str) -> Result<String, String>;

    /// Puts a file in, or another content in its place.
    fn put(&mut self, path: &str, content: &[u8], executable: Option<bool>) -> io::Result<()>;

    /// Takes a file out.
    fn remove(&mut self, path: &str) -> io::Result<()>;
}

/// The files below a folder.
impl Changeable for &Path {
    fn text(&mut self, path: &str) -> Result<String, String> {
        fs::read_to_string(self.join(path)).map_err(|error| error.to_string())
    }

    fn put(&mut self, path: &str, content: &[u8], executable: Option<bool>) -> io::Result<()> {
        let file = self.join(path);
        file.parent().map_or(Ok(()), fs::create_dir_all)?;
        fs::write(&file, content)?;
        let mode = |executable| if executable { 0o755 } else { 0o644 };
        executable.map_or(Ok(()), |e| fs::set_permissions(&file, fs::Permissions::from_mode(mode(e))))
    }

    fn remove(&mut self, path: &str) -> io::Result<()> {
        fs::remove_file(self.join(path))
    }
}

/// A patch in the source, in git's form of a unified diff.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Patch {
    /// From the root of the app.
    pub(super) path: String,
    pub(super) text: String,
}

impl Patch {
    /// What tells its content.
    pub(super) fn digest(&self) -> Sha256 {
        Sha256::of(self.text.as_bytes())
    }

    /// Changes the files of a package.
    pub(super) fn apply(&self, package: &mut dyn Changeable) -> Result<(), String> {
        let bad = |what: &str| format!("the patch {}: {what}", self.path);
        let told = |error: io::Error| bad(&error.to_string());
        for change in PatchSet::parse(&self.text, ParseOptions::gitdiff()) {
            let change = change.map_err(|error| bad(&error.to_string()))?;
            let operation = change.operation().strip_prefix(1);
            let (from, to) = match &operation {
                FileOperation::Create(to) => (None, Some(to)),
                FileOperation::Delete(from) => (Some(from), None),
                FileOperation::Modify { original, modified } => (Some(original), Some(modified)),
                FileOperation::Rename { from, to } | FileOperation::Copy { from, to } => {
                    (Some(from), Some(to))
                }
            };
            if let Some(path) = [from, to].into_iter().flatten().find(|path| leaves(path)) {
                return Err(bad(&format!("{path:?} points outside the package's folder")));
            }
            let before = match from {
                Some(from) => package.text(from).map_err(|what| bad(&format!("{from}: {what}")))?,
                None => String::new(),
            };
            let PatchKind::Text(lines) = change.patch() else {
                return Err(bad("it changes a file that is not text"));
            };
            if let Some(from) = from.filter(|_| !operation.is_copy() && from != to) {
                package.remove(from).map_err(told)?;
            }
            let Some(to) = to else { continue };
            let after =
                diffy::apply(&before, lines).map_err(|_| bad(&format!("it does not apply to {to}")))?;
            let executable = change.new_mode().map(|mode| *mode == FileMode::Executable);
            package.put(to, after.as_bytes(), executable).map_err(told)?;
        }
        Ok(())
    }
}

/// Whether a path leads out of the folder that it is taken from.
fn leaves(path: &str) -> bool {
    path.split('/').any(|part| matches!(part, "" | "." | ".."))
}
