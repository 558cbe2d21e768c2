//! One requirement, as PEP 508 writes it.

use model::error::SurveyError;
use model::{Error, Place, Result};
use pep508_rs::{Requirement, VerbatimUrl};
use remote::packages::pypi;
use std::str::FromStr;

/// A requirement as PEP 508 writes it.
pub(super) type Need = Requirement<VerbatimUrl>;

/// Packages whose extra (or they themselves, without one) brings a server.
const BRINGS: [(&str, &str, &str); 6] = [
    ("connexion", "uvicorn", "uvicorn"),
    ("fastapi", "all", "uvicorn"),
    ("fastapi", "standard", "uvicorn"),
    ("litestar", "standard", "uvicorn"),
    ("nicegui", "", "uvicorn"),
    ("quart", "", "hypercorn"),
];

/// The server that a requirement is known to bring.
pub(super) fn server_of(need: &Need) -> Option<&'static str> {
    let name = pypi::canonical_name(need.name.as_ref());
    let has = |extra: &str| extra.is_empty() || need.extras.iter().any(|own| own.as_ref() == extra);
    BRINGS.iter().find(|(package, extra, _)| *package == name && has(extra)).map(|(.., server)| *server)
}

/// Reads one requirement.
pub(super) fn need(text: &str, place: &Place) -> Result<Need> {
    parse(text).map_err(|message| {
        Error::Survey(SurveyError::Malformed {
            place: place.clone(),
            detail: format!("{text:?} is not a valid requirement: {message}"),
        })
    })
}

/// Reads one requirement; the error says what is wrong with it.
pub(super) fn parse(text: &str) -> std::result::Result<Need, String> {
    // The library panics at these names.
    if let Some(name) = names(text).into_iter().find(|name| name.ends_with(['-', '_', '.'])) {
        return Err(format!("the name {name:?} must end with a letter or digit"));
    }
    Need::from_str(text).map_err(|error| error.message.to_string())
}

/// The names of the package and of its extras (PEP 508, "Names").
fn names(text: &str) -> Vec<&str> {
    let is_part = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    let text = text.trim_start();
    let (name, rest) = text.split_at(text.find(|c| !is_part(c)).unwrap_or(text.len()));
    let extras =
        rest.trim_start().strip_prefix('[').map_or("", |rest| rest.split(']').next().unwrap_or(rest));
    std::iter::once(name).chain(extras.split([',', ' ', '\t'])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_end_in_punctuation_are_refused() {
        for text in [
            "fog-",
            "fog- ; python_version > '3'",
            "fog_>=1",
            "fog[mist-]",
            "fog [mist, haze_ ]==1",
            "fog.[x]",
        ] {
            assert!(parse(text).is_err_and(|message| message.contains("must end with")), "{text}");
        }
        for text in ["fog", "fog[mist]>=1", "fog-horn[a, b_c] ; python_version > '3'", " fog==1-1"] {
            assert!(parse(text).is_ok(), "{text}");
        }
    }
}
