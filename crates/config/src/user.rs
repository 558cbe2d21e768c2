//! The user's own configuration of the program, for all apps of a machine: `config.toml` in the user's folder.

use crate::read_text;
use crate::reader::{Document, Table, with_table};
use crate::running_values::{positive, read_size};
use crate::values::read_addresses;
use model::error::ConfigError;
use model::{Error, KnownNames, Result};
use std::collections::BTreeMap;
use std::path::Path;

/// Everything that it says; nothing in it is required.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UserConfig {
    /// `[addresses]`: where packages come from, by ecosystem.
    pub addresses: BTreeMap<String, String>,
    /// `[trust] servers`: servers that files of apps may send variables to.
    pub trusted: Vec<String>,
    /// `[trust] keys`: files of public keys of which one has to have signed an image.
    pub trusted_keys: Vec<String>,
    /// `[limits]`.
    pub limits: UserLimits,
    /// `[run] network`: whether processes of `run` are on the network of this machine.
    pub on_host_network: Option<bool>,
    /// `[store] shared`: where step results are shared.
    pub shared: Option<String>,
    /// `[store] shared-keys`: files of public keys whose results count.
    pub shared_keys: Vec<String>,
    /// `[store] shared-key`: a file with the private key that signs own results.
    pub shared_key: Option<String>,
    /// `[store] keep`: how many bytes a build leaves in the store at most.
    pub keep: Option<u64>,
}

/// How much each step, and each process of `run`, may use together with all that it starts.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct UserLimits {
    /// Processes and threads.
    pub processes: Option<u64>,
    /// Bytes of memory.
    pub memory: Option<u64>,
    /// Open files of each process.
    pub open_files: Option<u64>,
    /// Bytes written to disks.
    pub written: Option<u64>,
    /// For how long a step may run.
    pub minutes: Option<u64>,
}

/// What `[run] network` takes: its own, or the machine's.
const NETWORKS: [&str; 2] = ["own", "host"];

impl UserConfig {
    /// Reads the file at `path`, where there is one.
    pub fn read(path: &Path, names: &KnownNames) -> Result<Self> {
        if !path.exists() {
            return Ok(Self::default());
        }
        let text = read_text(path, path)?;
        let read = || {
            let document = Document::parse(&text)?;
            let config = read_root(document.root(), names);
            let (complaints, _) = document.done();
            if complaints.is_empty() { Ok(config) } else { Err(complaints) }
        };
        let near = path.parent().unwrap_or(Path::new("."));
        let near_keys = |config: Self| {
            let file = |key: &String| near.join(key).display().to_string();
            Self {
                trusted_keys: config.trusted_keys.iter().map(file).collect(),
                shared_keys: config.shared_keys.iter().map(file).collect(),
                shared_key: config.shared_key.as_ref().map(file),
                ..config
            }
        };
        read().map(near_keys).map_err(|complaints| {
            Error::Config(ConfigError::Faults { path: path.to_owned(), text: text.clone(), complaints })
        })
    }
}

fn read_root(root: Table<'_, '_>, names: &KnownNames) -> UserConfig {
    let mut config = UserConfig { addresses: read_addresses(&root, names), ..UserConfig::default() };
    with_table(&root, "limits", |table| {
        let count = |key| positive(table, key);
        let size = |key| table.value(key).and_then(|value| read_size(&value, &value.string()?));
        config.limits = UserLimits {
            processes: count("processes"),
            memory: size("memory"),
            open_files: count("open-files"),
            written: size("written"),
            minutes: count("minutes"),
        };
    });
    with_table(&root, "trust", |table| {
        config.trusted = table.value("servers").and_then(|value| value.strings()).unwrap_or_default();
        config.trusted_keys = table.value("keys").and_then(|value| value.strings()).unwrap_or_default();
    });
    with_table(&root, "run", |table| {
        let Some(value) = table.value("network") else { return };
        let Some(text) = value.string() else { return };
        config.on_host_network = NETWORKS.iter().position(|network| *network == text).map(|at| at == 1);
        if config.on_host_network.is_none() {
            value
                .bad(format!("must be one of {}", NETWORKS.map(|network| format!("{network:?}")).join(", ")));
        }
    });
    with_table(&root, "store", |table| {
        config.shared = table.value("shared").and_then(|value| value.string());
        config.shared_keys = table.value("shared-keys").and_then(|value| value.strings()).unwrap_or_default();
        config.shared_key = table.value("shared-key").and_then(|value| value.string());
        config.keep = table.value("keep").and_then(|value| read_size(&value, &value.string()?));
    });
    root.done();
    config
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::Ecosystem;

    fn read(text: &str) -> (UserConfig, usize) {
        let document = Document::parse(text).unwrap_or_else(|_| panic!("valid TOML"));
        let names = KnownNames { ecosystems: vec![Ecosystem::NPM], ..KnownNames::default() };
        let config = read_root(document.root(), &names);
        (config, document.done().0.len())
    }

    #[test]
    fn everything_is_read_and_what_makes_no_sense_is_refused() {
        let text = "[addresses]\nnpm = \"/packages\"\n[limits]\nprocesses = 100\nmemory = \"1GiB\"\n\
            open-files = 32\nwritten = \"2MB\"\nminutes = 5\n[run]\nnetwork = \"host\"\n[store]\nkeep = \"20GB\"\n[trust]\nservers = [\"packages.example\"]\n";
        let limits = UserLimits {
            processes: Some(100),
            memory: Some(1 << 30),
            open_files: Some(32),
            written: Some(2_000_000),
            minutes: Some(5),
        };
        let (config, complaints) = read(text);
        assert_eq!((config.limits, config.on_host_network, complaints), (limits, Some(true), 0));
        assert_eq!((config.addresses.len(), config.keep), (1, Some(20_000_000_000)));
        assert_eq!(config.trusted, ["packages.example"]);
        assert_eq!(read("[limits]\nprocesses = 0\nmemory = \"much\"\n").1, 2);
        assert_eq!(read("[run]\nnetwork = \"none\"\n[process.web]\nport = 1\n").1, 2);
    }
}
