//! Words of images on their way to and from registries.

use super::worded::{FAILED, WRONG, Worded, worded};
use ::remote::RemoteError;
use ::remote::oci::ReferenceFault;
use model::error::RegistryError;

pub(super) fn words_of(error: &RegistryError) -> Worded {
    match error {
        RegistryError::Reference { text, fault } => worded(
            WRONG,
            format!("{text} names no image of a registry: {}", fault_of(*fault)),
            "write HOST[:PORT]/NAME[:TAG], as in harbour.example/ferry/timetable:14",
        ),
        RegistryError::NotATag { text } => worded(
            WRONG,
            format!("{text} is a digest; an image is pushed to a tag"),
            "write HOST[:PORT]/NAME:TAG",
        ),
        RegistryError::Remote { image, source } => remote(image, source),
        RegistryError::Foreign { image } => worded(
            FAILED,
            format!("{image} is no image that shtetl built"),
            "as a base, it is taken with oci:… in [base] from",
        ),
    }
}

/// What is wrong with the name of an image.
pub(super) fn fault_of(fault: ReferenceFault) -> &'static str {
    match fault {
        ReferenceFault::NoRegistry => "it does not begin with a registry, and none is assumed",
        ReferenceFault::Name => {
            "a name has lower-case letters, digits and dots, dashes or underscores between them"
        }
        ReferenceFault::Tag => "a tag has letters, digits, dots, dashes and underscores, at most 128",
        ReferenceFault::Digest => "behind the @ stands no SHA-256 digest",
    }
}

fn remote(image: &str, error: &RemoteError) -> Worded {
    let plain = super::remote::words_of(image, error);
    let hint = match error {
        RemoteError::NotFound { .. } => {
            "check the name and the tag; some registries want a name to be created first"
        }
        RemoteError::Status { status: 429 | 500.., .. } => {
            "try again later: what has arrived is not sent again"
        }
        RemoteError::Status { status: 405, .. } => {
            "the registry takes nothing: it is read-only, or no registry"
        }
        RemoteError::Status { .. } => "the registry says why above; check the name and your rights",
        RemoteError::Unreachable { .. } => {
            "check the network and the name of the registry; one without TLS is asked only with http:// before its name"
        }
        RemoteError::Integrity { .. } => {
            "do not use it: the registry does not give what its own documents name"
        }
        RemoteError::Malformed { .. } => "check the name of the registry: it may be something else",
        _ => return plain,
    };
    Worded { hint: Some(hint.to_owned()), ..plain }
}
