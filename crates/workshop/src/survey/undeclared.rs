//! Code of a language in a source that lacks the file by which the language is recognised.

use model::error::Undeclared;
use python::imports::imported_packages;
use source::{SourceTree, is_for_tests};
use std::cmp::Reverse;

/// A language, and how its apps declare packages.
struct Language {
    /// The endings of its files.
    endings: &'static [&'static str],
    /// Its name, as people write it.
    name: &'static str,
    /// The file that declares packages.
    manifest: &'static str,
    /// The usual command that writes that file.
    command: Option<&'static str>,
    /// The packages that some of the files import, where that can be told.
    imported: fn(&SourceTree, &[&String]) -> Vec<String>,
}

const LANGUAGES: [Language; 5] = [
    Language {
        endings: &[".py"],
        name: "Python",
        manifest: "requirements.txt",
        command: None,
        imported: |tree, files| imported_packages(tree, files.iter().copied()),
    },
    language(&[".js", ".mjs", ".cjs", ".ts"], "JavaScript", "package.json", Some("npm init -y")),
    language(&[".rb"], "Ruby", "Gemfile", Some("bundle init")),
    language(&[".go"], "Go", "go.mod", Some("go mod init app && go mod tidy")),
    language(&[".java"], "Java", "pom.xml", None),
];

const fn language(
    endings: &'static [&'static str],
    name: &'static str,
    manifest: &'static str,
    command: Option<&'static str>,
) -> Language {
    Language { endings, name, manifest, command, imported: |_, _| Vec::new() }
}

/// The language of the file that lies nearest to the top, where it is one of those above; of several, the one with the
/// most files.
pub(super) fn code(tree: &SourceTree) -> Option<Undeclared> {
    let depth = |path: &str| path.matches('/').count();
    let files = |language: &Language| -> Vec<&String> {
        let of_language = |path: &&String| language.endings.iter().any(|ending| path.ends_with(ending));
        let mut files: Vec<&String> =
            tree.files().keys().filter(of_language).filter(|path| !is_for_tests(path)).collect();
        files.sort_by_key(|path| depth(path));
        files
    };
    let found = LANGUAGES.iter().map(|language| (language, files(language)));
    let (language, files) = found
        .filter(|(_, files)| !files.is_empty())
        .min_by_key(|(_, files)| (depth(files[0]), Reverse(files.len())))?;
    Some(Undeclared {
        file: files[0].clone(),
        language: language.name,
        manifest: language.manifest,
        command: language.command,
        packages: (language.imported)(tree, &files),
    })
}
