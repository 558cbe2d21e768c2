//! `keys`: keys that sign evidence; and how commands get at one.

use super::Done;
use arguments::{KeysCommand, KeysOptions, SigningOptions};
use evidence::{KeyFault, KeyKind, PrivateKey, PublicKey, make};
use render::{FAINT, Output, STRONG, styled};
use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use wording::Failure;

/// Variables with a private key, and with the passphrase of one.
const KEY: &str = "SHTETL_KEY";
const PASSPHRASE: &str = "SHTETL_KEY_PASSPHRASE";

pub fn run(options: &KeysOptions, output: &Output) -> Done {
    let KeysCommand::Make { file, kind, passphrase_file } = &options.what;
    let kind = if kind == "p256" { KeyKind::P256 } else { KeyKind::Ed25519 };
    let passphrase = passphrase(passphrase_file.as_deref())?;
    let beside = public_file(file);
    if let Some(there) = [file, &beside].into_iter().find(|path| path.exists()) {
        return Err(Failure::Usage {
            message: format!("{} already exists, and keys are never overwritten", there.display()),
            hint: "choose another name".to_owned(),
        });
    }
    let faulty = |fault: KeyFault| Failure::System(io::Error::other(fault));
    let (private, public) = make(kind, passphrase.as_deref()).map_err(faulty)?;
    write_new(file, &private, 0o600)?;
    write_new(&beside, &public, 0o644)?;
    let id = PublicKey::read(&public).map_err(faulty)?.id();
    if output.is_json() {
        output.json(
            &serde_json::json!({ "format": "shtetl/key/1", "private": file, "public": beside, "id": id }),
        );
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!("{}  {}", styled(STRONG, file.display()), styled(FAINT, "signs; keep it secret")));
    output.line(format!(
        "{}  {}",
        styled(STRONG, beside.display()),
        styled(FAINT, "verifies signatures; publish it")
    ));
    output.line(format!("  {} {id}", styled(FAINT, "id")));
    Ok(ExitCode::SUCCESS)
}

fn public_file(private: &Path) -> PathBuf {
    let mut name = private.as_os_str().to_owned();
    name.push(".pub");
    name.into()
}

fn write_new(path: &Path, text: &str, mode: u32) -> Result<(), Failure> {
    let file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path);
    file.and_then(|mut file| file.write_all(text.as_bytes())).map_err(|error| unusable(path, error))
}

fn unusable(path: &Path, source: io::Error) -> Failure {
    Failure::File { path: path.to_owned(), source }
}

/// The signing key, if one is given.
pub fn signing_key(options: &SigningOptions) -> Result<Option<PrivateKey>, Failure> {
    let (text, said) = match &options.key {
        Some(file) => {
            (fs::read_to_string(file).map_err(|error| unusable(file, error))?, file.display().to_string())
        }
        None => match std::env::var(KEY) {
            Ok(text) if !text.is_empty() => (text, format!("the variable {KEY}")),
            _ => return Ok(None),
        },
    };
    let passphrase = passphrase(options.passphrase_file.as_deref())?;
    let key = PrivateKey::read(&text, passphrase.as_deref()).map_err(|fault| no_key(&said, fault))?;
    Ok(Some(key))
}

/// A private key in PEM, which `said` names for people.
pub fn read_key(text: &str, said: &str) -> Result<PrivateKey, Failure> {
    PrivateKey::read(text, passphrase(None)?.as_deref()).map_err(|fault| no_key(said, fault))
}

/// The public keys in files.
pub fn public_keys(files: &[PathBuf]) -> Result<Vec<PublicKey>, Failure> {
    let read = |file: &PathBuf| {
        let text = fs::read_to_string(file).map_err(|error| unusable(file, error))?;
        PublicKey::read(&text).map_err(|fault| no_key(&file.display().to_string(), fault))
    };
    files.iter().map(read).collect()
}

fn no_key(said: &str, fault: KeyFault) -> Failure {
    Failure::Usage {
        message: format!("{said} cannot be used as a key: {fault}"),
        hint: match fault {
            KeyFault::Form => {
                "give a PEM file: PKCS#8 for a private key, SubjectPublicKeyInfo for a public one".to_owned()
            }
            KeyFault::Kind => "`shtetl keys make` creates a suitable one".to_owned(),
            KeyFault::Locked | KeyFault::Passphrase => {
                format!("give it with --passphrase-file, or in the variable {PASSPHRASE}")
            }
        },
    }
}

fn passphrase(file: Option<&Path>) -> Result<Option<String>, Failure> {
    match file {
        Some(file) => {
            let text = fs::read_to_string(file).map_err(|error| unusable(file, error))?;
            Ok(Some(text.trim_end_matches(['\r', '\n']).to_owned()))
        }
        None => Ok(std::env::var(PASSPHRASE).ok().filter(|text| !text.is_empty())),
    }
}
