//! What the ecosystems' own files and variables say: where packages come from, and who may come in there.

use config::addresses::{KnownAddress, Origin, filled};
use model::Ecosystem;
use remote::{Address, Login};
use std::path::{Path, PathBuf};
use std::{env, fs};

/// What was found, the strongest first.
#[derive(Default)]
pub struct Said {
    pub known: Vec<KnownAddress>,
    pub logins: Vec<Login>,
}

impl Said {
    fn address(&mut self, ecosystem: Ecosystem, bound: Option<String>, text: &str, detail: &str) {
        // Where two files say the same thing, the stronger was read first.
        if self.known.iter().any(|k| k.ecosystem == ecosystem && k.bound == bound) {
            return;
        }
        let address = Address::parse(text, Path::new("/"));
        let (origin, detail) = (Origin::Ecosystem, detail.to_owned());
        self.known.push(KnownAddress { ecosystem, bound, address, origin, detail });
    }
}

/// Reads what npm, pip and programs like them read; `folders` are that of the app, and that of the workspace that it is a member of.
pub fn gather(folders: &[PathBuf]) -> Said {
    let mut said = Said::default();
    npm(folders, &mut said);
    pip(&mut said);
    netrc(&mut said);
    said
}

fn home() -> Option<PathBuf> {
    env::var_os("HOME").map(PathBuf::from)
}

/// npm's variable, and its files: that of the app or its workspace, that of the user.
fn npm(folders: &[PathBuf], said: &mut Said) {
    if let Ok(text) = env::var("npm_config_registry") {
        said.address(Ecosystem::NPM, None, &text, "npm_config_registry");
    }
    let of_user = env::var_os("npm_config_userconfig").map(PathBuf::from);
    let of_user = of_user.or_else(|| Some(home()?.join(".npmrc")));
    for file in folders.iter().map(|folder| folder.join(".npmrc")).chain(of_user) {
        let Ok(text) = fs::read_to_string(&file) else { continue };
        npm_file(&text, &file.display().to_string(), said);
    }
}

fn npm_file(text: &str, shown: &str, said: &mut Said) {
    let mut users: Vec<(String, Option<String>, Option<String>)> = Vec::new();
    for line in text.lines().map(str::trim).filter(|l| !l.starts_with([';', '#'])) {
        let Some((key, value)) = line.split_once('=') else { continue };
        let (key, value) = (key.trim(), filled(value.trim().trim_matches('"'), |name| env::var(name).ok()));
        let Some((place, what)) = key.rsplit_once(':') else {
            if key == "registry" {
                said.address(Ecosystem::NPM, None, &value, shown);
            }
            continue;
        };
        match what {
            "registry" if place.starts_with('@') => {
                said.address(Ecosystem::NPM, Some(place.to_owned()), &value, shown);
            }
            "_authToken" => said.logins.push(Login::token(place, &value)),
            "_auth" => said.logins.push(Login::encoded(place, &value)),
            "username" | "_password" => {
                let at = users.iter().position(|(known, ..)| known == place).unwrap_or_else(|| {
                    users.push((place.to_owned(), None, None));
                    users.len() - 1
                });
                let slot = if what == "username" { &mut users[at].1 } else { &mut users[at].2 };
                *slot = Some(value);
            }
            _ => {}
        }
    }
    for (place, user, password) in users {
        if let (Some(user), Some(password)) = (user, password.and_then(|p| decoded(&p))) {
            said.logins.push(Login::password(&place, &user, &password));
        }
    }
}

/// npm keeps passwords in base64.
fn decoded(text: &str) -> Option<String> {
    use base64::Engine;
    String::from_utf8(base64::engine::general_purpose::STANDARD.decode(text).ok()?).ok()
}

/// pip's variable and files, as far as they name an index.
fn pip(said: &mut Said) {
    if let Ok(text) = env::var("PIP_INDEX_URL") {
        said.address(Ecosystem::PYPI, None, &text, "PIP_INDEX_URL");
    }
    let home = home();
    let in_home = home.iter().flat_map(|h| [h.join(".config/pip/pip.conf"), h.join(".pip/pip.conf")]);
    let named = env::var_os("PIP_CONFIG_FILE").map(PathBuf::from);
    for file in named.into_iter().chain(in_home).chain([PathBuf::from("/etc/pip.conf")]) {
        let Ok(text) = fs::read_to_string(&file) else { continue };
        let value = text.lines().find_map(|line| {
            let (name, value) = line.split_once('=')?;
            (name.trim() == "index-url").then(|| value.trim().to_owned())
        });
        if let Some(value) = value {
            said.address(Ecosystem::PYPI, None, &value, &file.display().to_string());
        }
    }
}

/// `machine NAME login USER password PASSWORD` of the file that many programs read.
fn netrc(said: &mut Said) {
    let named = env::var_os("NETRC").map(PathBuf::from);
    let Some(file) = named.or_else(|| Some(home()?.join(".netrc"))) else { return };
    let text = fs::read_to_string(file).unwrap_or_default();
    let mut words = text.split_whitespace();
    let (mut machine, mut user) = (None, None);
    while let Some(word) = words.next() {
        match word {
            "machine" => (machine, user) = (words.next(), None),
            "default" => (machine, user) = (None, None),
            "login" => user = words.next(),
            "password" => {
                if let (Some(machine), Some(user), Some(password)) = (machine, user, words.next()) {
                    said.logins.push(Login::password(machine, user, password));
                }
            }
            _ => {}
        }
    }
}
