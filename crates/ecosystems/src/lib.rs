//! What the ecosystems' own files and variables say: where packages come from, and who may come in there.
#![forbid(unsafe_code)]

mod debian;
mod gem_and_composer;
mod maven;
mod settings;
mod tools;

pub use debian::of_debian_machine;
pub use settings::{Said, Withheld};
pub use tools::ask_tool;

use config::addresses::{KnownAddress, filled, variable_in};
use model::Ecosystem;
use remote::{Login, server_in};
use std::cell::OnceCell;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::{env, fs};
use tools::first_proxy;

/// Reads what npm, pip and programs like them read; `folders` are that of the app, and that of the workspace that it is a
/// member of. What the user says, `of_user` among it, decides to which servers an app may send what is in variables.
pub fn gather(folders: &[PathBuf], of_user: &[KnownAddress], trusted: BTreeSet<String>) -> Said {
    let mut own = Said::default();
    npm_of_user(&mut own);
    go(&mut own);
    pip(&mut own);
    maven::of_user(home().as_deref(), &mut own);
    gem_and_composer::of_user(home().as_deref(), &mut own);
    netrc(&mut own);
    let named = own.known.iter().chain(of_user).filter_map(|known| known.address.server());
    own.servers = named.map(str::to_owned).chain(trusted).collect();
    let mut said = Said::default();
    // Started once at most, and only where it matters.
    let of_tool = OnceCell::new();
    for file in folders.iter().map(|folder| folder.join(".npmrc")) {
        let Ok(text) = fs::read_to_string(&file) else { continue };
        let of_tool = || of_tool.get_or_init(|| ask_tool(Ecosystem::NPM)).as_ref()?.address.server();
        let may_send = |server: &str| own.servers.contains(server) || of_tool() == Some(server);
        npm_file(&text, &file.display().to_string(), &may_send, &mut said);
    }
    said.extend(own);
    said
}

fn home() -> Option<PathBuf> {
    env::var_os("HOME").map(PathBuf::from)
}

/// npm's variable, and the user's file.
fn npm_of_user(said: &mut Said) {
    if let Ok(text) = env::var("npm_config_registry") {
        said.address(Ecosystem::NPM, None, &text, "npm_config_registry");
    }
    let named = env::var_os("npm_config_userconfig").map(PathBuf::from);
    let Some(file) = named.or_else(|| Some(home()?.join(".npmrc"))) else { return };
    let Ok(text) = fs::read_to_string(&file) else { return };
    npm_file(&text, &file.display().to_string(), &|_| true, said);
}

/// Reads a file of npm's; variables are filled in where what they say goes to a server that it `may_send` to.
fn npm_file(text: &str, shown: &str, may_send: &dyn Fn(&str) -> bool, said: &mut Said) {
    let mut users: Vec<(String, Option<String>, Option<String>)> = Vec::new();
    for line in text.lines().map(str::trim).filter(|l| !l.starts_with([';', '#'])) {
        let Some((key, value)) = line.split_once('=') else { continue };
        let (key, value) = (key.trim(), value.trim().trim_matches('"'));
        let (place, what) = key.rsplit_once(':').unwrap_or(("", key));
        // An address goes to where it leads, everything else to the place that the key begins with.
        let server = server_in(if what == "registry" { value } else { place }).unwrap_or_default();
        let named = variable_in(value).filter(|name| env::var_os(name).is_some());
        if let Some(variable) = named.filter(|_| !may_send(server)) {
            said.withheld.push(Withheld { variable: variable.to_owned(), server: server.to_owned() });
            continue;
        }
        let value = filled(value, |name| env::var(name).ok());
        match what {
            "registry" if place.is_empty() => said.address(Ecosystem::NPM, None, &value, shown),
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

/// Go's variables, from the environment or from the file that `go env -w` writes.
fn go(said: &mut Said) {
    let in_home = || Some(home()?.join(".config"));
    let folder = env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).or_else(in_home);
    let file = env::var_os("GOENV").map(PathBuf::from).or_else(|| Some(folder?.join("go/env")));
    let text = file.and_then(|file| fs::read_to_string(file).ok()).unwrap_or_default();
    let value = |name: &str| {
        let written =
            || text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('=').map(str::to_owned));
        env::var(name).ok().or_else(written).filter(|value| !value.is_empty())
    };
    if let Some(proxy) = value("GOPROXY").as_deref().and_then(first_proxy) {
        said.address(Ecosystem::GO, None, proxy, "GOPROXY");
    }
    let private = value("GONOPROXY").or_else(|| value("GOPRIVATE")).unwrap_or_default();
    said.private.extend(private.split(',').filter(|pattern| !pattern.is_empty()).map(str::to_owned));
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
