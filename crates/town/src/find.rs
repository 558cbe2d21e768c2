//! Which images have a package: from a local index, which is a cache of the records of images.

use content::BlobDigest;
use content::digest::Sha256;
use content::store::Store;
use evidence::compare_of_kind;
use model::Result;
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use workshop::inspect::{self, OpenImage};

/// What is looked for: a package, and which of its versions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Query {
    /// The kind of its package URL (`npm`, `pypi`, `maven`, `golang`, `gem`, `composer`, `deb`), if known.
    kind: Option<String>,
    /// Its name.
    name: String,
    /// What holds for its version, all at once.
    bounds: Vec<(Bound, String)>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Bound {
    Less,
    AtMost,
    More,
    AtLeast,
    Exactly,
}

/// Bounds as they are written, longer ones first.
const BOUNDS: [(&str, Bound); 5] = [
    ("<=", Bound::AtMost),
    (">=", Bound::AtLeast),
    ("<", Bound::Less),
    (">", Bound::More),
    ("=", Bound::Exactly),
];

impl Query {
    /// Reads `NAME`, `KIND:NAME` or a package URL, with `@RANGE` behind it: a version, or bounds such as `>=4,<4.17.21`.
    /// Nothing where it names no package.
    pub fn parse(text: &str) -> Option<Self> {
        let rest = text.strip_prefix("pkg:");
        let (kind, rest) = match (rest, text.split_once(':')) {
            (Some(rest), _) => {
                let (kind, rest) = rest.split_once('/')?;
                (Some(kind), rest)
            }
            // Names of Maven have a colon of their own.
            (None, Some((kind, rest))) if KINDS.contains(&kind) => (Some(kind), rest),
            (None, _) => (None, text),
        };
        // The first letter of a name may be an at sign.
        let at = rest.char_indices().skip(1).find(|(_, letter)| *letter == '@').map(|(at, _)| at);
        let (name, range) = at.map_or((rest, ""), |at| (&rest[..at], &rest[at + 1..]));
        let bound = |text: &str| {
            let known = BOUNDS.iter().find_map(|(sign, bound)| Some((*bound, text.strip_prefix(sign)?)));
            let (bound, version) = known.unwrap_or((Bound::Exactly, text));
            let version = version.trim();
            (!version.is_empty()).then(|| (bound, version.to_owned()))
        };
        let parts = range.split(',').map(str::trim).filter(|part| !part.is_empty());
        let bounds: Option<Vec<_>> = parts.map(bound).collect();
        let name = if kind == Some("pypi") { name.replace('_', "-").to_lowercase() } else { name.to_owned() };
        let is_named = !name.is_empty();
        is_named.then_some(Self { kind: kind.map(str::to_owned), name, bounds: bounds? })
    }

    fn fits(&self, package: &Package) -> bool {
        let kind = package.kind();
        let is_kind = self.kind.as_deref().is_none_or(|wanted| wanted == kind);
        let is_named = package.name == self.name
            || package.name.replace('/', ":") == self.name
            || (kind == "pypi"
                && package.name.to_lowercase().replace(['_', '.'], "-") == self.name.to_lowercase());
        let holds = |(bound, version): &(Bound, String)| {
            let order = compare_of_kind(kind, &package.version, version);
            match bound {
                Bound::Less => order == Ordering::Less,
                Bound::AtMost => order != Ordering::Greater,
                Bound::More => order == Ordering::Greater,
                Bound::AtLeast => order != Ordering::Less,
                Bound::Exactly => order == Ordering::Equal,
            }
        };
        is_kind && is_named && self.bounds.iter().all(holds)
    }
}

/// Kinds of package URLs that a name may begin with.
const KINDS: [&str; 8] = ["npm", "pypi", "maven", "golang", "gem", "composer", "deb", "generic"];

/// A package in an index.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its package URL.
    pub purl: String,
}

impl Package {
    fn kind(&self) -> &str {
        self.purl.strip_prefix("pkg:").and_then(|rest| rest.split('/').next()).unwrap_or_default()
    }
}

/// Which images have which packages.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct PackageIndex {
    packages: Vec<Package>,
    /// By the digest of an image's index: places in `packages`.
    images: BTreeMap<String, Vec<u32>>,
}

/// An image with a package that was looked for.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Found {
    /// The image.
    pub image: String,
    /// The package.
    #[serde(flatten)]
    pub package: Package,
}

/// What the index of a store is called there.
const NAME: &[u8] = b"shtetl/package-index/1";

impl PackageIndex {
    /// The index of a store, brought up to date: `named` are all images that are looked at. What `open` opens is an image that
    /// the index does not know. Gives what could not be read, too.
    pub fn of(
        store: &Store,
        named: &[(String, BlobDigest)],
        open: &dyn Fn(&str, BlobDigest) -> Result<OpenImage>,
    ) -> Result<(Self, Vec<(String, model::Error)>)> {
        let place = store.fragment_path("package-index", Sha256::of(NAME));
        let known: Self = store.read_document(&place).whole().unwrap_or_default();
        let missing: Vec<&(String, BlobDigest)> =
            named.iter().filter(|(_, digest)| !known.images.contains_key(&digest.hex())).collect();
        if missing.is_empty() {
            return Ok((known, Vec::new()));
        }
        let mut interned: BTreeMap<Package, u32> = BTreeMap::new();
        let mut index = Self::default();
        let mut intern = |index: &mut Self, package: Package| -> u32 {
            *interned.entry(package.clone()).or_insert_with(|| {
                index.packages.push(package);
                u32::try_from(index.packages.len() - 1).unwrap_or(u32::MAX)
            })
        };
        for (digest, places) in &known.images {
            let packages =
                places.iter().filter_map(|place| known.packages.get(usize::try_from(*place).ok()?));
            let places = packages.map(|package| intern(&mut index, package.clone())).collect();
            index.images.insert(digest.clone(), places);
        }
        let mut unreadable = Vec::new();
        for (label, digest) in missing {
            match open(label, *digest) {
                Ok(image) => {
                    let packages: BTreeSet<Package> = packages_of(&image).collect();
                    let places = packages.into_iter().map(|package| intern(&mut index, package)).collect();
                    index.images.insert(digest.hex(), places);
                }
                Err(error) => unreadable.push((label.clone(), error)),
            }
        }
        store.write_document(&place, &index)?;
        Ok((index, unreadable))
    }

    /// The images of those named that have what is looked for.
    pub fn find(&self, query: &Query, named: &[(String, BlobDigest)]) -> Vec<Found> {
        let fitting: BTreeSet<u32> = (0_u32..)
            .zip(&self.packages)
            .filter(|(_, package)| query.fits(package))
            .map(|(place, _)| place)
            .collect();
        let mut found = Vec::new();
        for (image, digest) in named {
            let places = self.images.get(&digest.hex()).into_iter().flatten();
            for place in places.filter(|place| fitting.contains(place)) {
                let package = usize::try_from(*place).ok().and_then(|place| self.packages.get(place));
                found.extend(package.map(|package| Found { image: image.clone(), package: package.clone() }));
            }
        }
        found.sort();
        found
    }
}

fn packages_of(image: &OpenImage) -> impl Iterator<Item = Package> {
    image.records().flat_map(|record| &record.packages).map(|fact| Package {
        name: fact.name.clone(),
        version: fact.version.clone(),
        purl: fact.purl.clone(),
    })
}

/// Names and digests of all images of a store.
pub fn named_images(store: &Store) -> Result<Vec<(String, BlobDigest)>> {
    let digest = |label: String| {
        let (name, tag) = label.split_once(':')?;
        let digest = store.read_document(&store.image_path(name, tag)).whole()?;
        Some((label, digest))
    };
    Ok(inspect::all(store)?.into_iter().filter_map(digest).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn package(name: &str, version: &str, purl: &str) -> Package {
        Package { name: name.to_owned(), version: version.to_owned(), purl: format!("pkg:{purl}") }
    }

    fn fits(query: &str, package: &Package) -> bool {
        Query::parse(query).unwrap_or_else(|| panic!("{query}")).fits(package)
    }

    #[test]
    fn packages_are_found_by_name_kind_and_range() {
        let hull = package("hull", "4.17.20", "npm/hull@4.17.20");
        for query in [
            "hull",
            "npm:hull",
            "pkg:npm/hull@4.17.20",
            "hull@<4.17.21",
            "hull@>=4,<=4.17.20",
            "hull@=4.17.20",
        ] {
            assert!(fits(query, &hull), "{query}");
        }
        for query in ["hul", "pypi:hull", "hull@4.17.21", "hull@>4.17.20", "hull@>=4,<4.17"] {
            assert!(!fits(query, &hull), "{query}");
        }
        let scoped = package("@kestrel/fog", "1.0.0", "npm/%40kestrel/fog@1.0.0");
        assert!(fits("@kestrel/fog", &scoped) && fits("@kestrel/fog@1.0.0", &scoped));
        let deb = package("libssl3", "3.0.17-1~deb12u2", "deb/debian/libssl3@3.0.17-1~deb12u2");
        assert!(fits("deb:libssl3@<3.0.17-1~deb12u3", &deb) && !fits("libssl3@<3.0.17-1~deb12u2", &deb));
        let maven = package("example.quay:quay", "1.0", "maven/example.quay/quay@1.0");
        assert!(fits("example.quay:quay", &maven) && fits("maven:example.quay:quay", &maven));
        assert!(fits("pypi:Tide_Tables@>=2", &package("tide-tables", "2.0", "pypi/tide-tables@2.0")));
        assert_eq!([Query::parse(""), Query::parse("hull@<"), Query::parse("pkg:npm")], [None, None, None]);
    }
}
