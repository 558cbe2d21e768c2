//! What is never packed, whatever the ignore files say, unless `[source] include` insists.

use std::fs::File;
use std::io::Read;
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
    /// A file with settings of one place, often secret ones.
    Settings,
    /// A private key.
    PrivateKey,
    /// A file with passwords or tokens for other machines.
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
    matches!(name, model::files::CONFIG | model::files::PINS | model::files::PINS_FRESH)
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

/// Files that must not get into an image by accident.
pub(super) fn is_private(path: &Path, name: &str) -> Option<WhyLeftOut> {
    let sample = [".example", ".sample", ".template", ".dist"].iter().any(|end| name.ends_with(end));
    if (name == ".env" || name.starts_with(".env.")) && !sample {
        return Some(WhyLeftOut::Settings);
    }
    let for_others = matches!(name, ".netrc" | ".pypirc" | ".git-credentials");
    if for_others || name == ".npmrc" && has_npm_token(path) {
        return Some(WhyLeftOut::Credentials);
    }
    if [".p12", ".pfx"].iter().any(|end| name.ends_with(end)) {
        return Some(WhyLeftOut::PrivateKey);
    }
    let key_name = matches!(name, "id_rsa" | "id_dsa" | "id_ecdsa" | "id_ed25519");
    let may_hold_key = [".pem", ".key"].iter().any(|end| name.ends_with(end));
    (key_name || may_hold_key && holds_private_key(path)).then_some(WhyLeftOut::PrivateKey)
}

/// Whether npm's configuration says who may come in, and not only where.
fn has_npm_token(path: &Path) -> bool {
    let mut text = Vec::new();
    let read = File::open(path).and_then(|f| f.take(1 << 16).read_to_end(&mut text));
    let text = String::from_utf8_lossy(if read.is_ok() { &text } else { &[] });
    ["_authToken", "_auth", "_password"]
        .iter()
        .any(|key| text.contains(&format!("{key}=")) || text.contains(&format!("{key} =")))
}

/// Whether the beginning of the file has the armour of a private key (RFC 7468).
fn holds_private_key(path: &Path) -> bool {
    let mut beginning = Vec::new();
    let read = File::open(path).and_then(|f| f.take(8192).read_to_end(&mut beginning));
    read.is_ok() && beginning.windows(12).any(|w| w == b"PRIVATE KEY-")
}
