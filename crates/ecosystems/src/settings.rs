//! What the configuration of an ecosystem says: addresses, logins, servers.

use config::addresses::{KnownAddress, Origin};
use model::Ecosystem;
use remote::{Address, Login};
use std::collections::BTreeSet;
use std::path::Path;

/// What was found, the strongest first.
#[derive(Default)]
pub struct Said {
    /// Where packages come from.
    pub known: Vec<KnownAddress>,
    /// Who may come in where.
    pub logins: Vec<Login>,
    /// Servers that the user's own files and variables name.
    pub servers: BTreeSet<String>,
    /// What the app wanted to be sent, and was not.
    pub withheld: Vec<Withheld>,
    /// Patterns of modules that no proxy is asked for, as Go has them.
    pub private: Vec<String>,
}

/// A variable that a file of the app wants to be sent to a server that only the app names.
pub struct Withheld {
    /// Its name.
    pub variable: String,
    /// Where its value would have gone.
    pub server: String,
}

impl Said {
    /// Adds an address, unless something stronger says it.
    pub(crate) fn address(&mut self, ecosystem: Ecosystem, bound: Option<String>, text: &str, detail: &str) {
        // Where two files say the same thing, the stronger was read first.
        if self.known.iter().any(|k| k.ecosystem == ecosystem && k.bound == bound) {
            return;
        }
        let address = Address::parse(text, Path::new("/"));
        let (origin, detail) = (Origin::Ecosystem, detail.to_owned());
        self.known.push(KnownAddress { ecosystem, bound, address, origin, detail });
    }

    /// Adds what is weaker.
    pub(crate) fn extend(&mut self, weaker: Self) {
        let is_new = |known: &KnownAddress| {
            self.known.iter().all(|k| k.ecosystem != known.ecosystem || k.bound != known.bound)
        };
        let new: Vec<_> = weaker.known.into_iter().filter(is_new).collect();
        self.known.extend(new);
        self.logins.extend(weaker.logins);
        self.servers.extend(weaker.servers);
        self.private.extend(weaker.private);
    }
}
