//! `verify`: an image against its record, its evidence and the keys that are trusted.

use super::Done;
use super::keys::public_keys;
use crate::arguments::VerifyOptions;
use crate::error::Failure;
use crate::interrupt;
use crate::render::table::Table;
use crate::render::{BAD, FAINT, GOOD, Output, STRONG, styled};
use crate::surroundings::Surroundings;
use crate::transfer;
use evidence::{Evidence, Finding, KNOWN_FILES, Verdict, verify};
use model::error::RegistryError;
use remote::oci::{ImageSource, Reference};
use remote::{Fetcher, Network, RemoteError};
use std::fs;
use std::path::Path;
use std::process::ExitCode;
use workshop::inspect::{self, OpenImage};
use workshop::{pull, push};

/// No document about an image is longer than this, in bytes.
const LONGEST_DOCUMENT: u64 = 64 << 20;

pub fn run(options: &VerifyOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let trusted = public_keys(&options.trust)?;
    let (image, attached) = open(&options.image, surroundings, output)?;
    let evidence = match &options.evidence {
        Some(folder) => in_folder(folder)?,
        None => attached,
    };
    let findings = verify(&surroundings.store, &image, &evidence, &trusted)?;
    let fails = findings.iter().any(|finding| finding.verdict == Verdict::Fails);
    if output.is_json() {
        output.json(&serde_json::json!({
            "format": "shtetl/verify/1", "image": image.label, "digest": image.digest, "holds": !fails, "findings": findings,
        }));
    } else {
        show(&image, &findings, output);
    }
    Ok(if fails { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

fn show(image: &OpenImage, findings: &[Finding], output: &Output) {
    output.line(format!("{}  {}", styled(STRONG, &image.label), styled(FAINT, image.digest)));
    let mut table = Table::new(&[]);
    for Finding { what, verdict, detail } in findings {
        let verdict = match verdict {
            Verdict::Holds => styled(GOOD, "holds"),
            Verdict::Missing => styled(FAINT, "missing"),
            Verdict::Fails => styled(BAD, "fails"),
        };
        table.row([(*what).to_owned(), verdict, detail.clone()]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
}

/// The image, and what is attached to it where it is in a registry. From there it is fetched, without a name in the store.
fn open(
    text: &str,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<(OpenImage, Vec<Evidence>), Failure> {
    let reference = match push::reference(text, inspect::DEFAULT_TAG) {
        Ok(reference) if !Path::new(text).exists() => reference,
        _ => return Ok((inspect::open(&surroundings.store, text)?, Vec::new())),
    };
    let fetcher = surroundings.fetcher(Network::Allowed);
    let pulled = transfer::shown("receiving", &fetcher, surroundings, output, |transfer| {
        pull::fetch(&reference, transfer)
    })?;
    let told = |source| {
        Failure::from(model::Error::Registry(RegistryError::Remote { image: reference.to_string(), source }))
    };
    let attached = attached(&reference, &pulled.image, &fetcher, surroundings).map_err(told)?;
    Ok((pulled.image, attached))
}

fn attached(
    reference: &Reference,
    image: &OpenImage,
    fetcher: &Fetcher,
    surroundings: &Surroundings,
) -> Result<Vec<Evidence>, RemoteError> {
    let source = ImageSource::registry(reference.clone(), fetcher, &surroundings.credentials);
    let mut all = Vec::new();
    for one in source.attached(image.digest)? {
        // Documents of others are not for us.
        if KNOWN_FILES.iter().any(|(_, media_type)| *media_type == one.artifact_type) {
            let bytes = source.attached_document(&one, LONGEST_DOCUMENT)?;
            all.push(Evidence { media_type: one.artifact_type, bytes });
        }
    }
    Ok(all)
}

/// The documents in a folder, by the names that `evidence` gives them.
fn in_folder(folder: &Path) -> Result<Vec<Evidence>, Failure> {
    let mut all = Vec::new();
    for (file, media_type) in KNOWN_FILES {
        if let Ok(bytes) = fs::read(folder.join(file)) {
            all.push(Evidence { media_type: media_type.to_owned(), bytes });
        }
    }
    match all.is_empty() {
        true => Err(Failure::Usage {
            message: format!("{} has no evidence", folder.display()),
            hint: "`shtetl evidence` writes it".to_owned(),
        }),
        false => Ok(all),
    }
}
