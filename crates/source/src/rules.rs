//! What is never packed, whatever the ignore files say, unless `[source] include` insists.

use model::files;
use std::path::Path;

/// Something that was left out and that people may miss.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct LeftOut {
    /// Path from the root of the source.
    pub path: String,
    /// Why.
    pub why: WhyLeftOut,
}

/// Why something was left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhyLeftOut {
    /// A file with local settings, often secret ones.
    Settings,
    /// A private key.
    PrivateKey,
    /// A file with credentials for other systems.
    Credentials,
    /// A folder of installed packages; a buildpack installs its own.
    Dependencies,
    /// Neither file, folder nor link.
    Special,
    /// A link that leads out of the source.
    LeadsOut,
}

/// Configuration of the build itself; it never goes into an image.
pub(super) fn is_build_file(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    matches!(name, files::CONFIG | files::PINS | files::PINS_FRESH | files::SCHEMA)
}

/// Folders of version control systems and caches of interpreters.
pub(super) fn is_silent_folder(name: &str) -> bool {
    matches!(name, ".git" | ".hg" | ".svn" | "__pycache__")
}

/// Folders that a buildpack fills itself.
pub(super) fn is_dependency_folder(path: &Path, name: &str) -> bool {
    match name {
        "node_modules" => path.with_file_name("package.json").exists(),
        _ => path.join("pyvenv.cfg").exists(),
    }
}
