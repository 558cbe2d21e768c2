//! Gets bytes from an address, again when that may help.

use crate::address::Address;
use crate::error::{RemoteError, Result};
use std::fs;
use std::io::{self, Read};
use std::path::Path;
use std::time::Duration;
use ureq::tls::{RootCerts, TlsConfig};

/// Whether the network may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Network {
    /// Use it.
    Allowed,
    /// Take everything from the store and from folders.
    Forbidden,
}

/// The largest answer that is read, in bytes.
const LIMIT: u64 = 2 << 30;
/// How long to wait before each further try.
const PAUSES: [Duration; 3] = [Duration::from_millis(200), Duration::from_secs(1), Duration::from_secs(3)];

/// Gets files; shared by all threads, connections are kept.
pub struct Fetcher {
    agent: ureq::Agent,
    network: Network,
}

impl Fetcher {
    /// A fetcher without connections yet.
    pub fn new(network: Network) -> Self {
        // What this machine trusts, is trusted: organisations have certificates of their own.
        let tls = TlsConfig::builder().root_certs(RootCerts::PlatformVerifier).build();
        let agent = ureq::Agent::config_builder()
            .tls_config(tls)
            .http_status_as_error(false)
            .timeout_connect(Some(Duration::from_secs(10)))
            .timeout_recv_response(Some(Duration::from_secs(60)))
            .user_agent(concat!("shtetl/", env!("CARGO_PKG_VERSION")))
            .max_idle_connections_per_host(16)
            .build()
            .into();
        Self { agent, network }
    }

    /// Whether it may use the network.
    pub fn may_use_network(&self) -> bool {
        self.network == Network::Allowed
    }

    /// The bytes at `address`; `accept` is sent as the wanted media types.
    pub fn get(&self, address: &Address, accept: &str) -> Result<Vec<u8>> {
        match address {
            Address::Folder(path) => read(path),
            Address::Url(url) if self.network == Network::Forbidden => {
                Err(RemoteError::Offline { url: shown(url) })
            }
            Address::Url(url) => self.get_with_retry(url, accept),
        }
    }

    fn get_with_retry(&self, url: &str, accept: &str) -> Result<Vec<u8>> {
        let mut pauses = PAUSES.iter();
        loop {
            let error = match self.get_once(url, accept) {
                Err(error) if worth_another_try(&error) => error,
                answer => return answer,
            };
            match pauses.next() {
                Some(pause) => std::thread::sleep(*pause),
                None => return Err(error),
            }
        }
    }

    fn get_once(&self, url: &str, accept: &str) -> Result<Vec<u8>> {
        let unreachable = |detail: String| RemoteError::Unreachable { url: shown(url), detail };
        let response = self.agent.get(url).header("Accept", accept).call();
        let mut response = response.map_err(|e| unreachable(e.to_string()))?;
        match response.status().as_u16() {
            200 => {}
            404 | 410 => return Err(RemoteError::NotFound { url: shown(url) }),
            status => return Err(RemoteError::Status { url: shown(url), status }),
        }
        let mut bytes = Vec::new();
        let mut body = response.body_mut().with_config().limit(LIMIT).reader();
        body.read_to_end(&mut bytes).map_err(|e| unreachable(e.to_string()))?;
        Ok(bytes)
    }
}

fn worth_another_try(error: &RemoteError) -> bool {
    match error {
        RemoteError::Unreachable { .. } => true,
        RemoteError::Status { status, .. } => *status == 429 || *status >= 500,
        _ => false,
    }
}

fn read(path: &Path) -> Result<Vec<u8>> {
    fs::read(path).map_err(|source| match source.kind() {
        io::ErrorKind::NotFound => RemoteError::NotFound { url: path.display().to_string() },
        _ => RemoteError::Io { path: path.to_owned(), source },
    })
}

fn shown(url: &str) -> String {
    Address::Url(url.to_owned()).to_string()
}
