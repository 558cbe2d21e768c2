//! Words of images that are to be put on another base.

use super::worded::{FAILED, WRONG, Worded, worded};
use model::error::{Misfit, SwapError};

pub(super) fn words_of(error: &SwapError) -> Worded {
    match error {
        SwapError::FixedBase { image, base } => worded(
            WRONG,
            format!("the base of {image} cannot be swapped: {}", fixed(base)),
            "build it again on the new base",
        ),
        SwapError::Unknown { image } => worded(
            FAILED,
            format!("the record of {image} does not list what its app needs of the base"),
            "build it once more: current records have that list",
        ),
        SwapError::ByDigest { base } => worded(
            WRONG,
            format!("{base} is fixed by its digest, so it never changes"),
            "choose another one: --onto oci:REFERENCE",
        ),
        SwapError::Unfit { image, base, misfits } => Worded {
            details: misfits.iter().map(|misfit| format!("  {}", told(misfit))).collect(),
            ..worded(FAILED, format!("{base} does not fit {image}"), "build the app again on that base")
        },
    }
}

fn fixed(base: &str) -> String {
    match base {
        "host" => "its base was captured from a machine".to_owned(),
        "empty" => "its base is empty".to_owned(),
        _ => format!("{base} fits only images on Debian packages or on other OCI images"),
    }
}

fn told(misfit: &Misfit) -> String {
    match misfit {
        Misfit::Runtime { name, before, after: Some(after) } => {
            format!("built for {name} {before}, but the base has {after}")
        }
        Misfit::Runtime { name, before, after: None } => {
            format!("built for {name} {before}, but the base has no {name}")
        }
        Misfit::Library { name } => format!("the base has no shared library {name}"),
        Misfit::SymbolVersion { library, version } => {
            format!("the base has an older {library}, without {version}")
        }
        Misfit::Program { path } => format!("the base has no {path}"),
    }
}
