//! Packages that no index offers: from a file, a folder of the source, or a commit of a repository.

use crate::file_names::{file_of, version_of};
use crate::locked::Origin;
use crate::need::Need;
use crate::sdist::SourceFacts;
use crate::wheel::Archive;
use crate::{sdist, wheel};
use content::digest::Hasher;
use engine::download_buffer::{rewind, spool};
use engine::package_archive::PackageArchive;
use model::error::{PackageError, SourceError};
use model::{Error, PathFacts, Result};
use pep440_rs::Version;
use remote::{Address, Downloads, Integrity, RemoteError};
use source::{SourceTree, checked_out, is_commit};
use std::fs::File;
use std::path::PathBuf;
use std::str::FromStr;

/// What is known of such a package.
#[derive(Debug)]
pub(super) struct Direct {
    pub(super) version: Version,
    /// What it needs; nothing when only running its build would tell.
    pub(super) needs: Option<Vec<Need>>,
    /// Where it is, for good: a branch is a commit by now.
    pub(super) origin: Origin,
    /// The hash of its file, if it is one.
    pub(super) integrity: Option<Integrity>,
    pub(super) is_source: bool,
}

/// How an origin begins that is a repository.
const GIT: &str = "git+";

impl Origin {
    /// Reads a URL or path of a requirement, from `folder` of the source.
    pub(super) fn of_text(text: &str, folder: &str) -> Result<Self, String> {
        if let Some(url) = text.strip_prefix(GIT) {
            let (url, fragment) = url.split_once('#').unwrap_or((url, ""));
            let inside = fragment.split('&').find_map(|part| part.strip_prefix("subdirectory="));
            let start = url.find("://").map_or(0, |at| at + 3);
            let path = url[start..].find('/').map_or(url.len(), |at| start + at);
            let (url, revision) = match url[path..].rfind('@') {
                Some(at) => (&url[..path + at], &url[path + at + 1..]),
                None => (url, "HEAD"),
            };
            let (url, revision) = (url.to_owned(), revision.to_owned());
            return Ok(Self::Commit { url, revision, folder: inside.unwrap_or_default().to_owned() });
        }
        if text.starts_with("https://") || text.starts_with("http://") {
            return Ok(Self::Url(text.to_owned()));
        }
        let path = text.trim_start_matches("file://").trim_start_matches("file:");
        let path = path.split('#').next().unwrap_or(path);
        if path.starts_with('/') {
            return Err(format!("{path} is outside the source"));
        }
        let whole = if folder.is_empty() { path.to_owned() } else { format!("{folder}/{path}") };
        let mut plain: Vec<&str> = Vec::new();
        for part in whole.split('/') {
            match part {
                "" | "." => {}
                ".." => drop(plain.pop().ok_or_else(|| format!("{path} is outside the source"))?),
                name => plain.push(name),
            }
        }
        let path = plain.join("/");
        let is_file = version_of(plain.last().unwrap_or(&"")).is_some();
        Ok(if is_file { Self::Path(path) } else { Self::Folder(path) })
    }

    /// As it is pinned; nothing for what an index offers.
    pub(super) fn pinned(&self) -> String {
        match self {
            Self::Index(_) => String::new(),
            Self::Url(url) => url.clone(),
            Self::Path(path) | Self::Folder(path) => format!("file:{path}"),
            Self::Commit { url, revision, folder } if folder.is_empty() => format!("{GIT}{url}@{revision}"),
            Self::Commit { url, revision, folder } => format!("{GIT}{url}@{revision}#subdirectory={folder}"),
        }
    }

    /// Whether it is a folder with a source, which has no hash.
    pub(super) fn is_folder(&self) -> bool {
        matches!(self, Self::Folder(_) | Self::Commit { .. })
    }

    /// The folder with the source, if it is one.
    pub(super) fn folder(&self, tree: &SourceTree, downloads: Downloads<'_>) -> Result<Option<PathBuf>> {
        Ok(match self {
            Self::Folder(path) => Some(tree.root().join(path)),
            Self::Commit { url, revision, folder } => {
                if folder.starts_with('/') || folder.split('/').any(|part| part == "..") {
                    let detail = format!("its folder {folder:?} is outside the repository");
                    return Err(Error::Package(PackageError::Damaged { package: url.clone(), detail }));
                }
                Some(checked_out(url, revision, downloads)?.join(folder))
            }
            _ => None,
        })
    }
}

/// Looks at the package at `origin`; `known` are the hashes that its file may have.
pub(super) fn look(
    origin: &Origin,
    label: &str,
    known: Option<&Integrity>,
    tree: &SourceTree,
    downloads: Downloads<'_>,
) -> Result<Direct> {
    let remote =
        |source: RemoteError| Error::Package(PackageError::Remote { wanted_by: label.to_owned(), source });
    let origin = match origin {
        Origin::Commit { url, revision, folder } if !is_commit(revision) => {
            let id = downloads.fetcher.commit_of(url, revision).map_err(remote)?;
            let none = || {
                Error::Source(SourceError::NoRevision {
                    path: PathBuf::from(url),
                    revision: revision.clone(),
                })
            };
            Origin::Commit { url: url.clone(), revision: id.ok_or_else(none)?, folder: folder.clone() }
        }
        other => other.clone(),
    };
    if let Some(folder) = origin.folder(tree, downloads)? {
        let facts = SourceFacts::of_folder(&folder)?;
        return Ok(of_facts(&facts, origin, None));
    }
    let (address, file) = match &origin {
        Origin::Url(url) => (Address::parse(url, tree.root()), file_of(url)),
        Origin::Path(path) => (Address::Folder(tree.root().join(path)), path.clone()),
        _ => {
            return Err(Error::Package(PackageError::Damaged {
                package: label.to_owned(),
                detail: "it is not a file".to_owned(),
            }));
        }
    };
    let integrity = match known {
        Some(known) => known.clone(),
        None => {
            let mut file =
                downloads.fetcher.get_into(&address, || Ok(spool(downloads.store))).map_err(remote)?;
            rewind(&mut file)?;
            Integrity::of_sha256(&Hasher::of_reader(&mut file)?.0)
        }
    };
    let archive = PackageArchive { label, address: &address, integrity: &integrity };
    if !file.ends_with(".whl") {
        let facts = sdist::facts(&archive, downloads)?;
        return Ok(of_facts(&facts, origin, Some(integrity)));
    }
    let path = archive.fetched(downloads)?;
    let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.to_owned(), detail });
    let text =
        wheel::metadata(&mut Archive::new(File::open(&path).facts(&path)?).map_err(|e| bad(e.to_string()))?);
    let text = text.map_err(bad)?;
    let needs = sdist::readable(&wheel::needs(&text));
    let version = version_of(&file).unwrap_or_else(|| Version::new([0]));
    Ok(Direct { version, needs: Some(needs), origin, integrity: Some(integrity), is_source: false })
}

fn of_facts(facts: &SourceFacts, origin: Origin, integrity: Option<Integrity>) -> Direct {
    let version = facts.version.as_deref().and_then(|text| Version::from_str(text).ok());
    Direct {
        // A version that only the build finds out is as good as none.
        version: version.unwrap_or_else(|| Version::new([0])),
        needs: facts.needs.as_deref().map(sdist::readable),
        origin,
        integrity,
        is_source: true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn origins_are_read_and_written() {
        for (text, pinned) in [
            (
                "git+https://code.example/fog.git@v1#egg=fog&subdirectory=lib",
                "git+https://code.example/fog.git@v1#subdirectory=lib",
            ),
            ("git+ssh://git@code.example/fog", "git+ssh://git@code.example/fog@HEAD"),
            ("./libs/fog", "file:parts/libs/fog"),
            ("file:../fog-1.0.tar.gz", "file:fog-1.0.tar.gz"),
            (
                "https://files.example/fog-1.0-py3-none-any.whl",
                "https://files.example/fog-1.0-py3-none-any.whl",
            ),
        ] {
            let origin = Origin::of_text(text, "parts").unwrap();
            assert_eq!(origin.pinned(), pinned);
            assert_eq!(Origin::of_text(pinned, "").unwrap(), origin);
        }
        for outside in ["/etc/fog", "../../fog"] {
            assert!(Origin::of_text(outside, "parts").is_err());
        }
    }
}
