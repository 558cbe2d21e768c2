//! Words of images on their way to and from registries.

use super::worded::{FAILED, WRONG, Worded, worded};
use ::remote::RemoteError;
use ::remote::oci::ReferenceFault;
use model::error::RegistryError;

pub(super) fn words_of(error: &RegistryError) -> Worded {
    match error {
        RegistryError::Reference { text, fault } => worded(
            WRONG,
            format!("{text} is not the name of an image in a registry: {}", fault_of(*fault)),
            "use HOST[:PORT]/NAME[:TAG], as in harbour.example/ferry/timetable:14",
        ),
        RegistryError::NotATag { text } => worded(
            WRONG,
            format!("{text} has a digest; images are pushed to a tag"),
            "write HOST[:PORT]/NAME:TAG",
        ),
        RegistryError::Remote { image, source } => remote(image, source),
        RegistryError::Foreign { image } => worded(
            FAILED,
            format!("{image} was not built by shtetl"),
            "to use it as a base: oci:… in [base] from",
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
        ReferenceFault::Digest => "after the @ there must be a SHA-256 digest",
    }
}

fn remote(image: &str, error: &RemoteError) -> Worded {
    let plain = super::remote::words_of(image, error);
    let hint = match error {
        RemoteError::NotFound { .. } => {
            "check the name and the tag; some registries require the repository to be created first"
        }
        RemoteError::Status { status: 429 | 500.., .. } => "try again later; uploaded data is not sent again",
        RemoteError::Status { status: 405, .. } => {
            "the server refuses uploads: it is read-only, or not a registry"
        }
        RemoteError::Status { .. } => "see the registry's answer above; check the name and your permissions",
        RemoteError::Unreachable { .. } => {
            "check the network and the registry's name; a registry without TLS needs http:// in front of its name"
        }
        RemoteError::Integrity { .. } => {
            "do not use it: the registry serves content that does not match its own documents"
        }
        RemoteError::Malformed { .. } => "check the name: the server may not be a registry",
        _ => return plain,
    };
    Worded { hint: Some(hint.to_owned()), ..plain }
}
