//! Code of a language in a source that lacks the file by which the language is recognised.

use crate::check;
use model::error::Undeclared;
use source::{SourceTree, is_for_tests};

/// A language: the endings of its files, its name, the file that declares packages, the command that writes it.
type Language = (&'static [&'static str], &'static str, &'static str, Option<&'static str>);

const LANGUAGES: [Language; 5] = [
    (&[".py"], "Python", "requirements.txt", None),
    (&[".js", ".mjs", ".cjs", ".ts"], "JavaScript", "package.json", Some("npm init -y")),
    (&[".rb"], "Ruby", "Gemfile", Some("bundle init")),
    (&[".go"], "Go", "go.mod", Some("go mod init app && go mod tidy")),
    (&[".java"], "Java", "pom.xml", None),
];

/// The language that most of the files are written in, where it is one of those above.
pub(super) fn code(tree: &SourceTree) -> Option<Undeclared> {
    let files = |endings: &'static [&str]| {
        let of_language = move |path: &&String| endings.iter().any(|ending| path.ends_with(ending));
        tree.files().keys().filter(of_language).filter(|path| !is_for_tests(path))
    };
    let (endings, language, manifest, command) =
        LANGUAGES.into_iter().max_by_key(|(endings, ..)| files(endings).count())?;
    // What lies nearest to the top is best known.
    let file = files(endings).min_by_key(|path| (path.matches('/').count(), path.as_str()))?.clone();
    let packages = match language {
        "Python" => check::imported_packages(tree, files(endings)),
        _ => Vec::new(),
    };
    Some(Undeclared { file, language, manifest, command, packages })
}
