//! Where packages come from and where they are put.

use crate::APP;
use crate::package::{LockedPackage, Origin};
use config::addresses::Addresses;
use model::{Ecosystem, Result};
use remote::Address;
use remote::packages::npm;
use source::SourceTree;

/// Where a package's archive is: an address that its name is bound to, an explicit one, what the lockfile says
/// of the package, or what the ecosystem's own configuration says. Nothing for what has none of its own.
pub(super) fn address_of(
    package: &LockedPackage,
    addresses: &Addresses,
    source: &SourceTree,
) -> Result<Option<Address>> {
    let resolved = match &package.origin {
        Origin::Registry(resolved) => resolved.as_ref(),
        Origin::Archive(path) => return Ok(Some(Address::Folder(source.root().join(path)))),
        Origin::Link(_) | Origin::Bundled | Origin::Commit { .. } | Origin::Other(_) => return Ok(None),
    };
    let bound = addresses.bound_to(Ecosystem::NPM, &package.name);
    let known = match (bound.or_else(|| addresses.over_lockfile(Ecosystem::NPM)), resolved) {
        (None, Some(resolved)) => return Ok(Some(Address::Url(resolved.clone()))),
        (Some(known), _) => known,
        (None, None) => addresses.in_force(Ecosystem::NPM)?,
    };
    Ok(Some(npm::tarball(&known.address, &package.name, &package.version)))
}

/// The target of a link at `path`, below `root`, to the folder `to` of the app.
pub(super) fn up_to(root: &str, path: &str, to: &str) -> String {
    // Packages lie below the root, folders of the source in the app.
    let to = if root.is_empty() && !to.starts_with("node_modules/") { below(APP, to) } else { to.to_owned() };
    format!("{}{to}", "../".repeat(path.matches('/').count()))
}

/// A path below a folder, which may be the root of all.
pub(super) fn below(root: &str, path: &str) -> String {
    if root.is_empty() { path.to_owned() } else { format!("{root}/{path}") }
}
