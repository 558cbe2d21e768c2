//! The simple repository interface of Python packages (PEP 503 pages, PEP 691 documents).

use crate::address::Address;
use crate::error::{RemoteError, Result};
use crate::fetch::{Fetcher, at_path};
use content::digest::Hasher;
use serde::Deserialize;
use serde::de::IgnoredAny;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

const ACCEPT: &str =
    "application/vnd.pypi.simple.v1+json, application/vnd.pypi.simple.v1+html;q=0.2, text/html;q=0.1";

/// One file that an index offers for a project.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// The file name, which says version and compatibility.
    pub name: String,
    /// Where it is.
    pub address: Address,
    /// Hash name and hexadecimal value, as announced.
    pub hashes: BTreeMap<String, String>,
    /// Why it was withdrawn, if it was (PEP 592); the reason may be empty.
    pub yanked: Option<String>,
    /// The versions of Python that it is for, as a version specifier.
    pub python: Option<String>,
    /// Whether its metadata can be had without it (PEP 658, PEP 714).
    pub metadata: bool,
}

/// A project's name in canonical form (PEP 503: lower case, runs of `-_.` become one dash).
pub fn canonical_name(name: &str) -> String {
    let words = name.split(['-', '_', '.']).filter(|w| !w.is_empty());
    words.collect::<Vec<_>>().join("-").to_lowercase()
}

/// All files that `index` offers for `project` (canonical name).
pub fn files(fetcher: &Fetcher, index: &Address, project: &str) -> Result<Vec<File>> {
    let page = index.join(project);
    let bytes = match &page {
        Address::Folder(folder) => {
            let document = Address::Folder(folder.join("index.json"));
            match fetcher.get(&document, ACCEPT) {
                Err(RemoteError::NotFound { .. }) => {
                    fetcher.get(&Address::Folder(folder.join("index.html")), ACCEPT)?
                }
                found => found?,
            }
        }
        Address::Url(url) => fetcher.get(&Address::Url(format!("{url}/")), ACCEPT)?,
    };
    let malformed = |detail: String| RemoteError::Malformed { url: page.to_string(), detail };
    let text = String::from_utf8(bytes).map_err(|_| malformed("not UTF-8".to_owned()))?;
    if text.trim_start().starts_with('{') {
        parse_document(&page, &text).map_err(|e| malformed(e.to_string()))
    } else {
        Ok(parse_page(&page, &text))
    }
}

/// The files of `project` (canonical name) among those that one page or folder lists for all projects; of files
/// in a folder, the hash is computed.
pub fn linked(fetcher: &Fetcher, place: &Address, project: &str) -> Result<Vec<File>> {
    let is_of_project = |name: &str| {
        let rest = canonical_name(name);
        rest.strip_prefix(project).is_some_and(|rest| rest.starts_with('-'))
    };
    let mut files = match place {
        Address::Folder(folder) => files_in(folder, is_of_project)?,
        Address::Url(url) => {
            let bytes = fetcher.get(place, "text/html")?;
            let page =
                Address::Url(url.rsplit_once('/').map_or(url.as_str(), |(folder, _)| folder).to_owned());
            // Only an address that ends in a slash is a folder, whose pages lie in it.
            let page = if url.ends_with(".html") { page } else { place.clone() };
            parse_page(&page, &String::from_utf8_lossy(&bytes))
        }
    };
    files.retain(|file| is_of_project(&file.name));
    match files.is_empty() {
        true => Err(RemoteError::NotFound { url: format!("{place}/{project}") }),
        false => Ok(files),
    }
}

fn files_in(folder: &Path, is_wanted: impl Fn(&str) -> bool) -> Result<Vec<File>> {
    let entries = fs::read_dir(folder).map_err(|source| at_path(folder, source))?;
    let mut files = Vec::new();
    for entry in entries {
        let path = entry.map_err(|source| at_path(folder, source))?.path();
        let Some(name) = path.file_name().and_then(|name| name.to_str()).filter(|name| is_wanted(name))
        else {
            continue;
        };
        let hashed = fs::File::open(&path).and_then(|mut file| Hasher::of_reader(&mut file));
        let (digest, _) = hashed.map_err(|source| at_path(&path, source))?;
        files.push(File {
            name: name.to_owned(),
            hashes: BTreeMap::from([("sha256".to_owned(), digest.hex())]),
            yanked: None,
            python: None,
            metadata: false,
            address: Address::Folder(path),
        });
    }
    Ok(files)
}

/// The core metadata of a wheel, which the index keeps beside it.
pub fn metadata(fetcher: &Fetcher, file: &File) -> Result<String> {
    let address = match &file.address {
        Address::Folder(path) => Address::Folder(PathBuf::from(format!("{}.metadata", path.display()))),
        Address::Url(url) => Address::Url(format!("{url}.metadata")),
    };
    Ok(String::from_utf8_lossy(&fetcher.get(&address, "*/*")?).into_owned())
}

fn parse_document(page: &Address, text: &str) -> serde_json::Result<Vec<File>> {
    #[derive(Deserialize)]
    struct Document {
        files: Vec<Listed>,
    }
    #[derive(Deserialize)]
    struct Listed {
        filename: String,
        url: String,
        #[serde(default)]
        hashes: BTreeMap<String, String>,
        #[serde(default)]
        yanked: Yanked,
        #[serde(default, rename = "requires-python")]
        python: Option<String>,
        #[serde(default, rename = "core-metadata")]
        core_metadata: Option<Apart>,
        #[serde(default, rename = "dist-info-metadata")]
        dist_info_metadata: Option<Apart>,
    }
    /// `true`, `false` or the hashes of the metadata.
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Apart {
        Plain(bool),
        Hashes(IgnoredAny),
    }
    /// `true`, `false` or the reason (PEP 691).
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Yanked {
        Plain(bool),
        Because(String),
    }
    impl Default for Yanked {
        fn default() -> Self {
            Self::Plain(false)
        }
    }
    let reason = |yanked: Yanked| match yanked {
        Yanked::Plain(false) => None,
        Yanked::Plain(true) => Some(String::new()),
        Yanked::Because(reason) => Some(reason),
    };
    let document: Document = serde_json::from_str(text)?;
    let file = |f: Listed| {
        let (address, yanked) = (page.follow(&f.url)?, reason(f.yanked));
        let metadata = match f.core_metadata.or(f.dist_info_metadata) {
            Some(Apart::Plain(there)) => there,
            Some(Apart::Hashes(IgnoredAny)) => true,
            None => false,
        };
        Some(File { address, name: f.filename, hashes: f.hashes, yanked, python: f.python, metadata })
    };
    Ok(document.files.into_iter().filter_map(file).collect())
}

/// Reads the anchors of a page; everything else on it has no meaning (PEP 503).
fn parse_page(page: &Address, text: &str) -> Vec<File> {
    let mut files = Vec::new();
    for piece in text.split("<a ").skip(1) {
        let Some((attributes, rest)) = piece.split_once('>') else { continue };
        let Some(link) = attribute(attributes, "href") else { continue };
        let name = unescape(rest.split('<').next().unwrap_or_default().trim());
        let hashes = match link.split_once('#').and_then(|(_, hash)| hash.split_once('=')) {
            Some((hash, value)) => BTreeMap::from([(hash.to_owned(), value.to_owned())]),
            None => BTreeMap::new(),
        };
        if let Some(address) = page.follow(&link) {
            let yanked = attribute(attributes, "data-yanked");
            let python = attribute(attributes, "data-requires-python");
            let apart = ["data-core-metadata", "data-dist-info-metadata"];
            let metadata = apart.iter().any(|name| attribute(attributes, name).is_some());
            files.push(File { name, address, hashes, yanked, python, metadata });
        }
    }
    files
}

fn attribute(attributes: &str, name: &str) -> Option<String> {
    let (_, rest) = attributes.split_once(&format!("{name}="))?;
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    rest[1..].split_once(quote).map(|(value, _)| unescape(value))
}

fn unescape(text: &str) -> String {
    text.replace("&lt;", "<")
        .replace("&gt;", ">")
        .replace("&quot;", "\"")
        .replace("&#39;", "'")
        .replace("&amp;", "&")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    #[test]
    fn pages_and_documents_list_the_same_files() {
        let page = Address::parse("https://mirror.example/simple/fog-horn", Path::new("/"));
        let html = r#"<!DOCTYPE html><body><a href="fog_horn-1.0-py3-none-any.whl#sha256=ab"
            data-requires-python="&gt;=3.9" data-yanked="leaks">fog_horn-1.0-py3-none-any.whl</a><br/></body>"#;
        let json = r#"{"meta":{"api-version":"1.1"},"files":[{"filename":"fog_horn-1.0-py3-none-any.whl",
            "url":"fog_horn-1.0-py3-none-any.whl","hashes":{"sha256":"ab"},"yanked":"leaks","size":3,
            "requires-python":">=3.9"}]}"#;
        let from_page = parse_page(&page, html);
        assert_eq!(from_page, parse_document(&page, json).unwrap());
        assert_eq!(
            from_page[0].address.to_string(),
            "https://mirror.example/simple/fog-horn/fog_horn-1.0-py3-none-any.whl"
        );
        assert_eq!(canonical_name("Fog__Horn.py"), "fog-horn-py");
    }
}
