//! Kinds of packages.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

/// A kind of packages that has registries of its own, by its name in configuration and options.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ecosystem(&'static str);

/// Names that are not part of this program; each is kept once for the life of the process.
static OTHERS: Mutex<BTreeSet<&'static str>> = Mutex::new(BTreeSet::new());

impl Ecosystem {
    /// Packages of Node.
    pub const NPM: Self = Self("npm");
    /// Packages of Python.
    pub const PYPI: Self = Self("pypi");
    /// Packages of the Debian distribution.
    pub const DEBIAN: Self = Self("debian");
    /// Its security updates.
    pub const DEBIAN_SECURITY: Self = Self("debian-security");

    /// Packages of PHP.
    pub const COMPOSER: Self = Self("composer");
    /// Gems of Ruby.
    pub const GEM: Self = Self("gem");
    /// Modules of Go.
    pub const GO: Self = Self("go");

    /// Artifacts of Java.
    pub const MAVEN: Self = Self("maven");
    /// Files that are no packages, such as fonts and schemas: always with a name that is bound to an address.
    pub const FILES: Self = Self("files");

    /// The ecosystem of this name, known or not.
    pub fn of(name: &str) -> Self {
        let mut others = OTHERS.lock().unwrap_or_else(PoisonError::into_inner);
        match others.get(name) {
            Some(known) => Self(known),
            None => {
                let kept: &'static str = Box::leak(name.to_owned().into_boxed_str());
                others.insert(kept);
                Self(kept)
            }
        }
    }

    /// An ecosystem that is part of this program.
    pub const fn built_in(name: &'static str) -> Self {
        Self(name)
    }

    /// The name in configuration and options.
    pub fn name(self) -> &'static str {
        self.0
    }

    /// The ecosystem of `npm`, or with a name or scope that is bound to an address, as in `npm:@kestrel`; one
    /// that is not among `known` is none.
    pub fn with_bound(text: &str, known: &[Self]) -> Option<(Self, Option<String>)> {
        let named = |name: &str| known.iter().copied().find(|e| e.0 == name);
        match text.split_once(':') {
            Some((_, "")) => None,
            Some((name, bound)) => Some((named(name)?, Some(bound.to_owned()))),
            None => Some((named(text)?, None)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ecosystems_of_one_name_are_equal_and_bound_names_are_read() {
        assert_eq!(Ecosystem::of("npm"), Ecosystem::NPM);
        let known = [Ecosystem::NPM, Ecosystem::of("shells")];
        assert_eq!(Ecosystem::with_bound("shells", &known), Some((Ecosystem::of("shells"), None)));
        let scope = Some("@kestrel".to_owned());
        assert_eq!(Ecosystem::with_bound("npm:@kestrel", &known), Some((Ecosystem::NPM, scope)));
        assert_eq!(Ecosystem::with_bound("npm:", &known), None);
        assert_eq!(Ecosystem::with_bound("buoys", &known), None);
    }
}
