//! Gathers where packages come from: options, variables, the user's and the ecosystems' configuration.

use crate::folders::user_file;
use bases::debian::Suite;
use config::UserConfig;
use config::addresses::{AddressBook, KnownAddress, Origin};
use ecosystems::Said;
use ecosystems::ask_tool;
use model::{Ecosystem, KnownNames};
use remote::Address;
use std::path::{Path, PathBuf};
use std::{env, fs};
use wording::Failure;

/// Reads the user's options, variables and own configuration.
pub fn of_user(
    options: &[String],
    user: &UserConfig,
    names: &KnownNames,
) -> Result<Vec<KnownAddress>, Failure> {
    let here = env::current_dir().unwrap_or_default();
    let mut known = Vec::new();
    for option in options {
        known.push(from_option(option, &here, &names.ecosystems)?);
    }
    for ecosystem in names.ecosystems.iter().copied() {
        let variable = format!("SHTETL_ADDRESS_{}", ecosystem.name().to_uppercase().replace('-', "_"));
        if let Ok(text) = env::var(&variable) {
            known.push(said(ecosystem, &text, &here, Origin::Variable, variable));
        }
    }
    if let Some(file) = user_file() {
        let folder = file.parent().unwrap_or(Path::new("/"));
        for (name, text) in &user.addresses {
            let Some((ecosystem, bound)) = Ecosystem::with_bound(name, &names.ecosystems) else { continue };
            let plain = said(ecosystem, text, folder, Origin::User, file.display().to_string());
            known.push(KnownAddress { bound, ..plain });
        }
    }
    Ok(known)
}

/// All known addresses: from the user, from the ecosystems' files, and from those of the machine `host`.
pub fn book(of_user: Vec<KnownAddress>, of_ecosystems: &Said, host: &Path) -> AddressBook {
    let servers = of_user.iter().filter_map(|known| known.address.server()).map(str::to_owned);
    let servers: Vec<String> = servers.chain(of_ecosystems.servers.iter().cloned()).collect();
    let known = of_user.into_iter().chain(of_ecosystems.known.iter().cloned());
    let known = known.chain(debian_configuration(host)).collect();
    AddressBook::new(known, ask_tool)
        .with_variables(|name| env::var(name).ok(), servers)
        .with_private(of_ecosystems.private.clone())
}

fn said(ecosystem: Ecosystem, text: &str, base: &Path, origin: Origin, detail: String) -> KnownAddress {
    KnownAddress { ecosystem, bound: None, address: Address::parse(text, base), origin, detail }
}

fn from_option(option: &str, here: &Path, ecosystems: &[Ecosystem]) -> Result<KnownAddress, Failure> {
    let known: Vec<&str> = ecosystems.iter().map(|ecosystem| ecosystem.name()).collect();
    let parsed = option
        .split_once('=')
        .and_then(|(name, text)| Some((Ecosystem::with_bound(name, ecosystems)?, text)));
    let ((ecosystem, bound), text) = parsed.ok_or_else(|| Failure::Usage {
        message: format!("--address {option:?} names an unknown kind of package"),
        hint: format!("use KIND=WHERE or KIND:NAME=WHERE, where KIND is one of: {}", known.join(", ")),
    })?;
    Ok(KnownAddress { bound, ..said(ecosystem, text, here, Origin::Option, "--address".to_owned()) })
}

/// The sources of a Debian machine: the archive, and that of security updates.
fn debian_configuration(host: &Path) -> Vec<KnownAddress> {
    let folder = host.join("etc/apt");
    let listed = fs::read_dir(folder.join("sources.list.d")).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = listed.map(|entry| entry.path()).collect();
    files.sort();
    files.insert(0, folder.join("sources.list"));
    let mut known: Vec<KnownAddress> = Vec::new();
    for file in files {
        let Ok(text) = fs::read_to_string(&file) else { continue };
        let sources =
            if file.extension().is_some_and(|e| e == "sources") { paragraphs(&text) } else { lines(&text) };
        for (url, suites) in sources {
            let of_debian = |s: &str| Suite::named(s.split('-').next().unwrap_or(s)).is_some();
            if !suites.iter().any(|s| of_debian(s)) {
                continue;
            }
            let security = suites.iter().any(|s| s.ends_with("-security"));
            let ecosystem = if security { Ecosystem::DEBIAN_SECURITY } else { Ecosystem::DEBIAN };
            if known.iter().all(|k| k.ecosystem != ecosystem) {
                let shown = file.strip_prefix(host).unwrap_or(&file);
                let detail = Path::new("/").join(shown).display().to_string();
                known.push(said(ecosystem, &url, host, Origin::Ecosystem, detail));
            }
        }
    }
    known
}

/// `deb [options] URL suite component …`.
fn lines(text: &str) -> Vec<(String, Vec<String>)> {
    let source = |line: &str| {
        let rest = line.trim().strip_prefix("deb ")?.trim_start();
        let rest = if rest.starts_with('[') { rest.split_once(']')?.1 } else { rest };
        let mut words = rest.split_whitespace();
        Some((words.next()?.to_owned(), vec![words.next()?.to_owned()]))
    };
    text.lines().filter_map(source).collect()
}

/// Paragraphs with `URIs` and `Suites`.
fn paragraphs(text: &str) -> Vec<(String, Vec<String>)> {
    let source = |paragraph: &str| {
        let field = |name: &str| {
            let value =
                paragraph.lines().find_map(|l| l.strip_prefix(name)?.trim_start().strip_prefix(':'))?;
            Some(value.split_whitespace().map(str::to_owned).collect::<Vec<_>>())
        };
        Some((field("URIs")?.into_iter().next()?, field("Suites")?))
    };
    text.split("\n\n").filter_map(source).collect()
}
