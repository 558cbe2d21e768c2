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
    Need::from_str(text).map_err(|error| {
        Error::Survey(SurveyError::Malformed {
            place: place.clone(),
            detail: format!("{text:?} is not a valid requirement: {}", error.message),
        })
    })
}
