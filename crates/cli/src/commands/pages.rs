//! Pages that commands write beside their results.

use crate::surroundings::Surroundings;
use std::path::Path;
use wording::Failure;

/// Writes a page, whole or not at all.
pub fn write(file: &Path, page: &str, surroundings: &Surroundings) -> Result<(), Failure> {
    let parent = file.parent().filter(|parent| *parent != Path::new("")).unwrap_or(Path::new("."));
    if file.is_dir() || !parent.is_dir() {
        return Err(Failure::Usage {
            message: format!("{} cannot be written", file.display()),
            hint: "give a file name in an existing folder".to_owned(),
        });
    }
    Ok(surroundings.store.write(file, page.as_bytes())?)
}
