//! What the web server wants to have beside the pages: compressed forms of them, and tags of their contents.

use content::digest::{Hasher, Sha256};
use content::layer::{Entry, LayerWriter};
use engine::unpacked_layers::{StoredLayer, readable};
use engine::{Action, Fingerprint, Recipe, StepContext, collect, each_in_parallel};
use flate2::Compression;
use flate2::write::GzEncoder;
use model::{Error, PackageFact, PathFacts, Result};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// Where the tags are put, from the root of the image.
const TAGS: &str = "opt/pages/tags.conf";
/// The folder of the app, from the root of the image.
const APP: &str = "app";
/// The page that a folder's path means.
const INDEX: &str = "index.html";
/// Files that are worth compressing, by the ends of their names.
const TEXTS: [&str; 19] = [
    "html",
    "htm",
    "css",
    "js",
    "mjs",
    "json",
    "map",
    "txt",
    "md",
    "xml",
    "svg",
    "csv",
    "ics",
    "wasm",
    "ttf",
    "otf",
    "webmanifest",
    "ico",
    "vtt",
];
/// From how many bytes on, and up to how many.
const LEAST: u64 = 1 << 10;
const MOST: u64 = 64 << 20;

/// The step's work; it reads the layers with the pages.
pub(crate) struct PageFiles {
    /// The folder of the pages, from the folder of the app.
    pub(crate) folder: String,
    /// Whether the first page answers every path that has no file.
    pub(crate) single_page: bool,
}

impl Action for PageFiles {
    fn fingerprint(&self) -> Fingerprint {
        let Self { folder, single_page } = self;
        let values = [("folder", folder.clone()), ("single page", single_page.to_string())];
        Fingerprint::of(Recipe::new("page files", 1)).values("pages", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let mut pages = Pages::default();
        for read in cx.read {
            let stored = StoredLayer::from(&read.layer);
            pages.add(&readable(layer.store(), &stored)?.join(APP).join(&self.folder))?;
        }
        let files: Vec<(&String, &PathBuf)> = pages.files.iter().collect();
        let done = Mutex::new((BTreeMap::new(), BTreeMap::new()));
        each_in_parallel(&files, cx, |&(path, file)| {
            let (tag, compressed) = look_at(path, file, &pages)?;
            let mut done = done.lock().unwrap_or_else(PoisonError::into_inner);
            done.0.insert(path.clone(), tag);
            done.1.extend(compressed.map(|bytes| (format!("{path}.gz"), bytes)));
            Ok(())
        })?;
        let (tags, compressed) = done.into_inner().unwrap_or_else(PoisonError::into_inner);
        let tags = tags_file(&tags, &pages.links, self.single_page);
        let folder = Path::new(APP).join(&self.folder);
        let mut all = vec![(TAGS.to_owned(), tags.into_bytes())];
        all.extend(compressed.into_iter().map(|(p, bytes)| (folder.join(p).display().to_string(), bytes)));
        put(layer, &all)?;
        Ok(Vec::new())
    }
}

/// What is served, by paths from the folder of the pages.
#[derive(Default)]
struct Pages {
    /// Files, with where they are on this machine.
    files: BTreeMap<String, PathBuf>,
    /// Links: what they lead to is only known in the image.
    links: BTreeSet<String>,
}

impl Pages {
    fn add(&mut self, folder: &Path) -> Result<()> {
        if !folder.is_dir() {
            return Ok(());
        }
        for path in collect::files(folder)? {
            let full = folder.join(&path);
            match full.symlink_metadata().facts(&full)?.is_symlink() {
                true => {
                    self.files.remove(&path);
                    self.links.insert(path);
                }
                false => {
                    self.links.remove(&path);
                    self.files.insert(path, full);
                }
            }
        }
        Ok(())
    }
}

/// The tag of a file, and its compressed form where that is worth it and the build made none.
fn look_at(path: &str, file: &Path, pages: &Pages) -> Result<(String, Option<Vec<u8>>)> {
    let size = file.metadata().facts(file)?.len();
    let ending = path.rsplit_once('.').map_or("", |(_, ending)| ending);
    let is_text = TEXTS.contains(&ending.to_ascii_lowercase().as_str());
    if !is_text || !(LEAST..=MOST).contains(&size) || pages.files.contains_key(&format!("{path}.gz")) {
        let (digest, _) = Hasher::of_reader(&mut File::open(file).facts(file)?).facts(file)?;
        return Ok((tag_of(&digest), None));
    }
    let content = fs::read(file).facts(file)?;
    let mut encoder = GzEncoder::new(Vec::new(), Compression::best());
    encoder.write_all(&content)?;
    let compressed = encoder.finish()?;
    let is_smaller = compressed.len() < content.len() / 10 * 9;
    Ok((tag_of(&Sha256::of(&content)), is_smaller.then_some(compressed)))
}

/// Half of the digest is plenty to tell the versions of one page apart.
fn tag_of(digest: &Sha256) -> String {
    digest.hex()[..32].to_owned()
}

/// The table from paths to tags, as nginx reads it: one tag for the plain and the compressed form, so it is a weak one
/// (RFC 9110, section 8.8.1). nginx takes no account of upper and lower case here, so paths that differ in nothing
/// else share a tag of all of them.
fn tags_file(tags: &BTreeMap<String, String>, links: &BTreeSet<String>, single_page: bool) -> String {
    let mut by_path: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for (path, tag) in tags {
        for name in paths_of(path, tags) {
            by_path.entry(format!("/{name}").to_lowercase()).or_default().push(tag);
        }
    }
    for link in links {
        by_path.insert(format!("/{link}").to_lowercase(), Vec::new());
    }
    let one = |tags: &Vec<&str>| match &tags[..] {
        [] => String::new(),
        [tag] => weak(tag),
        several => weak(&tag_of(&Sha256::of(several.join(" ").as_bytes()))),
    };
    let longest = by_path.keys().map(String::len).max().unwrap_or_default();
    let (size, bucket) = ((by_path.len() * 4).max(2048), (longest + 64).next_multiple_of(64));
    let mut text =
        format!("map_hash_max_size {size};\nmap_hash_bucket_size {bucket};\nmap $uri $page_tag {{\n");
    // What a link leads to may be what the first page answers for otherwise.
    if let Some(first) = tags.get(INDEX).filter(|_| single_page && links.is_empty()) {
        text += &format!("  default {};\n  \"~\\.[a-z0-9]+$\" \"\";\n", quoted(&weak(first)));
    }
    for (path, tags) in &by_path {
        text += &format!("  {} {};\n", quoted(path), quoted(&one(tags)));
    }
    text + "}\n"
}

/// The paths that a file answers.
fn paths_of(path: &str, all: &BTreeMap<String, String>) -> Vec<String> {
    let mut paths = vec![path.to_owned()];
    let folder = path.strip_suffix(INDEX).filter(|folder| folder.is_empty() || folder.ends_with('/'));
    match (folder, path.strip_suffix(".html")) {
        (Some(folder), _) => paths.push(folder.to_owned()),
        (None, Some(name)) if !all.contains_key(name) => paths.push(name.to_owned()),
        _ => {}
    }
    paths
}

fn weak(tag: &str) -> String {
    format!("W/\"{tag}\"")
}

/// A word of nginx's configuration.
fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

fn put(layer: &mut LayerWriter<'_>, files: &[(String, Vec<u8>)]) -> Result<()> {
    layer.part::<Error>(|tar| {
        let mut folders = BTreeSet::new();
        for (path, bytes) in files {
            for (at, _) in path.match_indices('/') {
                if folders.insert(&path[..at]) {
                    tar.entry(&Entry::folder(&path[..at]))?;
                }
            }
            tar.file(&Entry::file(path.as_str(), bytes.len() as u64, false), &mut bytes.as_slice())?;
        }
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tags(paths: &[&str]) -> BTreeMap<String, String> {
        paths.iter().map(|path| ((*path).to_owned(), path.len().to_string())).collect()
    }

    #[test]
    fn a_page_has_one_tag_under_each_of_its_paths() {
        let text =
            tags_file(&tags(&["index.html", "docs/index.html", "about.html"]), &BTreeSet::new(), false);
        let lines: Vec<&str> = text.lines().skip(3).collect();
        assert_eq!(
            lines,
            [
                r#"  "/" "W/\"10\"";"#,
                r#"  "/about" "W/\"10\"";"#,
                r#"  "/about.html" "W/\"10\"";"#,
                r#"  "/docs/" "W/\"15\"";"#,
                r#"  "/docs/index.html" "W/\"15\"";"#,
                r#"  "/index.html" "W/\"10\"";"#,
                "}"
            ]
        );
    }

    #[test]
    fn the_first_page_of_a_single_page_app_answers_paths_without_an_ending() {
        let text = tags_file(&tags(&["index.html"]), &BTreeSet::new(), true);
        assert!(text.contains("  default \"W/\\\"10\\\"\";\n  \"~\\.[a-z0-9]+$\" \"\";\n"), "{text}");
        let link = BTreeSet::from(["latest".to_owned()]);
        assert!(!tags_file(&tags(&["index.html"]), &link, true).contains("default"));
    }

    #[test]
    fn names_that_differ_in_case_only_share_a_tag_and_signs_are_quoted() {
        let text = tags_file(&tags(&["Pier.css", "pier.css", "a \"b\"\\c.txt"]), &BTreeSet::new(), false);
        assert_eq!(text.matches("/pier.css").count(), 1, "{text}");
        assert!(!text.contains("W/\\\"8\\\""), "neither's own: {text}");
        assert!(text.contains(r#""/a \"b\"\\c.txt""#), "{text}");
    }
}
