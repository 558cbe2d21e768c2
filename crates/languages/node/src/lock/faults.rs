//! Faults of lockfiles.

use model::error::SurveyError;
use model::{Error, Place};

/// A fault of a YAML file; the library shows the place in several lines, of which the first says all.
pub(crate) fn not_yaml(file: &str, error: &serde_saphyr::Error) -> Error {
    let text = error.to_string();
    let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
    let after = first.strip_prefix("line ").and_then(|rest| rest.split_once(' '));
    let line = after.and_then(|(number, _)| number.parse().ok());
    let what = first.split_once(": ").filter(|_| line.is_some()).map_or(first, |(_, what)| what);
    malformed(file, line, what)
}

/// A fault at a line (from 1) of a lockfile.
pub(super) fn malformed(file: &str, line: Option<usize>, detail: impl ToString) -> Error {
    let line = line.and_then(|line| u32::try_from(line).ok());
    Error::Survey(SurveyError::Malformed { place: Place::new(file, line), detail: detail.to_string() })
}
