//! Where a base image is.

use content::image::unpack_archive;
use content::store::Store;
use model::error::ConfigError;
use model::{Error, Result};
use remote::oci::{CredentialFiles, ImageSource, Reference};
use remote::{Fetcher, without_steps_back};
use std::fmt;
use std::path::{Path, PathBuf};

/// Where a base image is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Location {
    /// In a registry.
    Registry(Reference),
    /// In a layout folder, or a tar archive of one; with the tag, where it holds several images.
    Layout(PathBuf, Option<String>),
}

impl Location {
    /// Reads what stands behind `oci:`. A path begins with a dot or a slash, and is taken from `near`.
    pub fn parse(text: &str, near: &Path) -> Result<Self> {
        if !text.starts_with(['.', '/']) {
            let bad = |fault| Error::Config(ConfigError::BadReference { text: text.to_owned(), fault });
            return Reference::parse(text).map(Self::Registry).map_err(bad);
        }
        let whole = without_steps_back(&near.join(text));
        match text.rsplit_once(':') {
            Some((path, tag)) if !whole.exists() && !tag.contains('/') => {
                Ok(Self::Layout(without_steps_back(&near.join(path)), Some(tag.to_owned())))
            }
            _ => Ok(Self::Layout(whole, None)),
        }
    }

    /// The image there.
    pub fn open<'a>(
        &self,
        fetcher: &'a Fetcher,
        credentials: &'a CredentialFiles,
        store: &Store,
    ) -> Result<ImageSource<'a>> {
        match self {
            Self::Registry(reference) => Ok(ImageSource::registry(reference.clone(), fetcher, credentials)),
            Self::Layout(path, tag) if path.is_file() => {
                let folder = store.temporary_folder()?;
                unpack_archive(path, &folder)?;
                Ok(ImageSource::layout(folder, tag.clone()))
            }
            Self::Layout(path, tag) => Ok(ImageSource::layout(path.clone(), tag.clone())),
        }
    }
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Registry(reference) => write!(f, "{reference}"),
            Self::Layout(path, _) => write!(f, "{}", path.display()),
        }
    }
}
