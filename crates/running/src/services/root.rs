//! The roots of services: chosen from Debian's packages once, kept in the store, and chosen again after a while.

use super::kinds::packages;
use bases::debian::{Archives, SUITES, architecture, resolve_service, service_root};
use content::digest::Sha256;
use engine::sandbox_mode::working_mode;
use engine::unpacked_layers::{StoredLayer, unpacked};
use engine::{BuildSteps, Input, LayerTarget, Session, StepGraph, execute};
use model::error::BaseError;
use model::pins::PinnedSet;
use model::platform::own_platform;
use model::{Error, Result, ServiceKind};
use remote::Address;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// How packages are chosen; a change of it makes what is kept of it void.
const CHOICE_FORMAT: u32 = 1;
/// After how many seconds newer packages are looked for.
const KEPT: i64 = 30 * 24 * 60 * 60;

/// Where the packages of services come from.
pub struct Source<'a> {
    /// The archive, and that of security updates.
    pub addresses: [Option<Address>; 2],
    /// Keys that are trusted besides the distribution's.
    pub keyrings: &'a [Vec<u8>],
    /// Whether to accept a release past its Valid-Until date.
    pub outdated: bool,
    /// Now, in seconds since 1970.
    pub now: i64,
}

/// Packages that were chosen.
#[derive(Clone, Serialize, Deserialize)]
struct Choice {
    /// When, in seconds since 1970.
    at: i64,
    set: PinnedSet,
}

impl Source<'_> {
    /// The root of a kind of service: unpacked layers. A choice that was made before is kept for a while, and for longer where
    /// there is no network.
    pub fn root(&self, kind: ServiceKind, session: &Session<'_>) -> Result<Vec<PathBuf>> {
        let suite = &SUITES[0];
        let platform = own_platform();
        let unknown =
            || BaseError::PlatformNotInBase { base: suite.name.to_owned(), platform: platform.clone() };
        let architecture = architecture(&platform).ok_or_else(unknown)?;
        let asked = (CHOICE_FORMAT, kind, packages(kind), suite.name, architecture, &self.addresses[0]);
        let asked = format!("{asked:?}");
        let kept = session.store.fragment_path("service-choices", Sha256::of(asked.as_bytes()));
        let known: Option<Choice> = session.store.read_document(&kept).whole();
        let is_fresh = |choice: &Choice| self.now - choice.at < KEPT;
        let set = match known {
            Some(choice) if is_fresh(&choice) => choice.set,
            known => match (self.choose(kind, architecture, session), known) {
                (Ok(set), _) => {
                    session.store.write_document(&kept, &Choice { at: self.now, set: set.clone() })?;
                    set
                }
                (Err(Error::Interrupted), _) => return Err(Error::Interrupted),
                (Err(_), Some(choice)) => choice.set,
                (Err(error), None) => return Err(error),
            },
        };
        let name = format!("{} {}", suite.name, kind.name());
        let step = service_root(name, suite, architecture, &set, self.addresses.clone());
        let target = LayerTarget { codec: Default::default(), platform };
        let source = Input::of_parts("source", BTreeMap::new());
        let steps = [step];
        let build = BuildSteps {
            app: kind.name(),
            limits: Default::default(),
            steps: &steps,
            image: &target,
            root: &target,
            source: &source,
        };
        let mut graph = StepGraph::default();
        let wanted = graph.add(&build);
        let finished = execute(&graph, &wanted, session)?;
        let mode = working_mode(session.store)?;
        let layers = wanted.iter().filter_map(|key| finished.get(key));
        layers.map(|done| unpacked(session.store, &StoredLayer::from(&done.produced.layer), mode)).collect()
    }

    fn choose(
        &self,
        kind: ServiceKind,
        architecture: &'static str,
        session: &Session<'_>,
    ) -> Result<PinnedSet> {
        let suite = &SUITES[0];
        let archives = Archives {
            addresses: self.addresses.clone(),
            keyrings: self.keyrings,
            fetcher: session.fetcher,
            store: session.store,
            now: self.now,
            outdated: self.outdated,
        };
        resolve_service(suite, packages(kind), &archives.index(suite, architecture)?.0)
    }
}
