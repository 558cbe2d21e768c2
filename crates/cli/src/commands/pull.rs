//! `pull`: an image of a registry comes into the store.

use super::Done;
use crate::interrupt;
use crate::surroundings::Surroundings;
use crate::transfer;
use arguments::PullOptions;
use images::{pull, push};
use remote::Network;
use remote::oci::Target;
use render::{FAINT, Output, STRONG, styled, words};
use std::process::ExitCode;
use workshop::inspect;

pub fn run(options: &PullOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let from = push::reference(&options.image, inspect::DEFAULT_TAG)?;
    let own_name = from.repository.rsplit('/').next().unwrap_or(&from.repository);
    let own_tag = match &from.target {
        Target::Tag(tag) => tag,
        Target::Digest(_) => inspect::DEFAULT_TAG,
    };
    let name = match &options.name {
        Some(text) => text.split_once(':').unwrap_or((text, inspect::DEFAULT_TAG)),
        None => (own_name, own_tag),
    };
    let fetcher = surroundings.fetcher(Network::Allowed);
    let pulled = transfer::shown("receiving", &fetcher, surroundings, output, |transfer| {
        pull::pull(&from, name, transfer)
    })?;
    if output.is_json() {
        output.json(&serde_json::json!({
            "format": "shtetl/pull/1", "image": pulled.image.label, "from": from.to_string(),
            "digest": pulled.image.digest, "bytes_received": pulled.received, "bytes_there": pulled.known,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!("{}  pulled from {from}", styled(STRONG, &pulled.image.label)));
    output.line(format!("  {}", styled(FAINT, pulled.image.digest)));
    let there = match pulled.known {
        0 => String::new(),
        known => format!(", {} already in the store", words::size(known)),
    };
    output.line(format!("  {}  {} received{there}", styled(FAINT, "data"), words::size(pulled.received)));
    Ok(ExitCode::SUCCESS)
}
