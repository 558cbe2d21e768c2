//! Debian archives: signed releases, package indexes, package files.
//!
//! Sources: Debian Policy Manual (versions 5.6.12, relationships 7), the repository format
//! (`Release`, `by-hash`), deb(5).

mod archive;
mod control;
mod index;
mod relation;
mod release;
mod signature;
mod version;

pub use archive::{PackageFile, open_package};
pub use index::{Index, Package};
pub use relation::{Alternative, Relation, Sense};
pub use release::{Listed, Release};
pub use signature::{SignatureFault, Signatures};
pub use version::compare;

use crate::address::Address;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use crate::integrity::Integrity;
use content::digest::HashingWriter;
use std::io::{self, Write};

/// Gets `dists/SUITE/InRelease` as it is; nothing in it is verified yet.
pub fn fetch_release(fetcher: &Fetcher, archive: &Address, suite: &str) -> Result<String> {
    let address = archive.join(&format!("dists/{suite}/InRelease"));
    let bytes = fetcher.get(&address, "*/*")?;
    String::from_utf8(bytes)
        .map_err(|_| RemoteError::Malformed { url: address.to_string(), detail: "not UTF-8".to_owned() })
}

/// Gets a file that a release lists, by its hash where the archive offers that, and checks it.
pub fn fetch_listed(
    fetcher: &Fetcher,
    archive: &Address,
    suite: &str,
    release: &Release,
    listed: &Listed,
) -> Result<Vec<u8>> {
    let plain = archive.join(&format!("dists/{suite}/{}", listed.path));
    let folder = listed.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let by_hash = archive.join(&format!("dists/{suite}/{folder}/by-hash/SHA256/{}", listed.sha256));
    let found = match release.by_hash.then(|| fetcher.get(&by_hash, "*/*")) {
        Some(Ok(bytes)) => Ok(bytes),
        // A copy of an archive may lack the folders with hashes as names.
        Some(Err(RemoteError::NotFound { .. })) | None => fetcher.get(&plain, "*/*"),
        Some(failed) => failed,
    };
    let bytes = found?;
    check(&plain, &listed.sha256, &bytes)?;
    Ok(bytes)
}

/// Gets a package file into what `open` opens, which is called again for each try, and checks it.
pub fn fetch_package<W: Write>(
    fetcher: &Fetcher,
    archive: &Address,
    file: &str,
    sha256: &str,
    mut open: impl FnMut() -> io::Result<W>,
) -> Result<W> {
    let address = archive.join(file);
    let opened = || Ok(HashingWriter::new(open()?));
    let (to, found) = fetcher.get_into(&address, opened)?.finish();
    let found = found.hex();
    if found == sha256.to_lowercase() {
        return Ok(to);
    }
    let (url, expected) = (address.to_string(), sha256.to_owned());
    Err(RemoteError::Integrity { url, algorithm: "sha256", expected, found })
}

fn check(address: &Address, sha256: &str, bytes: &[u8]) -> Result<()> {
    let malformed = || RemoteError::Malformed {
        url: address.to_string(),
        detail: format!("{sha256:?} is not a SHA-256"),
    };
    let integrity =
        Integrity::any_of([format!("sha256:{sha256}").as_str()].into_iter()).ok_or_else(malformed)?;
    integrity.check(&address.to_string(), bytes)
}
