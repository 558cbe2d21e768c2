//! What requirement files say of all packages at once: where they are looked for, and in which form.

use config::addresses::Addresses;
use model::{Ecosystem, Result};
use remote::packages::pypi::{self, File, canonical_name};
use remote::{Address, Fetcher, RemoteError};
use std::collections::BTreeSet;
use std::path::Path;

/// The options of requirement files that hold for all packages.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Terms {
    /// The index that is asked.
    pub(super) index: Option<String>,
    /// Further indexes, asked when those before do not have a package.
    pub(super) further: Vec<String>,
    /// Pages and folders that list files of any package.
    pub(super) links: Vec<String>,
    /// Whether no index is asked at all.
    pub(super) no_index: bool,
    /// Packages that come as wheels only.
    pub(super) only_wheels: Names,
    /// Packages that are built from their source, wheel or not.
    pub(super) only_sources: Names,
    /// Whether an older wheel is better than a newer source.
    pub(super) prefer_wheels: bool,
}

/// Names of packages, or all of them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Names {
    all: bool,
    named: BTreeSet<String>,
}

impl Names {
    /// Adds what an option lists: names between commas, `:all:`, or `:none:`, which forgets those before.
    pub(super) fn add(&mut self, list: &str) {
        for name in list.split(',').map(str::trim) {
            match name {
                ":all:" => self.all = true,
                ":none:" => *self = Self::default(),
                name => drop(self.named.insert(canonical_name(name))),
            }
        }
    }

    /// Whether it means the package `name`, unless `other` names it and this does not.
    fn means(&self, name: &str, other: &Self) -> bool {
        self.named.contains(name) || self.all && !other.named.contains(name)
    }
}

impl Terms {
    /// Whether the package `name` may be taken in this form.
    pub(super) fn allow(&self, name: &str, is_source: bool) -> bool {
        let (refused, other) = match is_source {
            true => (&self.only_wheels, &self.only_sources),
            false => (&self.only_sources, &self.only_wheels),
        };
        !refused.means(name, other)
    }

    /// Where the package `name` is looked for, in order. One that is bound to an address is looked for nowhere
    /// else; `own` is the index that a lockfile names for it.
    pub(super) fn places(
        &self,
        name: &str,
        own: Option<&str>,
        addresses: &Addresses,
        folder: &Path,
    ) -> Result<Vec<Place>> {
        if let Some(bound) = addresses.bound_to(Ecosystem::PYPI, name) {
            return Ok(vec![Place::Index(bound.address)]);
        }
        let parsed = |text: &String| -> Result<Address> {
            Ok(Address::parse(&addresses.filled(Ecosystem::PYPI, text)?, folder))
        };
        let listed = self.links.iter().map(|link| Ok(Place::Links(parsed(link)?)));
        let mut places = listed.collect::<Result<Vec<Place>>>()?;
        if self.no_index {
            return Ok(places);
        }
        let named: Vec<&String> = self.index.iter().chain(&self.further).collect();
        match (addresses.over_lockfile(Ecosystem::PYPI), own, &named[..]) {
            (Some(explicit), ..) => places.push(Place::Index(explicit.address)),
            (None, Some(own), _) => places.push(Place::Index(Address::parse(own, folder))),
            (None, None, []) => places.push(Place::Index(addresses.in_force(Ecosystem::PYPI)?.address)),
            (None, None, named) => {
                for text in named {
                    places.push(Place::Index(parsed(text)?));
                }
            }
        }
        Ok(places)
    }
}

/// Where files of packages are listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Place {
    /// An index: a list for each package.
    Index(Address),
    /// One page or folder with files of all packages.
    Links(Address),
}

impl Place {
    pub(super) fn address(&self) -> &Address {
        match self {
            Self::Index(address) | Self::Links(address) => address,
        }
    }

    fn files(&self, fetcher: &Fetcher, name: &str) -> Result<Vec<File>, RemoteError> {
        match self {
            Self::Index(address) => pypi::files(fetcher, address, name),
            Self::Links(address) => pypi::linked(fetcher, address, name),
        }
    }
}

/// What the first of several places that has the package `name` offers of it: nobody can put a newer one of
/// the same name elsewhere. When none has it, the error of the last.
pub(super) fn first_that_has(
    fetcher: &Fetcher,
    places: &[Place],
    name: &str,
) -> Result<(Address, Vec<File>), RemoteError> {
    let mut last = RemoteError::NotFound { url: name.to_owned() };
    for place in places {
        match place.files(fetcher, name) {
            Err(error @ RemoteError::NotFound { .. }) => last = error,
            found => return Ok((place.address().clone(), found?)),
        }
    }
    Err(last)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_stronger_than_all() {
        let mut terms = Terms::default();
        terms.only_wheels.add(":all:");
        terms.only_sources.add("Fog_Horn,bell");
        let forms = |name: &str| (terms.allow(name, false), terms.allow(name, true));
        assert_eq!(forms("fog-horn"), (false, true));
        assert_eq!(forms("rope"), (true, false));
        let mut forgotten = terms.clone();
        forgotten.only_sources.add(":none:");
        assert!(forgotten.allow("bell", false) && !forgotten.allow("bell", true));
    }
}
