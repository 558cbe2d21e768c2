//! Code of a language in a source that lacks the file by which the language is recognised.

use crate::check;
use model::error::Undeclared;
use source::{SourceTree, is_for_tests};
use std::cmp::Reverse;

/// A language: the endings of its files, its name, the file that declares packages, the command that writes it.
type Language = (&'static [&'static str], &'static str, &'static str, Option<&'static str>);

const LANGUAGES: [Language; 5] = [
    (&[".py"], "Python", "requirements.txt", None),
    (&[".js", ".mjs", ".cjs", ".ts"], "JavaScript", "package.json", Some("npm init -y")),
    (&[".rb"], "Ruby", "Gemfile", Some("bundle init")),
    (&[".go"], "Go", "go.mod", Some("go mod init app && go mod tidy")),
    (&[".java"], "Java", "pom.xml", None),
];

/// The language of the file that lies nearest to the top, where it is one of those above; of several, the one with the
/// most files.
pub(super) fn code(tree: &SourceTree) -> Option<Undeclared> {
    let files = |endings: &'static [&str]| {
        let of_language = move |path: &&String| endings.iter().any(|ending| path.ends_with(ending));
        tree.files().keys().filter(of_language).filter(|path| !is_for_tests(path))
    };
    let depth = |path: &&String| path.matches('/').count();
    let near = LANGUAGES.into_iter().filter_map(|language| {
        let depths = files(language.0).map(|path| depth(&path));
        Some(((depths.clone().min()?, Reverse(depths.count())), language))
    });
    let (_, (endings, language, manifest, command)) = near.min_by_key(|(key, _)| *key)?;
    let file = files(endings).min_by_key(|path| (depth(path), path.as_str()))?.clone();
    let packages = match language {
        "Python" => check::imported_packages(tree, files(endings)),
        _ => Vec::new(),
    };
    Some(Undeclared { file, language, manifest, command, packages })
}
