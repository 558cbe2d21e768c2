//! The npm registry: tarballs by name and version.

use crate::address::Address;
use crate::error::Result;
use crate::fetch::Fetcher;
use crate::integrity::Integrity;

/// Where `registry` has the tarball of `name` in `version`: `NAME/-/BASENAME-VERSION.tgz`.
pub fn tarball(registry: &Address, name: &str, version: &str) -> Address {
    let base = name.rsplit('/').next().unwrap_or(name);
    registry.join(&format!("{name}/-/{base}-{version}.tgz"))
}

/// Gets a tarball and checks it against the lock.
pub fn fetch(fetcher: &Fetcher, tarball: &Address, integrity: &Integrity) -> Result<Vec<u8>> {
    let bytes = fetcher.get(tarball, "application/octet-stream, */*")?;
    integrity.check(&tarball.to_string(), &bytes)?;
    Ok(bytes)
}
