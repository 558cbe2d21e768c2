//! `verify`: an image against its record, its evidence and the keys that are trusted.

use super::Done;
use super::again::build_again;
use super::keys::public_keys;
use super::opened::open_anywhere;
use crate::interrupt;
use crate::surroundings::Surroundings;
use arguments::VerifyOptions;
use evidence::{Evidence, Finding, KNOWN_FILES, Verdict, verify};
use model::error::RegistryError;
use model::folder::entries;
use remote::Network;
use remote::oci::{ImageSource, Reference};
use render::table::Table;
use render::{BAD, FAINT, GOOD, Output, STRONG, styled};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::OpenImage;

/// No document about an image is longer than this, in bytes.
const LONGEST_DOCUMENT: u64 = 64 << 20;

pub fn run(options: &VerifyOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let trusted = public_keys(&trusted_keys(options, surroundings)?)?;
    let (image, from) = open_anywhere(&options.image, surroundings, output)?;
    let evidence = match (&options.evidence, &from) {
        (Some(folder), _) => in_folder(folder)?,
        (None, Some(reference)) => attached(reference, &image, surroundings)?,
        (None, None) => Vec::new(),
    };
    let mut findings = verify(&surroundings.store, &image, &evidence, &trusted)?;
    if let Some(source) = &options.again {
        findings.push(build_again(&image, source, options, surroundings, output)?);
    }
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

/// The files of keys that are trusted: those of the command, else those of the house rules and of the user. What an app says
/// does not count.
fn trusted_keys(options: &VerifyOptions, surroundings: &Surroundings) -> Result<Vec<PathBuf>, Failure> {
    if !options.trust.is_empty() {
        return Ok(options.trust.clone());
    }
    let mut keys = surroundings.house_rules()?.map(|rules| rules.trusted_keys).unwrap_or_default();
    keys.extend(surroundings.user.trusted_keys.iter().cloned());
    Ok(keys.into_iter().map(PathBuf::from).collect())
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

/// What is attached to an image in a registry, as far as it is ours.
fn attached(
    reference: &Reference,
    image: &OpenImage,
    surroundings: &Surroundings,
) -> Result<Vec<Evidence>, Failure> {
    let fetcher = surroundings.fetcher(Network::Allowed);
    let source = ImageSource::registry(reference.clone(), &fetcher, &surroundings.credentials);
    let told = |source| {
        Failure::from(model::Error::Registry(RegistryError::Remote { image: reference.to_string(), source }))
    };
    let mut all = Vec::new();
    for one in source.attached(image.digest).map_err(told)? {
        if KNOWN_FILES.iter().any(|(_, media_type)| *media_type == one.artifact_type) {
            let bytes = source.attached_document(&one, LONGEST_DOCUMENT).map_err(told)?;
            all.push(Evidence { media_type: one.artifact_type, bytes });
        }
    }
    Ok(all)
}

/// The documents in a folder, by the names that `evidence` gives them.
fn in_folder(folder: &Path) -> Result<Vec<Evidence>, Failure> {
    let mut all = Vec::new();
    for path in entries(folder)? {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let known = KNOWN_FILES.iter().find(|(ending, _)| name.ends_with(ending));
        if let Some((_, media_type)) = known
            && let Ok(bytes) = fs::read(&path)
        {
            all.push(Evidence { media_type: (*media_type).to_owned(), bytes });
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
