//! `Packages`: what can be installed from a suite.

use super::control::paragraphs;
use super::relation::{self, Relation};
use super::version::compare;
use liblzma::read::XzDecoder;
use std::collections::BTreeMap;
use std::io::{self, Read};

/// One package of an index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The processor it is for, or `all`.
    pub architecture: String,
    /// The source package that it was made from.
    pub source: String,
    /// Path of the file in the archive.
    pub file: String,
    /// Length of the file in bytes.
    pub size: u64,
    /// Hexadecimal SHA-256 of the file.
    pub sha256: String,
    /// What it needs, `Pre-Depends` included.
    pub depends: Vec<Relation>,
    /// What it cannot be together with: `Conflicts` and `Breaks`.
    pub conflicts: Vec<Relation>,
    /// What it stands for besides its name, each perhaps with a version.
    pub provides: Vec<Relation>,
}

/// The packages of one or several suites, the newest version of each.
#[derive(Debug, Default)]
pub struct Index {
    /// Each paragraph is read when it is asked for: an archive has tens of thousands.
    texts: Vec<String>,
    /// Name to the newest version, and where its paragraph is: number of the text, begin, end.
    newest: BTreeMap<String, (String, usize, usize, usize)>,
    /// Names that other packages stand for, with those packages.
    provided: BTreeMap<String, Vec<String>>,
    /// The number of the archive that each text came from.
    archives: Vec<usize>,
}

impl Index {
    /// The newest version of a package.
    pub fn newest_version(&self, name: &str) -> Option<&str> {
        self.newest.get(name).map(|(version, ..)| version.as_str())
    }

    /// Adds what `Packages.xz` of a suite says; `archive` is the caller's number for where it is from.
    pub fn add_xz(&mut self, compressed: &[u8], archive: usize) -> io::Result<()> {
        let mut text = String::new();
        XzDecoder::new_multi_decoder(compressed).read_to_string(&mut text)?;
        self.add(text, archive);
        Ok(())
    }

    /// Adds what a `Packages` file says.
    pub fn add(&mut self, text: String, archive: usize) {
        let number = self.texts.len();
        for paragraph in text.split("\n\n") {
            let begin = paragraph.as_ptr() as usize - text.as_ptr() as usize;
            let Some(fields) = paragraphs(paragraph).next() else { continue };
            let (Some(name), Some(version)) = (fields.get("Package"), fields.get("Version")) else {
                continue;
            };
            if let Some(provides) = fields.get("Provides") {
                for alternative in relation::parse(provides).into_iter().flatten() {
                    let by = self.provided.entry(alternative.name).or_default();
                    if !by.iter().any(|b| b == name) {
                        by.push(name.to_owned());
                    }
                }
            }
            let older = self.newest.get(name).is_none_or(|(known, ..)| compare(version, known).is_gt());
            if older {
                let place = (version.to_owned(), number, begin, begin + paragraph.len());
                self.newest.insert(name.to_owned(), place);
            }
        }
        self.texts.push(text);
        self.archives.push(archive);
    }

    /// The newest version of a package, with the number of the archive that has it.
    pub fn package(&self, name: &str) -> Option<(Package, usize)> {
        let (_, number, begin, end) = self.newest.get(name)?;
        let paragraph = paragraphs(&self.texts[*number][*begin..*end]).next()?;
        let field = |name: &str| paragraph.get(name).unwrap_or_default();
        let mut depends = relation::parse(field("Pre-Depends"));
        depends.extend(relation::parse(field("Depends")));
        let mut conflicts = relation::parse(field("Conflicts"));
        conflicts.extend(relation::parse(field("Breaks")));
        let package = Package {
            name: field("Package").to_owned(),
            version: field("Version").to_owned(),
            architecture: field("Architecture").to_owned(),
            source: match field("Source").split(' ').next() {
                Some("") | None => field("Package").to_owned(),
                Some(source) => source.to_owned(),
            },
            file: field("Filename").to_owned(),
            size: field("Size").parse().ok()?,
            sha256: field("SHA256").to_owned(),
            depends,
            conflicts,
            provides: relation::parse(field("Provides")),
        };
        Some((package, self.archives[*number]))
    }

    /// Packages that stand for `name`, in the order of the index.
    pub fn providers(&self, name: &str) -> &[String] {
        self.provided.get(name).map(Vec::as_slice).unwrap_or_default()
    }

    /// The names of all packages.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.newest.keys().map(String::as_str)
    }
}
