//! Where modules come from, and what is got there, with errors that name the module.

use crate::go_mod::ModuleVersion;
use config::addresses::Addresses;
use engine::download_buffer::{rewind, spool};
use model::error::PackageError;
use model::{Ecosystem, Error, Result};
use remote::packages::go;
use remote::{Address, Downloads, RemoteError};
use tempfile::SpooledTempFile;

/// How many modules are asked for at once.
pub(super) const AT_ONCE: usize = 16;

/// The proxy that has a module.
pub(super) fn of(module: &ModuleVersion, addresses: &Addresses) -> Result<Address> {
    Ok(addresses.of_package(Ecosystem::GO, &module.path)?.address)
}

/// The error of a request for a module.
pub(super) fn failed(module: &ModuleVersion) -> impl Fn(RemoteError) -> Error {
    let wanted_by = module.label();
    move |source| Error::Package(PackageError::Remote { wanted_by: wanted_by.clone(), source })
}

/// The `go.mod` of a module, with its hash.
pub(super) fn manifest(
    module: &ModuleVersion,
    proxy: &Address,
    downloads: Downloads<'_>,
) -> Result<(Vec<u8>, String)> {
    let bytes = go::manifest(downloads.fetcher, proxy, &module.path, &module.version);
    let bytes = bytes.map_err(failed(module))?;
    let hash = go::manifest_hash(&bytes);
    Ok((bytes, hash))
}

/// The archive of a module, at its beginning, with its hash.
pub(super) fn archive(
    module: &ModuleVersion,
    proxy: &Address,
    downloads: Downloads<'_>,
) -> Result<(SpooledTempFile, String)> {
    let named = (module.path.as_str(), module.version.as_str());
    let file = go::archive(downloads.fetcher, proxy, named, || Ok(spool(downloads.store)));
    let mut file = file.map_err(failed(module))?;
    rewind(&mut file)?;
    let hash = go::archive_hash(&mut file, &module.label()).map_err(failed(module))?;
    rewind(&mut file)?;
    Ok((file, hash))
}

/// An error where what came, a file of a module, does not have the hash that is locked.
pub(super) fn check(
    module: &ModuleVersion,
    (proxy, ending): (&Address, &str),
    expected: &str,
    found: String,
) -> Result<()> {
    let url = go::file(proxy, &module.path, &module.version, ending).to_string();
    let expected = expected.to_owned();
    match found == expected {
        true => Ok(()),
        false => Err(failed(module)(RemoteError::Integrity { url, algorithm: "h1", expected, found })),
    }
}
