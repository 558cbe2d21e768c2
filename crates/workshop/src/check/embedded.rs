//! Files that a Go compiler puts into a program (package `embed`): without them nothing compiles.

use crate::check::{Found, Subject, error};
use globset::GlobBuilder;
use model::{Place, Result, in_folder};
use source::is_for_tests;
use std::path::Path;

const DIRECTIVE: &str = "//go:embed ";
/// Folders that the compiler passes over, or whose programs do not run the app.
const ASIDE: [&str; 5] = ["vendor", "testdata", "example", "examples", "hack"];

pub(super) fn missing(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let is_go = |finding: &model::Finding| finding.buildpack == "go" && finding.runtime.is_some();
    // What the app's own command makes is not there yet.
    if subject.survey.build.is_some() || !subject.survey.chosen_findings().any(is_go) {
        return Ok(Vec::new());
    }
    let mut found = Vec::new();
    for path in subject.app.tree.files().keys().filter(|path| path.ends_with(".go")) {
        let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
        if is_for_tests(path)
            || path.ends_with("_test.go")
            || folder.split('/').any(|part| ASIDE.contains(&part))
        {
            continue;
        }
        let Some(text) = subject.app.tree.read_text(path)? else { continue };
        for (number, line) in text.lines().enumerate() {
            let Some(patterns) = line.strip_prefix(DIRECTIVE) else { continue };
            let place = || Place::new(path.as_str(), u32::try_from(number + 1).ok());
            let lacking = words(patterns).into_iter().map(|pattern| in_folder(folder, &pattern));
            found.extend(lacking.filter(|pattern| !is_there(subject, pattern)).map(|pattern| {
                let what = format!("{pattern} is to be embedded in the program but is not packed");
                let advice = match subject.app.opened.near.join(&pattern).exists() {
                    true => format!("in shtetl.toml, under [source]: include = [{pattern:?}]"),
                    false => {
                        "generate it before the build, or by a build command: in shtetl.toml, under [build]: run = \"the command\""
                            .to_owned()
                    }
                };
                error(place(), what, advice)
            }));
        }
    }
    Ok(found)
}

/// The patterns of a directive, without the sign that also takes hidden files.
fn words(text: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut rest = text.trim();
    while let Some(first) = rest.chars().next() {
        let is_quoted = matches!(first, '"' | '`');
        let (word, after) = match is_quoted {
            true => rest[1..].split_once(first).unwrap_or((&rest[1..], "")),
            false => rest.split_once(char::is_whitespace).unwrap_or((rest, "")),
        };
        words.push(word.strip_prefix("all:").unwrap_or(word).trim_end_matches('/').to_owned());
        rest = after.trim_start();
    }
    words
}

/// Whether a file fits a pattern, or is in a folder that does.
fn is_there(subject: &Subject<'_>, pattern: &str) -> bool {
    // What cannot be read as a pattern is left to the compiler.
    let Ok(glob) = GlobBuilder::new(pattern).literal_separator(true).build() else { return true };
    let matcher = glob.compile_matcher();
    let fits = |path: &Path| path.ancestors().any(|part| matcher.is_match(part));
    subject.app.tree.files().keys().any(|path| fits(Path::new(path)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_may_be_quoted_and_may_ask_for_hidden_files() {
        assert_eq!(words("pages all:static \"a b.txt\" `c d`"), ["pages", "static", "a b.txt", "c d"]);
        assert_eq!(words("dist/"), ["dist"]);
    }
}
