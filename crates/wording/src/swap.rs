//! Words of images that are to be put on another base.

use super::worded::{FAILED, WRONG, Worded, worded};
use model::error::{Misfit, SwapError};

pub(super) fn words_of(error: &SwapError) -> Worded {
    match error {
        SwapError::FixedBase { image, base } => worded(
            WRONG,
            format!("{image} cannot be put on another base: {}", fixed(base)),
            "build it again on the base that it is to have",
        ),
        SwapError::Unknown { image } => worded(
            FAILED,
            format!("the record of {image} does not list what its app needs of the base"),
            "build it once more: records have that list now",
        ),
        SwapError::ByDigest { base } => worded(
            WRONG,
            format!("{base} is named by its digest, so that it never changes"),
            "name another one: --onto oci:REFERENCE",
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
        _ => format!("{base} is put only under images of packages of Debian or under images of others"),
    }
}

fn told(misfit: &Misfit) -> String {
    match misfit {
        Misfit::Runtime { name, before, after: Some(after) } => {
            format!("built for {name} {before}; the base has {after}")
        }
        Misfit::Runtime { name, before, after: None } => {
            format!("built for {name} {before}; the base has no {name}")
        }
        Misfit::Library { name } => format!("the base has no shared library {name}"),
        Misfit::SymbolVersion { library, version } => {
            format!("the base has an older {library}, without {version}")
        }
        Misfit::Program { path } => format!("the base has no {path}"),
    }
}
