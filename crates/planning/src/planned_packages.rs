//! The packages of a language as they are known before anything is built, and which need which.

use model::package_url::purl;
use std::collections::{BTreeMap, BTreeSet};

/// By package URL without qualifiers.
pub type PlannedPackages = BTreeMap<String, PlannedPackage>;

/// A package that goes into an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedPackage {
    /// Its name in its registry.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The packages that it needs, where that is known.
    pub needs: BTreeSet<String>,
}

/// The packages of a kind, of each of which there is one version: name and version, and the names that it needs. Names of
/// packages that are not there are passed over.
pub fn by_name<'p, N: IntoIterator<Item = &'p str>>(
    kind: &str,
    packages: impl Iterator<Item = (&'p str, &'p str, N)>,
) -> PlannedPackages {
    let packages: Vec<(&str, &str, N)> = packages.collect();
    let urls: BTreeMap<&str, String> =
        packages.iter().map(|(name, version, _)| (*name, purl(kind, name, version, &[]))).collect();
    let mut planned = PlannedPackages::new();
    for (name, version, needs) in packages {
        let needs = needs.into_iter().filter(|need| *need != name).filter_map(|need| urls.get(need));
        let package = PlannedPackage {
            name: name.to_owned(),
            version: version.to_owned(),
            needs: needs.cloned().collect(),
        };
        planned.insert(urls[name].clone(), package);
    }
    planned
}
