//! `push`: an image of the store goes to a registry.

use super::Done;
use super::opened::open_anywhere;
use crate::interrupt;
use crate::surroundings::Surroundings;
use crate::transfer;
use arguments::PushOptions;
use evidence::Artefact;
use images::push::{self, Attachment, Destination, Pushed};
use remote::Network;
use remote::oci::Reference;
use render::{FAINT, Output, STRONG, styled, words};
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::{self, OpenImage};

pub fn run(options: &PushOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let to = push::reference(&options.to, inspect::tag_of(&options.image))?;
    let house = surroundings.house_rules()?;
    let rules = surroundings.rules.as_ref().map(|file| file.display().to_string());
    super::town::push::check_server(&options.to, house.as_ref(), rules)?;
    let (image, _) = open_anywhere(&options.image, surroundings, output)?;
    let evidence = super::evidence::wanted(&image, options.evidence, &options.signing)?;
    let pushed = push_to(&image, &to, &evidence, surroundings, output)?;
    if output.is_json() {
        output.json(&document(&image, &pushed));
    } else {
        output.line(format!("{}  pushed to {}", styled(STRONG, &image.label), pushed.repository));
        output.line(format!("  {}", styled(FAINT, pushed.digest)));
        details(&pushed, output);
    }
    Ok(ExitCode::SUCCESS)
}

/// Pushes an image, showing how far it is.
pub fn push_to(
    image: &OpenImage,
    to: &Reference,
    evidence: &[Artefact],
    surroundings: &Surroundings,
    output: &Output,
) -> Result<Pushed, Failure> {
    let fetcher = surroundings.fetcher(Network::Allowed);
    let attachments: Vec<Attachment<'_>> =
        evidence.iter().map(|one| Attachment { media_type: one.media_type, bytes: &one.bytes }).collect();
    Ok(transfer::shown("sending", &fetcher, surroundings, output, |transfer| {
        let destination = Destination { to, attachments: &attachments, there: None };
        push::push(image, &destination, transfer)
    })?)
}

/// A finished push, for programs.
pub fn document(image: &OpenImage, pushed: &Pushed) -> serde_json::Value {
    let tags: Vec<_> =
        pushed.tags.iter().map(|(tag, digest)| serde_json::json!({ "tag": tag, "digest": digest })).collect();
    serde_json::json!({
        "format": "shtetl/push/1", "image": image.label, "repository": pushed.repository, "digest": pushed.digest,
        "tags": tags, "bytes_sent": pushed.sent, "bytes_mounted": pushed.mounted, "bytes_there": pushed.known, "attached": pushed.attached,
    })
}

/// What was sent, attached, and the tags.
pub fn details(pushed: &Pushed, output: &Output) {
    let mut parts = vec![format!("{} sent", words::size(pushed.sent))];
    parts.extend(
        (pushed.mounted > 0).then(|| {
            format!("{} reused from other repositories of the registry", words::size(pushed.mounted))
        }),
    );
    parts.extend((pushed.known > 0).then(|| format!("{} already there", words::size(pushed.known))));
    let tags: Vec<&str> = pushed.tags.iter().rev().map(|(tag, _)| tag.as_str()).collect();
    output.line(format!("  {}  {}", styled(FAINT, "data    "), parts.join(", ")));
    output.line(format!(
        "  {}  {}",
        styled(FAINT, if tags.len() == 1 { "tag     " } else { "tags    " }),
        tags.join(", ")
    ));
    if pushed.attached > 0 {
        output.line(format!(
            "  {}  {}",
            styled(FAINT, "evidence"),
            words::count(pushed.attached, "document")
        ));
    }
}
