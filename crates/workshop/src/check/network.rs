//! Rules of what a build fetches: it has no network.

use crate::check::{Found, Subject, error};
use model::{Place, Result};
use source::is_for_tests;

/// Modules that fetch something while the app is built, and what to use in their place.
const FETCHING: [(&str, &str); 1] =
    [("next/font/google", "add the font files to the source and load them with next/font/local")];

/// File name endings of code that a build reads.
const CODE: [&str; 6] = [".js", ".jsx", ".ts", ".tsx", ".mjs", ".mts"];

/// Code that makes the build fetch something.
pub(super) fn fetched(subject: &Subject<'_>) -> Result<Vec<Found>> {
    if subject.survey.build.is_none() {
        return Ok(Vec::new());
    }
    let mut found = Vec::new();
    let is_code = |path: &&String| CODE.iter().any(|ending| path.ends_with(ending)) && !is_for_tests(path);
    for path in subject.tree.files().keys().filter(is_code) {
        // A source that is not text fetches nothing.
        let Some(text) = subject.tree.read_text(path)? else { continue };
        for (module, advice) in FETCHING {
            let imports = |line: &str| line.contains(module) && !line.trim_start().starts_with("//");
            let Some(at) = text.lines().position(imports) else { continue };
            let place = Place::new(path.as_str(), u32::try_from(at + 1).ok());
            let what = format!("{module} downloads fonts during the build, and builds have no network");
            found.push(error(place, what, advice));
        }
    }
    Ok(found)
}
