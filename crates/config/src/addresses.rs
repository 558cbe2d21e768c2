//! Where packages come from: always an explicit choice, with a known origin.

use crate::{AppConfig, Layer};
use model::error::ConfigError;
use model::{Ecosystem, Error, Result, files};
use remote::{Address, Fetcher, server_in};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

/// The origins of addresses, strongest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// An option of the command line.
    Option,
    /// An environment variable of this program.
    Variable,
    /// `shtetl.toml`.
    App,
    /// The house rules of an organisation.
    HouseRules,
    /// The user's own configuration of this program.
    User,
    /// The lockfile, in the entry of each package.
    Lockfile,
    /// The ecosystem's own configuration files and variables.
    Ecosystem,
    /// The ecosystem's tool on this machine, when asked.
    Tool,
}

/// An address with its origin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownAddress {
    /// For which packages.
    pub ecosystem: Ecosystem,
    /// For those of this name or scope only (`@kestrel`, `fog-horn`, `kestrel-*`), which are then never
    /// taken from anywhere else.
    pub bound: Option<String>,
    /// Where they are.
    pub address: Address,
    /// Its origin.
    pub origin: Origin,
    /// The option, variable, file or command, for people.
    pub detail: String,
}

/// All addresses from outside the app, and a way to ask the ecosystems' tools.
pub struct AddressBook {
    /// In any order.
    pub known: Vec<KnownAddress>,
    /// Asks the ecosystem's tool on this machine; only when nothing else answers.
    ask_tool: fn(Ecosystem) -> Option<KnownAddress>,
    /// The value of a variable of the user's environment, for addresses that name one.
    variable: fn(&str) -> Option<String>,
    /// Servers that the user named, besides what the tools answer: only for these, variables are filled in that an app's
    /// own files name.
    servers: BTreeSet<String>,
    /// Patterns of Go's modules that no proxy may be asked for (the Go modules reference, "Private modules").
    private: Vec<String>,
    /// What the tools answered: starting one takes longer than fetching a package.
    answered: Mutex<BTreeMap<Ecosystem, Option<KnownAddress>>>,
}

impl AddressBook {
    /// What is known, and how a tool is asked.
    pub fn new(known: Vec<KnownAddress>, ask_tool: fn(Ecosystem) -> Option<KnownAddress>) -> Self {
        Self {
            known,
            ask_tool,
            variable: |_| None,
            servers: BTreeSet::new(),
            private: Vec::new(),
            answered: Mutex::default(),
        }
    }

    /// The book, with a way to fill in variables, which holds for what is on these servers.
    pub fn with_variables(
        self,
        variable: fn(&str) -> Option<String>,
        servers: impl IntoIterator<Item = String>,
    ) -> Self {
        Self { variable, servers: servers.into_iter().collect(), ..self }
    }

    /// The book, with patterns of modules that no proxy may be asked for.
    pub fn with_private(self, private: Vec<String>) -> Self {
        Self { private, ..self }
    }

    /// Whether the user named this server, or the ecosystem's tool does.
    fn knows(&self, ecosystem: Ecosystem, server: &str) -> bool {
        let of_tool = || self.ask(ecosystem).is_some_and(|known| known.address.server() == Some(server));
        self.servers.contains(server) || of_tool()
    }

    fn ask(&self, ecosystem: Ecosystem) -> Option<KnownAddress> {
        let mut answered = self.answered.lock().unwrap_or_else(PoisonError::into_inner);
        answered.entry(ecosystem).or_insert_with(|| (self.ask_tool)(ecosystem)).clone()
    }
}

/// The effective addresses for one app.
#[derive(Clone)]
pub struct Addresses {
    book: Arc<AddressBook>,
    app: Vec<KnownAddress>,
}

impl Addresses {
    /// The book together with what the app's configuration in `folder` says.
    pub fn new(
        book: &Arc<AddressBook>,
        app: &AppConfig,
        origins: &BTreeMap<String, crate::Origin>,
        folder: &Path,
    ) -> Self {
        let said = |name: &str| {
            let origin = origins.get(&format!("addresses.{name}"))?;
            let from_house = origin.layer == Layer::HouseRules;
            Some((if from_house { Origin::HouseRules } else { Origin::App }, origin.place.file.clone()))
        };
        let from_app = |(name, text): (&String, &String)| {
            let (origin, detail) = said(name).unwrap_or((Origin::App, files::CONFIG.to_owned()));
            let (ecosystem, bound) = Ecosystem::with_bound(name, &app.ecosystems)?;
            Some(KnownAddress { ecosystem, bound, address: Address::parse(text, folder), origin, detail })
        };
        Self { book: Arc::clone(book), app: app.addresses.iter().filter_map(from_app).collect() }
    }

    /// The text of an app, a URL, with the user's variables filled in, all of which have to be there. An app can name any
    /// server: what the user has in the environment goes only to one that the user named.
    pub fn filled(&self, ecosystem: Ecosystem, text: &str) -> Result<String> {
        if let Some(name) = variable_in(text) {
            let server = server_in(text).unwrap_or(text);
            if !self.book.knows(ecosystem, server) {
                let (name, server) = (name.to_owned(), server.to_owned());
                return Err(Error::Config(ConfigError::UntrustedServer { name, server }));
            }
        }
        let text = filled(text, self.book.variable);
        match variable_in(&text) {
            Some(name) => Err(Error::Config(ConfigError::NoVariable { name: name.to_owned() })),
            None => Ok(text),
        }
    }

    fn said(&self, ecosystem: Ecosystem) -> impl Iterator<Item = &KnownAddress> {
        self.book.known.iter().chain(&self.app).filter(move |k| k.ecosystem == ecosystem)
    }

    /// Names and scopes that are bound to addresses.
    pub fn bound(&self, ecosystem: Ecosystem) -> Vec<KnownAddress> {
        let mut bound: Vec<_> = self.said(ecosystem).filter(|k| k.bound.is_some()).cloned().collect();
        bound.sort_by(|a, b| (&a.bound, a.origin).cmp(&(&b.bound, b.origin)));
        bound
    }

    /// The address that packages of this name are bound to.
    pub fn bound_to(&self, ecosystem: Ecosystem, name: &str) -> Option<KnownAddress> {
        let fits = |bound: &str| match bound.strip_suffix('*') {
            Some(beginning) => name.starts_with(beginning),
            None => bound == name || name.strip_prefix(bound).is_some_and(|rest| rest.starts_with('/')),
        };
        let bound = self.said(ecosystem).filter(|k| k.bound.as_deref().is_some_and(fits));
        bound.min_by_key(|k| k.origin).cloned()
    }

    /// All addresses for `ecosystem` as a whole, the effective one first; the tool is asked when nothing
    /// was.
    pub fn all(&self, ecosystem: Ecosystem) -> Vec<KnownAddress> {
        let mut said: Vec<_> = self.said(ecosystem).filter(|k| k.bound.is_none()).cloned().collect();
        said.sort_by_key(|k| k.origin);
        if said.is_empty() {
            said.extend(self.book.ask(ecosystem));
        }
        said
    }

    /// The address that is stronger than what a lockfile says of single packages.
    pub fn over_lockfile(&self, ecosystem: Ecosystem) -> Option<KnownAddress> {
        let said = self.said(ecosystem).filter(|k| k.bound.is_none() && k.origin < Origin::Lockfile);
        said.min_by_key(|k| k.origin).cloned()
    }

    /// The effective address for packages of this name, as long as `fetcher` may ask it: without the
    /// network, only a folder.
    pub fn askable(&self, ecosystem: Ecosystem, name: &str, fetcher: &Fetcher) -> Option<Address> {
        let known = self.bound_to(ecosystem, name).or_else(|| self.over_lockfile(ecosystem));
        let more = || fetcher.may_use_network().then(|| self.in_force(ecosystem).ok()).flatten();
        let known = known.or_else(more);
        let usable = |a: &Address| fetcher.may_use_network() || matches!(a, Address::Folder(_));
        known.map(|k| k.address).filter(usable)
    }

    /// The effective address for packages of this name, apart from what a lockfile says of single packages.
    pub fn of_package(&self, ecosystem: Ecosystem, name: &str) -> Result<KnownAddress> {
        if let Some(bound) = self.bound_to(ecosystem, name) {
            return Ok(bound);
        }
        if ecosystem == Ecosystem::GO && self.book.private.iter().any(|pattern| fits_path(pattern, name)) {
            return Err(Error::Config(ConfigError::PrivateModule { name: name.to_owned() }));
        }
        self.in_force(ecosystem)
    }

    /// The effective address, apart from what a lockfile says of single packages.
    pub fn in_force(&self, ecosystem: Ecosystem) -> Result<KnownAddress> {
        let strongest = self.all(ecosystem).into_iter().next();
        strongest.ok_or(Error::Config(ConfigError::NoAddress { ecosystem: ecosystem.name() }))
    }
}

/// Whether a path begins with a pattern, part by part; `*` stands for anything within a part.
fn fits_path(pattern: &str, path: &str) -> bool {
    let mut parts = path.split('/');
    pattern.trim_end_matches('/').split('/').all(|wanted| parts.next().is_some_and(|part| fits(wanted, part)))
}

fn fits(pattern: &str, text: &str) -> bool {
    match pattern.split_once('*') {
        None => pattern == text,
        Some((start, rest)) => text.strip_prefix(start).is_some_and(|text| {
            let ends = text.char_indices().map(|(at, _)| at).chain([text.len()]);
            ends.into_iter().any(|at| fits(rest, &text[at..]))
        }),
    }
}

/// The first variable that a text names.
pub fn variable_in(text: &str) -> Option<&str> {
    Some(text.split_once("${")?.1.split_once('}')?.0)
}

/// The text with every `${NAME}` replaced by the variable of that name, where there is one.
pub fn filled(text: &str, variable: impl Fn(&str) -> Option<String>) -> String {
    let mut parts = text.split("${");
    let mut filled = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        match part.split_once('}').and_then(|(name, rest)| Some((variable(name)?, rest))) {
            Some((value, rest)) => filled.extend([value.as_str(), rest]),
            None => filled.extend(["${", part]),
        }
    }
    filled
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_of_private_modules_fit_part_by_part() {
        assert!(fits_path("kestrel.example", "kestrel.example/tide"));
        assert!(fits_path("*.kestrel.example/ferry*", "git.kestrel.example/ferry-tools/v2"));
        assert!(!fits_path("kestrel.example/tide", "kestrel.example"));
        assert!(!fits_path("kestrel.example/tide", "kestrel.example/tides"));
        assert!(!fits_path("*.example", "kestrel.example.org/x"));
    }
}
