//! Credentials for registries, from the files and programs in which other tools keep them.

use crate::error::{RemoteError, Result};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// How the names of programs that know credentials begin.
const HELPER: &str = "docker-credential-";
/// The user name that stands for a token in place of a password.
const TOKEN_USER: &str = "<token>";

/// Where credentials are looked for.
#[derive(Debug, Clone, Default)]
pub struct CredentialFiles {
    /// Files, the strongest first; those that are not there are passed over.
    pub files: Vec<PathBuf>,
    /// Where programs are found.
    pub search: Vec<PathBuf>,
}

/// What to say to a registry.
#[derive(Clone)]
pub(super) struct Login {
    pub(super) secret: Secret,
    /// Where it was found.
    pub(super) found: String,
}

#[derive(Clone)]
pub(super) enum Secret {
    /// A name and a password, joined by a colon.
    Password(String),
    /// A token that others are made from.
    Identity(String),
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct File {
    auths: BTreeMap<String, Entry>,
    #[serde(rename = "credHelpers")]
    helpers: BTreeMap<String, String>,
    #[serde(rename = "credsStore")]
    store: Option<String>,
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct Entry {
    auth: Option<String>,
    username: Option<String>,
    password: Option<String>,
    identitytoken: Option<String>,
}

#[derive(Deserialize)]
struct Told {
    #[serde(rename = "Username")]
    user: String,
    #[serde(rename = "Secret")]
    secret: String,
}

impl CredentialFiles {
    /// The credentials for `host`, or for the `repository` there.
    pub(super) fn login(&self, host: &str, repository: &str) -> Result<Option<Login>> {
        for path in &self.files {
            let Ok(text) = std::fs::read_to_string(path) else { continue };
            let file: File = serde_json::from_str(&text).map_err(|e| RemoteError::Credentials {
                what: path.display().to_string(),
                detail: format!("line {}: it is not a valid entry", e.line()),
            })?;
            if let Some(secret) = file.secret(host, repository) {
                return Ok(Some(Login { secret, found: path.display().to_string() }));
            }
            if let Some(helper) = file.helpers.get(host).or(file.store.as_ref())
                && let Some(login) = self.ask(helper, host)?
            {
                return Ok(Some(login));
            }
        }
        Ok(None)
    }

    /// Asks a program that knows credentials: it is given the host and answers with JSON.
    fn ask(&self, helper: &str, host: &str) -> Result<Option<Login>> {
        let name = format!("{HELPER}{helper}");
        let failed = |detail: String| RemoteError::Credentials { what: name.clone(), detail };
        if helper.contains('/') {
            return Err(failed("a program name cannot contain a slash".to_owned()));
        }
        let program = self.search.iter().map(|folder| folder.join(&name)).find(|path| path.is_file());
        let program = program.ok_or_else(|| failed("there is no such program".to_owned()))?;
        let said = run(&program, host).map_err(|e| failed(e.to_string()))?;
        let Some(said) = said else { return Ok(None) };
        // Message is never shown: it may be a secret.
        let told: Told =
            serde_json::from_slice(&said).map_err(|_| failed("its answer is invalid".to_owned()))?;
        let secret = match told.user.as_str() {
            TOKEN_USER => Secret::Identity(told.secret),
            user => Secret::Password(format!("{user}:{}", told.secret)),
        };
        Ok(Some(Login { secret, found: name }))
    }
}

/// What the program prints; `None` when it has nothing for this host.
fn run(program: &Path, host: &str) -> std::io::Result<Option<Vec<u8>>> {
    let mut child = Command::new(program)
        .arg("get")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()?;
    if let Some(mut input) = child.stdin.take() {
        input.write_all(host.as_bytes())?;
    }
    let output = child.wait_with_output()?;
    Ok(output.status.success().then_some(output.stdout))
}

impl File {
    /// The longest entry that is the host, or the beginning of the name there.
    fn secret(&self, host: &str, repository: &str) -> Option<Secret> {
        let whole = format!("{host}/{repository}");
        let covers = |key: &&str| whole == **key || whole.starts_with(&format!("{key}/"));
        let plain = |key: &'_ str| {
            let key = key.trim_start_matches("https://").trim_start_matches("http://");
            // Old files name the root of an API that is no part of any name.
            key.trim_end_matches('/').trim_end_matches("/v1").trim_end_matches("/v2").to_owned()
        };
        let entries = self.auths.iter().map(|(key, entry)| (plain(key), entry));
        let fitting = entries.filter(|(key, _)| covers(&key.as_str()));
        fitting.max_by_key(|(key, _)| key.len()).and_then(|(_, entry)| entry.secret())
    }
}

impl Entry {
    fn secret(&self) -> Option<Secret> {
        if let Some(token) = self.identitytoken.as_ref().filter(|token| !token.is_empty()) {
            return Some(Secret::Identity(token.clone()));
        }
        if let (Some(user), Some(password)) = (&self.username, &self.password) {
            return Some(Secret::Password(format!("{user}:{password}")));
        }
        let decoded = STANDARD.decode(self.auth.as_ref()?).ok()?;
        let text = String::from_utf8(decoded).ok()?;
        text.contains(':').then(|| Secret::Password(text.trim_end_matches('\0').to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_entry_that_fits_best_is_taken() {
        let auth = |text: &str| STANDARD.encode(text);
        let text = format!(
            r#"{{"auths":{{"https://quay.example/v1/":{{"auth":"{}"}},"quay.example/ferry":{{"auth":"{}"}},
               "other.example":{{"identitytoken":"t"}}}}}}"#,
            auth("ada:one"),
            auth("bob:two:three")
        );
        let file: File = serde_json::from_str(&text).unwrap();
        let told = |host: &str, repository: &str| match file.secret(host, repository) {
            Some(Secret::Password(text)) => text,
            Some(Secret::Identity(token)) => format!("token {token}"),
            None => "nothing".to_owned(),
        };
        assert_eq!(told("quay.example", "base"), "ada:one");
        assert_eq!(told("quay.example", "ferry/base"), "bob:two:three");
        assert_eq!(told("quay.example", "ferryman"), "ada:one");
        assert_eq!(told("other.example", "base"), "token t");
        assert_eq!(told("third.example", "base"), "nothing");
    }
}
