//! Archives of packages that something is built from: fetched once, checked, and kept in the store.

use crate::download_buffer::{rewind, spool};
use content::digest::{Hasher, Sha256};
use content::store::Store;
use model::error::PackageError;
use model::{Error, PathFacts, Result};
use remote::{Address, Downloads, Integrity, RemoteError};
use source::unpack_package;
use std::fs::File;
use std::io::{self, Read, Seek};
use std::path::{Path, PathBuf};

/// The kind of fragments that archives are kept as.
const KEPT: &str = "source-archives";

/// An archive that can be fetched.
pub struct PackageArchive<'a> {
    /// Name and version, for people.
    pub label: &'a str,
    /// Where it is.
    pub address: &'a Address,
    /// What it must be.
    pub integrity: &'a Integrity,
}

/// The hash of an archive that nothing locks, of which the store keeps what came; `wanted_by` is the package, with who
/// wants it.
pub fn first_hash(wanted_by: &str, address: &Address, downloads: Downloads<'_>) -> Result<Integrity> {
    let Downloads { fetcher, store } = downloads;
    let remote = |source: RemoteError| {
        Error::Package(PackageError::Remote { wanted_by: wanted_by.to_owned(), source })
    };
    let mut file = fetcher.get_into(address, || Ok(spool(store))).map_err(remote)?;
    rewind(&mut file)?;
    let integrity = Integrity::of_sha256(&Hasher::of_reader(&mut file)?.0);
    rewind(&mut file)?;
    PackageArchive { label: wanted_by, address, integrity: &integrity }.keep(store, &mut file)?;
    Ok(integrity)
}

impl PackageArchive<'_> {
    /// The archive, as it is kept in the store.
    pub fn fetched(&self, downloads: Downloads<'_>) -> Result<PathBuf> {
        let Downloads { fetcher, store } = downloads;
        let remote = |source: RemoteError| {
            Error::Package(PackageError::Remote { wanted_by: self.label.to_owned(), source })
        };
        let kept = self.path(store, KEPT);
        if self.kept(store).is_some() {
            return Ok(kept);
        }
        let mut file = fetcher.get_into(self.address, || Ok(spool(store))).map_err(remote)?;
        rewind(&mut file)?;
        self.integrity.check_reader(&self.address.to_string(), &mut file).map_err(remote)?;
        rewind(&mut file)?;
        self.keep(store, &mut file)?;
        Ok(kept)
    }

    /// The archive, if it is in the store already.
    pub fn kept(&self, store: &Store) -> Option<File> {
        let mut file = File::open(self.path(store, KEPT)).ok()?;
        let is_whole = self.integrity.check_reader(self.label, &mut file).is_ok();
        (is_whole && file.rewind().is_ok()).then_some(file)
    }

    /// Keeps the archive that `file` reads.
    pub fn keep(&self, store: &Store, file: &mut dyn Read) -> Result<()> {
        let path = self.path(store, KEPT);
        let mut copy = store.temporary_file()?;
        io::copy(file, &mut copy).facts(&path)?;
        Ok(copy.persist_unsynced(&path)?)
    }

    /// Writes its files into the empty folder `to`.
    pub fn unpack(&self, downloads: Downloads<'_>, to: &Path) -> Result<()> {
        unpack_package(&self.fetched(downloads)?, self.label, downloads.store, to)
    }

    /// Where something of it is kept in the store.
    pub fn path(&self, store: &Store, kind: &str) -> PathBuf {
        store.fragment_path(kind, Sha256::of(self.integrity.canonical().as_bytes()))
    }
}
