//! Images that commands are given: in the store, in files, or in a registry.

use crate::surroundings::Surroundings;
use crate::transfer;
use images::{pull, push};
use remote::Network;
use remote::oci::Reference;
use render::Output;
use std::path::Path;
use wording::Failure;
use workshop::inspect::{self, OpenImage};

/// What stands for an archive from standard input.
const STANDARD_INPUT: &str = "-";

/// Opens the image that `text` means, and where it is in a registry, if it is in one. From there it is fetched, without a
/// name in the store.
pub fn open_anywhere(
    text: &str,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<(OpenImage, Option<Reference>), Failure> {
    if text == STANDARD_INPUT {
        let image =
            inspect::open_stream(&surroundings.store, "standard input", &mut std::io::stdin().lock())?;
        return Ok((image, None));
    }
    let reference = match push::reference(text, inspect::DEFAULT_TAG) {
        Ok(reference) if !Path::new(text).exists() => reference,
        _ => return Ok((inspect::open(&surroundings.store, text)?, None)),
    };
    let fetcher = surroundings.fetcher(Network::Allowed);
    let pulled = transfer::shown("receiving", &fetcher, surroundings, output, |transfer| {
        pull::fetch(&reference, transfer)
    })?;
    Ok((pulled.image, Some(reference)))
}
