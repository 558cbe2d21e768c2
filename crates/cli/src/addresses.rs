//! Gathers where packages come from: options, variables, the user's and the ecosystems' configuration.

use crate::folders::user_file;
use config::UserConfig;
use config::addresses::{AddressBook, KnownAddress, Origin};
use ecosystems::Said;
use ecosystems::{ask_tool, of_debian_machine};
use model::{Ecosystem, KnownNames};
use remote::Address;
use std::env;
use std::path::Path;
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
    let known = known.chain(of_debian_machine(host)).collect();
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
