//! Names of apps, process types and tags.

use crate::error::ConfigError;
use crate::{Error, Result};

/// The longest name of an app or process type, in characters.
const LONGEST: usize = 63;

/// Checks the name of an app or process type: lower-case letters, digits and dashes, beginning with
/// a letter, at most 63 characters. `what` says which kind of name it is.
pub fn check(what: &'static str, name: &str) -> Result<()> {
    let good = name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.len() <= LONGEST
        && !name.ends_with('-')
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
    if good {
        return Ok(());
    }
    Err(Error::Config(ConfigError::Name { what, name: name.to_owned(), suggestion: valid(name) }))
}

/// Checks a tag (OCI distribution specification, "Pulling manifests": reference grammar).
pub fn check_tag(tag: &str) -> Result<()> {
    let first = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let rest = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-');
    if tag.starts_with(first) && tag.chars().all(rest) && tag.len() <= 128 {
        return Ok(());
    }
    let suggestion: String = tag.chars().map(|c| if rest(c) { c } else { '-' }).collect();
    let suggestion = suggestion.trim_matches(|c| matches!(c, '-' | '.')).to_owned();
    Err(Error::Config(ConfigError::Name {
        what: "tag",
        name: tag.to_owned(),
        suggestion: (!suggestion.is_empty()).then_some(suggestion),
    }))
}

/// Whether `name` can be the name of an environment variable.
pub fn is_variable(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}

/// The valid name that is nearest to any text, if there is one.
pub fn valid(name: &str) -> Option<String> {
    let mapped: String =
        name.to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let words: Vec<&str> = mapped.split('-').filter(|w| !w.is_empty()).collect();
    let joined = words.join("-");
    let trimmed = joined.trim_start_matches(|c: char| !c.is_ascii_lowercase());
    let cut: String = trimmed.chars().take(LONGEST).collect();
    let cut = cut.trim_end_matches('-').to_owned();
    (!cut.is_empty()).then_some(cut)
}

/// The name among `known` that `typed` most likely means.
pub fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = (typed.chars().count() / 3).max(1);
    let scored = known.into_iter().map(|name| (distance(typed, name), name));
    scored.filter(|(d, _)| *d <= limit).min().map(|(_, name)| name)
}

/// Edits (insert, delete, replace, swap neighbours) that turn `a` into `b`.
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![vec![0; b.len() + 1]; a.len() + 1];
    for i in 0..=a.len() {
        for j in 0..=b.len() {
            rows[i][j] = match (i, j) {
                (0, n) | (n, 0) => n,
                _ => {
                    let replace = rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
                    let mut best = replace.min(rows[i - 1][j] + 1).min(rows[i][j - 1] + 1);
                    if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                        best = best.min(rows[i - 2][j - 2] + 1);
                    }
                    best
                }
            };
        }
    }
    rows[a.len()][b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wrong_name_comes_with_the_nearest_right_one() {
        for (name, expected) in [
            ("Time_Table", Some("time-table")),
            ("2nd-ferry", Some("nd-ferry")),
            ("ÄÖ", None),
            ("fares-", Some("fares")),
        ] {
            match check("app", name) {
                Err(Error::Config(ConfigError::Name { suggestion, .. })) => {
                    assert_eq!(suggestion.as_deref(), expected)
                }
                other => panic!("{name} was not refused: {other:?}"),
            }
        }
        assert!(check("app", "timetable-2").is_ok());
        assert_eq!(nearest("worklst", ["worker", "worklist"]), Some("worklist"));
        assert_eq!(nearest("xyz", ["worker", "worklist"]), None);
    }
}
