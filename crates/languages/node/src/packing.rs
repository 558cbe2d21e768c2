//! A folder as npm packs it: a package that comes from a commit is what its author would publish.

use crate::tarball;
use content::store::Store;
use engine::collect;
use engine::download_buffer::{rewind, spool};
use flate2::Compression;
use flate2::write::GzEncoder;
use ignore::gitignore::GitignoreBuilder;
use model::error::PackageError;
use model::{Error, PathFacts, Result};
use serde_json::Value;
use std::fs::{self, File};
use std::io::Write;
use std::path::Path;
use tempfile::SpooledTempFile;

/// What is in no package, whatever it says.
const NEVER: [&str; 14] = [
    ".git",
    ".svn",
    ".hg",
    "CVS",
    ".npmrc",
    ".npmignore",
    ".gitignore",
    ".DS_Store",
    "*.orig",
    "node_modules",
    "npm-debug.log",
    "/package-lock.json",
    "/yarn.lock",
    "/pnpm-lock.yaml",
];
/// What is in every package, by the beginnings of names in lower case.
const ALWAYS: [&str; 4] = ["package.json", "readme", "license", "licence"];
/// Scripts that make what a package is made of.
pub(super) const MAKING: [&str; 2] = ["prepare", "prepack"];

/// The archive of the package in `folder`, called `label`.
pub(super) fn packed(folder: &Path, label: &str, store: &Store) -> Result<SpooledTempFile> {
    let mut archive = tar::Builder::new(GzEncoder::new(spool(store), Compression::fast()));
    for path in taken(folder, label)? {
        let full = folder.join(&path);
        let mut file = File::open(&full).facts(&full)?;
        archive.append_file(format!("package/{path}"), &mut file).facts(&full)?;
    }
    let mut packed = archive.into_inner().and_then(GzEncoder::finish).facts(folder)?;
    packed.flush().facts(folder)?;
    rewind(&mut packed)?;
    Ok(packed)
}

fn manifest_of(folder: &Path, label: &str) -> Result<Value> {
    let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.to_owned(), detail });
    let text = fs::read(folder.join("package.json")).map_err(|_| bad("no package.json in it".to_owned()))?;
    serde_json::from_slice(&text).map_err(|e| bad(e.to_string()))
}

/// The files of the package in `folder` that its author would publish.
pub(super) fn taken(folder: &Path, label: &str) -> Result<Vec<String>> {
    let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.to_owned(), detail });
    let manifest = manifest_of(folder, label)?;
    // Links are in no package.
    let files: Vec<String> =
        collect::files(folder)?.into_iter().filter(|path| !folder.join(path).is_symlink()).collect();
    let never = patterns(folder, &NEVER.map(str::to_owned)).map_err(bad)?;
    let chosen = match &manifest["files"] {
        Value::Array(all) => {
            let all: Vec<String> = all.iter().filter_map(|v| v.as_str().map(anchored)).collect();
            Some(patterns(folder, &all).map_err(bad)?)
        }
        _ => None,
    };
    let rules = [".npmignore", ".gitignore"].iter().find_map(|f| fs::read_to_string(folder.join(f)).ok());
    let rules: Vec<String> = rules.unwrap_or_default().lines().map(str::to_owned).collect();
    let left_out = patterns(folder, &rules).map_err(bad)?;
    let commands = tarball::commands("", &manifest["bin"]);
    let named = commands.values().map(String::as_str).chain(manifest["main"].as_str());
    let named: Vec<String> = named.map(|file| file.trim_start_matches("./").to_owned()).collect();
    let is_taken = |path: &String| {
        let always = ALWAYS.iter().any(|name| path.to_lowercase().starts_with(name) && !path.contains('/'));
        let matches =
            |set: &ignore::gitignore::Gitignore| set.matched_path_or_any_parents(path, false).is_ignore();
        let wanted = match &chosen {
            Some(chosen) => matches(chosen),
            None => !matches(&left_out),
        };
        !matches(&never) && (always || wanted || named.contains(path))
    };
    Ok(files.iter().filter(|path| is_taken(path)).cloned().collect())
}

/// A pattern of `files` is meant from the top.
fn anchored(pattern: &str) -> String {
    format!("/{}", pattern.trim_start_matches("./").trim_start_matches('/'))
}

fn patterns(folder: &Path, lines: &[String]) -> Result<ignore::gitignore::Gitignore, String> {
    let mut builder = GitignoreBuilder::new(folder);
    for line in lines {
        builder.add_line(None, line).map_err(|error| error.to_string())?;
    }
    builder.build().map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;

    fn packed_names(files: &[(&str, &str)]) -> Result<Vec<String>> {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let file = folder.path().join(path);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, text).unwrap();
        }
        let store = Store::open(&folder.path().join(".git/store")).unwrap();
        let mut bytes = Vec::new();
        packed(folder.path(), "fog 1", &store)?.read_to_end(&mut bytes).unwrap();
        let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(&bytes[..]));
        let path = |entry: tar::Entry<'_, _>| entry.path().unwrap().display().to_string();
        let names = archive.entries().unwrap().map(|entry| path(entry.unwrap()));
        Ok(names.map(|name| name.trim_start_matches("package/").to_owned()).collect())
    }

    #[test]
    fn a_folder_is_packed_by_what_it_says() {
        let files = [
            ("README.md", ""),
            ("lib/fog.js", ""),
            ("test/fog.js", ""),
            (".gitignore", "test\n"),
            ("yarn.lock", ""),
        ];
        let with = |manifest: &'static str| [&files[..], &[("package.json", manifest)]].concat();
        assert_eq!(packed_names(&with("{}")).unwrap(), ["README.md", "lib/fog.js", "package.json"]);
        let chosen = with(r#"{"files":["test"],"main":"./lib/fog.js"}"#);
        assert_eq!(
            packed_names(&chosen).unwrap(),
            ["README.md", "lib/fog.js", "package.json", "test/fog.js"]
        );
    }
}
