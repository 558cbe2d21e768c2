//! `evidence`: the documents about an image, as files.

use super::Done;
use super::keys::signing_key;
use super::opened::open_anywhere;
use crate::surroundings::Surroundings;
use arguments::{EvidenceOptions, SigningOptions};
use evidence::{Artefact, of_image};
use render::table::Table;
use render::{FAINT, Output, STRONG, styled, words};
use std::fs;
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::OpenImage;

pub fn run(options: &EvidenceOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let (image, _) = open_anywhere(&options.image, surroundings, output)?;
    let all = gather(&image, &options.signing)?;
    let folder = &options.folder;
    fs::create_dir_all(folder).map_err(|source| Failure::File { path: folder.clone(), source })?;
    for artefact in &all {
        surroundings
            .store
            .write(&folder.join(&artefact.file), &artefact.bytes)
            .map_err(model::Error::from)?;
    }
    if output.is_json() {
        let files: Vec<_> = all
            .iter()
            .map(|one| serde_json::json!({ "file": folder.join(&one.file), "media_type": one.media_type }))
            .collect();
        output.json(&serde_json::json!({
            "format": "shtetl/evidence/1", "image": image.label, "digest": image.digest, "files": files,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!("{}  evidence written to {}", styled(STRONG, &image.label), folder.display()));
    let mut table = Table::new(&[1]);
    for one in &all {
        table.row([one.file.clone(), words::size(one.bytes.len() as u64), styled(FAINT, one.about)]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    Ok(ExitCode::SUCCESS)
}

/// The evidence that goes with an image: nothing, unless it is asked for, or there is a key, which is there to sign it.
pub fn wanted(image: &OpenImage, is_asked: bool, signing: &SigningOptions) -> Result<Vec<Artefact>, Failure> {
    match is_asked || signing.key.is_some() {
        true => gather(image, signing),
        false => Ok(Vec::new()),
    }
}

/// The evidence of an image, signed where there is a key.
fn gather(image: &OpenImage, signing: &SigningOptions) -> Result<Vec<Artefact>, Failure> {
    let key = signing_key(signing)?;
    Ok(of_image(image, key.as_ref())?)
}
