//! One package file as a fragment: normalised, without what no image needs; nothing of it is run.

use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, Owner};
use content::store::Store;
use engine::Recipe;
use model::error::PackageError;
use model::{Error, Result};
use remote::packages::debian::{PackageFile, open_package};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::{Component, Path};
use tar::EntryType;

/// How packages are put down.
pub(super) const RECIPE: Recipe = Recipe::new("debian package", 6);
/// Texts that fix-ups read are no longer than this, in bytes.
const LONGEST_TEXT: u64 = 1 << 20;

/// What a package puts into an image, besides the contents of its files.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Unpacked {
    /// Folders with mode and numeric owner.
    pub(super) folders: BTreeMap<String, (u32, u32, u32)>,
    /// Files.
    pub(super) files: BTreeSet<String>,
    /// Links with their targets.
    pub(super) links: BTreeMap<String, String>,
    /// Contents that fix-ups need.
    pub(super) texts: BTreeMap<String, String>,
    /// The licence that its copyright file names.
    pub(super) licence: Option<String>,
    /// The source package, with its version where it is not that of the package: `openssl (3.5.1-1)`.
    pub(super) source: Option<String>,
    /// The names of the packages that it depends on.
    pub(super) depends: Vec<String>,
}

/// The key of a package's fragment.
pub(super) fn key(sha256: &str, codec: Codec) -> Sha256 {
    RECIPE.fragment_key(codec, &[sha256])
}

/// What the store has of a package, if it has all of it.
pub(super) fn known(store: &Store, codec: Codec, sha256: &str) -> Option<Unpacked> {
    let key = key(sha256, codec);
    Fragment::is_there(store, codec, key)
        .then(|| store.read_document(&facts_path(store, key)).whole())
        .flatten()
}

fn facts_path(store: &Store, key: Sha256) -> std::path::PathBuf {
    store.fragment_path("debian", key)
}

/// Unpacks the file of the package called `label`.
pub(super) fn unpack(
    store: &Store,
    codec: Codec,
    sha256: &str,
    label: &str,
    file: impl Read,
    threads: usize,
) -> Result<Unpacked> {
    let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.to_owned(), detail });
    let broken = |error: std::io::Error| bad(error.to_string());
    let mut unpacked = Unpacked::default();
    let key = key(sha256, codec);
    let mut fragment = FragmentWriter::new(store, codec, key, threads)?;
    let PackageFile { source, depends, data } = open_package(file).map_err(broken)?;
    (unpacked.source, unpacked.depends) = (source, depends);
    let mut archive = tar::Archive::new(data);
    for entry in archive.entries().map_err(broken)? {
        let mut entry = entry.map_err(broken)?;
        let path = inside(&entry.path().map_err(broken)?)
            .ok_or_else(|| bad("an entry points outside the image".to_owned()))?;
        let path = merged(&path);
        if path.is_empty() || TOP_LINKS.contains(&path.as_str()) || !is_kept(&path) {
            continue;
        }
        let link = entry.link_name().map_err(broken)?.map(|l| l.to_string_lossy().into_owned());
        let header = entry.header();
        let (uid, gid) = (header.uid().map_err(broken)?, header.gid().map_err(broken)?);
        let number = |id: u64| u32::try_from(id).unwrap_or(0);
        let owner = Owner { uid: number(uid), gid: number(gid) };
        let mode = header.mode().map_err(broken)?;
        match header.entry_type() {
            EntryType::Directory => {
                unpacked.folders.insert(path, (mode & 0o1777, owner.uid, owner.gid));
            }
            EntryType::Regular | EntryType::Continuous => {
                let size = entry.size();
                // No set-user-id: users in an image cannot change identity.
                let plain = Entry { mode: mode & 0o777, owner, ..Entry::file(&path, size, false) };
                if is_read_by_fixups(&path) && size <= LONGEST_TEXT {
                    let mut text = Vec::new();
                    entry.read_to_end(&mut text).map_err(broken)?;
                    fragment.tar().file(&plain, &mut &text[..])?;
                    unpacked.texts.insert(path.clone(), String::from_utf8_lossy(&text).into_owned());
                } else if is_copyright(&path) {
                    let mut text = Vec::new();
                    entry.read_to_end(&mut text).map_err(broken)?;
                    unpacked.licence = licence(&String::from_utf8_lossy(&text));
                    fragment.tar().file(&plain, &mut &text[..])?;
                } else {
                    fragment.tar().file(&plain, &mut entry)?;
                }
                unpacked.files.insert(path);
            }
            EntryType::Symlink | EntryType::Link => {
                let written = link.ok_or_else(|| bad(format!("the link {path:?} has no target")))?;
                let leaves = || bad(format!("the link {path:?} points outside the image"));
                let target = match header_is_hard(&entry) {
                    true => format!("/{}", merged(&inside(Path::new(&written)).ok_or_else(leaves)?)),
                    false => {
                        rebased(&inside(&entry.path().map_err(broken)?).ok_or_else(leaves)?, &path, &written)
                    }
                };
                fragment.tar().entry(&Entry::link(&path, &target))?;
                unpacked.links.insert(path, target);
            }
            other => return Err(bad(format!("{path}: entries of type {other:?} are not supported"))),
        }
    }
    fragment.finish()?;
    store.write_document(&facts_path(store, key), &unpacked)?;
    Ok(unpacked)
}

fn header_is_hard(entry: &tar::Entry<'_, impl Read>) -> bool {
    entry.header().entry_type() == EntryType::Link
}

/// Folders at the top that are links into `usr` in every image.
pub(super) const TOP_LINKS: [&str; 4] = ["bin", "lib", "lib64", "sbin"];

/// The path without its beginning; `None` when it leads out.
fn inside(path: &Path) -> Option<String> {
    let mut parts = Vec::new();
    for part in path.components() {
        match part {
            Component::Normal(name) => parts.push(name.to_str()?),
            Component::CurDir | Component::RootDir => {}
            _ => return None,
        }
    }
    Some(parts.join("/"))
}

/// Where a path lies when everything at the top lies in `usr`.
fn merged(path: &str) -> String {
    match path.split_once('/') {
        Some((top, _)) if TOP_LINKS.contains(&top) => format!("usr/{path}"),
        _ => path.to_owned(),
    }
}

/// The target of a link that was written for `from` and now lies at `to`.
fn rebased(from: &str, to: &str, target: &str) -> String {
    if target.starts_with('/') || from == to {
        return target.to_owned();
    }
    let mut parts: Vec<&str> = from.split('/').collect();
    parts.pop();
    for part in target.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            name => parts.push(name),
        }
    }
    format!("/{}", merged(&parts.join("/")))
}

/// Texts for people who administer machines are left out; licences stay.
fn is_kept(path: &str) -> bool {
    const FOR_PEOPLE: [&str; 9] = [
        "usr/share/bug",
        "usr/share/doc",
        "usr/share/doc-base",
        "usr/share/groff",
        "usr/share/info",
        "usr/share/lintian",
        "usr/share/linda",
        "usr/share/locale",
        "usr/share/man",
    ];
    let below =
        |folder: &str| path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'));
    is_copyright(path) || !FOR_PEOPLE.iter().any(|folder| below(folder))
}

fn is_copyright(path: &str) -> bool {
    path.starts_with("usr/share/doc/") && path.ends_with("/copyright")
}

fn is_read_by_fixups(path: &str) -> bool {
    path.starts_with("usr/share/base-passwd/")
        || path.starts_with("usr/share/ca-certificates/")
        || path == "usr/share/libc-bin/nsswitch.conf"
        || path.starts_with("usr/share/php") && path.ends_with(".ini")
}

/// The licence of most files, as a machine-readable copyright file says it (DEP-5): what is said of
/// `Files: *`, else what is said first.
fn licence(text: &str) -> Option<String> {
    if !text.trim_start().starts_with("Format:") {
        return None;
    }
    let of_all = text.split("\n\n").find(|p| p.lines().any(|l| l.trim_end() == "Files: *")).unwrap_or(text);
    let said = of_all.lines().find_map(|line| line.strip_prefix("License:"))?.trim();
    (!said.is_empty()).then(|| said.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_stay_true_when_the_top_is_merged() {
        for (from, target, expected) in [
            ("lib/x/libfog.so", "libfog.so.1", "/usr/lib/x/libfog.so.1"),
            ("lib/x/libfog.so", "../../usr/lib/x/libfog.so.1", "/usr/lib/x/libfog.so.1"),
            ("lib64/ld.so", "/lib/x/ld.so", "/lib/x/ld.so"),
            ("sbin/horn", "../bin/bell", "/usr/bin/bell"),
        ] {
            assert_eq!(rebased(from, &merged(from), target), expected);
        }
        assert_eq!(rebased("usr/lib/a", "usr/lib/a", "b"), "b");
    }
}
