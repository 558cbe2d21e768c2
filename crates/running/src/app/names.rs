//! What the process types of an app are called in each other's networks.

use super::pool::Pool;
use super::{AppStart, processes_of};
use crate::image::environment;
use crate::ways::Way;
use model::{ProcessType, Result};
use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::sync::Arc;
use workshop::inspect::OpenImage;

/// The network, in that of the loopback interface, where the process types of an app are.
const NETWORK: [u8; 3] = [127, 0, 1];

/// How a process type reaches the others.
pub(super) struct Names {
    /// The ways to the others.
    pub ways: Vec<Way>,
    /// The port that it is told, when that is not the image's.
    pub port: Option<u16>,
}

/// The names that `process` sees: every other process type with a port, at that port.
///
/// A process listens on all addresses of its network, and so takes its own port from everybody there. Another process type
/// with the same port can be reached only if this one is told to listen on another. That is done where its settings
/// speak of the other one, since not every program obeys `PORT`.
pub(super) fn of(
    process: &str,
    image: &OpenImage,
    how: &AppStart,
    pools: &BTreeMap<String, Arc<Pool>>,
) -> Result<Names> {
    let mut env = environment(image.variant(Some(process))?);
    env.extend(how.settings.clone());
    let peers: Vec<&ProcessType> = processes_of(image).collect();
    let own = peers.iter().find(|peer| peer.name == process).and_then(|peer| peer.port);
    let mut names = Names { ways: Vec::new(), port: None };
    for (number, peer) in (1..=u8::MAX).zip(&peers).filter(|(_, peer)| peer.name != process) {
        let Some(port) = peer.port else { continue };
        if Some(port) == own {
            if !env.values().any(|value| mentions(value, &peer.name)) {
                continue;
            }
            names.port = free_number(port, &peers);
        }
        let [a, b, c] = NETWORK;
        names.ways.push(Way {
            name: Some(peer.name.clone()),
            address: Ipv4Addr::new(a, b, c, number),
            port,
            to: pools[&peer.name].target(),
        });
    }
    Ok(names)
}

/// Whether a value speaks of a host: by itself, in a URL, or with a port.
fn mentions(value: &str, host: &str) -> bool {
    let is_part = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    value.match_indices(host).any(|(at, _)| {
        let (before, after) = (&value[..at], &value[at + host.len()..]);
        let begins = before.is_empty() || before.ends_with("//") || before.ends_with(['@', ',']);
        begins && !after.starts_with(is_part)
    })
}

/// The first port after `taken` that no process type has.
fn free_number(taken: u16, peers: &[&ProcessType]) -> Option<u16> {
    (taken.checked_add(1)?..).find(|port| peers.iter().all(|peer| peer.port != Some(*port)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_speaks_of_a_host_only_where_a_host_can_be() {
        for value in ["api", "http://api:8080/v1", "redis://:pw@api", "//api", "web:80,api:80"] {
            assert!(mentions(value, "api"), "{value}");
        }
        for value in ["", "/api/v1", "http://api.example", "rapid", "http://web/api", "api-key"] {
            assert!(!mentions(value, "api"), "{value}");
        }
    }
}
