//! The bases that images are put on: each is composed or pulled once, however many images want it.

use bases::debian::{self, Archives, Composed, SUITES, Suite, choose_again, compose_again};
use bases::image::{Getting, ImageBase, Location};
use config::addresses::Addresses;
use content::digest::Sha256;
use engine::{BuildSteps, Input, LayerTarget, Session, Step, StepGraph, execute};
use model::error::{BaseError, ConfigError, SwapError};
use model::pins::Composition;
use model::{Ecosystem, Error, PackageFact, Result, RuntimeInUse};
use planning::Base;
use remote::oci::{CredentialFiles, Reference, Target};
use remote::packages::debian::Index;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use workshop::inspect::OpenImage;
use workshop::layer_contents::{self, Layer};
use workshop::linkage::Linkage;
use workshop::record::{LayerRecord, Record, StepRecord};

/// How packages are chosen again; a change of it makes what is kept of it void.
const CHOICE_FORMAT: u32 = 1;

/// What an image is to be put on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Onto {
    /// What its own base is today.
    Newest,
    /// The base of this name, as in `[base] from`.
    Base(String),
}

/// How bases are found.
pub struct SwapRequest<'a> {
    /// What images are put on.
    pub onto: &'a Onto,
    /// Where packages are.
    pub addresses: &'a Addresses,
    /// Keys that are trusted besides the distribution's.
    pub keyrings: &'a [Vec<u8>],
    /// Whether to accept a release past its Valid-Until date.
    pub outdated: bool,
    /// Credentials for registries of images.
    pub credentials: &'a Arc<CredentialFiles>,
    /// The folder that relative paths are taken from.
    pub near: &'a Path,
    /// Now, in seconds since 1970.
    pub now: i64,
}

/// A base, ready to be put under images.
pub(super) struct NewBase {
    pub(super) name: String,
    pub(super) composition: Option<Composition>,
    pub(super) layers: Vec<NewLayer>,
    pub(super) env: BTreeMap<String, String>,
    /// The runtimes in it.
    pub(super) runtimes: Vec<RuntimeInUse>,
    pub(super) linkage: Linkage,
}

impl NewBase {
    /// Its layers, bottom first, in the order of those whose place they take.
    pub(super) fn layers_for(&self, old: &Record) -> Vec<&NewLayer> {
        let place = |layer: &&NewLayer| {
            let step = layer.in_place_of.as_ref();
            old.layers.iter().position(|known| Some(&known.step) == step)
        };
        let mut layers: Vec<&NewLayer> = self.layers.iter().collect();
        layers.sort_by_key(|layer| (layer.record.role, place(layer)));
        layers
    }
}

/// A layer of it.
pub(super) struct NewLayer {
    /// The step whose layer it takes the place of; nothing where it takes none's.
    pub(super) in_place_of: Option<String>,
    pub(super) record: LayerRecord,
    pub(super) packages: Vec<PackageFact>,
    pub(super) step: StepRecord,
}

/// What makes two images want the same base: its name, how the old one was composed, and what the layers are written for.
type Key = (String, String, &'static str, String);

/// The bases that were made so far.
pub struct NewBases<'a> {
    request: &'a SwapRequest<'a>,
    made: Mutex<BTreeMap<Key, Arc<NewBase>>>,
    indexes: Mutex<BTreeMap<(&'static str, &'static str), Arc<Index>>>,
}

impl<'a> NewBases<'a> {
    /// None so far.
    pub fn new(request: &'a SwapRequest<'a>) -> Self {
        Self { request, made: Mutex::default(), indexes: Mutex::default() }
    }

    /// The base that an image is to be put on.
    pub(super) fn in_place_of(&self, image: &OpenImage, session: &Session<'_>) -> Result<Arc<NewBase>> {
        let record = &image.record;
        let name = match self.request.onto {
            Onto::Newest => record.base.clone(),
            Onto::Base(name) => name.clone(),
        };
        let codec = record.layers.first().map(|layer| layer.codec).unwrap_or_default();
        let target = LayerTarget { codec, platform: record.platform.clone() };
        let kind = name.split_once(':').map(|(kind, _)| kind);
        let composition = record.composition.as_ref().filter(|_| kind != Some("oci"));
        let asked = serde_json::to_string(&composition).map_err(std::io::Error::other)?;
        let key = (name.clone(), asked, codec.name(), record.platform.clone());
        // Others that want the same base wait for it here.
        let mut made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = made.get(&key) {
            return Ok(Arc::clone(known));
        }
        let fixed = || SwapError::FixedBase { image: image.label.clone(), base: name.clone() };
        let new = match (name.split_once(':'), composition) {
            (Some(("oci", reference)), _) => self.of_image(&name, reference, &target, session)?,
            (Some(("debian", suite)), Some(old)) => {
                let unknown = || ConfigError::UnknownBase { name: name.clone() };
                let suite = Suite::named(suite).ok_or_else(unknown)?;
                self.composed(&name, old, suite, &target, session)?
            }
            (None, Some(old)) if *self.request.onto == Onto::Newest => {
                let suite = Suite::named(&old.suite).unwrap_or(&SUITES[0]);
                self.composed(&name, old, suite, &target, session)?
            }
            _ => return Err(Error::Swap(fixed())),
        };
        let new = Arc::new(new);
        made.insert(key, Arc::clone(&new));
        Ok(new)
    }

    /// A base of packages, of what the suite has today.
    fn composed(
        &self,
        name: &str,
        old: &Composition,
        suite: &'static Suite,
        target: &LayerTarget,
        session: &Session<'_>,
    ) -> Result<NewBase> {
        let unknown =
            || BaseError::PlatformNotInBase { base: name.to_owned(), platform: target.platform.clone() };
        let architecture = debian::architecture(&target.platform).ok_or_else(unknown)?;
        let address = |kind| self.request.addresses.in_force(kind).ok().map(|known| known.address);
        let addresses = [Ecosystem::DEBIAN, Ecosystem::DEBIAN_SECURITY].map(address);
        let archives = Archives {
            addresses: addresses.clone(),
            keyrings: self.request.keyrings,
            fetcher: session.fetcher,
            store: session.store,
            now: self.request.now,
            outdated: self.request.outdated,
        };
        // What the same state of the suite came to before, it comes to again.
        let asked = (CHOICE_FORMAT, old, suite.name, architecture, archives.state(suite)?);
        let asked = serde_json::to_vec(&asked).map_err(std::io::Error::other)?;
        let known = session.store.fragment_path("debian-choices", Sha256::of(&asked));
        let sets = match session.store.read_document(&known).whole() {
            Some(sets) => sets,
            None => {
                let index = self.index(&archives, suite, architecture)?;
                let sets = choose_again(old, suite, (architecture, &index))?;
                session.store.write_document(&known, &sets)?;
                sets
            }
        };
        let from = (&addresses, self.request.addresses);
        let Composed { composition, layers } = compose_again(old, suite, (architecture, sets), from);
        let runtime = |(runtime, version): &(String, String)| RuntimeInUse {
            name: runtime.clone(),
            version: version.clone(),
            origin: name.to_owned(),
            bin_folder: String::new(),
        };
        let runtimes = layers.iter().filter_map(|layer| layer.runtime.as_ref().map(runtime)).collect();
        let (old, steps): (Vec<_>, Vec<Step>) =
            layers.into_iter().map(|layer| (Some(layer.in_place_of), layer.step)).unzip();
        let made = Made { composition: Some(composition), env: BTreeMap::new(), runtimes };
        made.with_layers(name, (&steps, &old), target, session)
    }

    /// The packages of a suite, read once.
    fn index(
        &self,
        archives: &Archives<'_>,
        suite: &Suite,
        architecture: &'static str,
    ) -> Result<Arc<Index>> {
        let mut indexes = self.indexes.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(index) = indexes.get(&(suite.name, architecture)) {
            return Ok(Arc::clone(index));
        }
        let index = Arc::new(archives.index(suite, architecture)?.0);
        indexes.insert((suite.name, architecture), Arc::clone(&index));
        Ok(index)
    }

    /// A base that is a foreign image.
    fn of_image(
        &self,
        name: &str,
        reference: &str,
        target: &LayerTarget,
        session: &Session<'_>,
    ) -> Result<NewBase> {
        let request = self.request;
        let location = Location::parse(reference, request.near)?;
        let is_digest = matches!(&location, Location::Registry(Reference { target: Target::Digest(_), .. }));
        if is_digest && *request.onto == Onto::Newest {
            return Err(Error::Swap(SwapError::ByDigest { base: name.to_owned() }));
        }
        let getting = Getting {
            location: &location,
            fetcher: session.fetcher,
            credentials: request.credentials,
            store: session.store,
        };
        let pin = getting.pin(&target.platform)?;
        let documents = Some(getting.documents(&pin)?);
        let base = ImageBase {
            name: name.to_owned(),
            location: location.clone(),
            credentials: Arc::clone(request.credentials),
            documents,
            runtimes: pin.runtimes.clone(),
        };
        let runtimes = pin.runtimes.keys().map(|runtime| Ok(base.runtime(runtime)?.runtime));
        let runtimes = runtimes.collect::<Result<_>>()?;
        let made = Made { composition: None, env: base.env(), runtimes };
        made.with_layers(name, (&base.below()?.0, &[]), target, session)
    }
}

/// A base whose layers are not written yet.
struct Made {
    composition: Option<Composition>,
    env: BTreeMap<String, String>,
    runtimes: Vec<RuntimeInUse>,
}

impl Made {
    /// Writes the layers, or finds them in the store.
    fn with_layers(
        self,
        name: &str,
        (steps, old): (&[Step], &[Option<String>]),
        target: &LayerTarget,
        session: &Session<'_>,
    ) -> Result<NewBase> {
        let source = Input::of_parts("source", BTreeMap::new());
        let build = BuildSteps {
            app: name,
            limits: Default::default(),
            steps,
            image: target,
            root: target,
            source: &source,
        };
        let mut graph = StepGraph::default();
        let wanted = graph.add(&build);
        let finished = execute(&graph, &wanted, session)?;
        let (mut layers, mut linkage) = (Vec::new(), Linkage::default());
        for (number, key) in wanted.into_iter().enumerate() {
            let (Some(done), Some(step)) = (finished.get(&key), StepRecord::of(&graph, key)) else {
                continue;
            };
            let layer = Layer { role: done.outcome.role, written: &done.produced.layer };
            linkage.extend(layer_contents::linkage(session.store, &layer, &target.platform)?);
            let packages = done.produced.packages.clone();
            let in_place_of = old.get(number).cloned().flatten();
            layers.push(NewLayer { in_place_of, record: LayerRecord::of(done), packages, step });
        }
        let Self { composition, env, runtimes } = self;
        Ok(NewBase { name: name.to_owned(), composition, layers, env, runtimes, linkage })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use content::layer::Codec;
    use content::{BlobDigest, DiffId, StepKey};
    use model::Role;

    fn layer(role: Role, step: &str) -> LayerRecord {
        let digest = BlobDigest::of(step.as_bytes());
        let diff_id = DiffId(digest.0);
        LayerRecord {
            role,
            step: step.to_owned(),
            digest,
            diff_id,
            size: 1,
            raw_size: 1,
            codec: Codec::default(),
        }
    }

    #[test]
    fn new_layers_have_the_order_of_those_whose_place_they_take() {
        let new = |role: Role, step: &str, old: Option<&str>| NewLayer {
            in_place_of: old.map(str::to_owned),
            record: layer(role, step),
            packages: Vec::new(),
            step: StepRecord {
                name: step.to_owned(),
                key: StepKey(BlobDigest::of(b"").0),
                inputs: BTreeMap::new(),
                needs: Vec::new(),
            },
        };
        let base = NewBase {
            name: "debian:trixie".to_owned(),
            composition: None,
            layers: vec![
                new(Role::Base, "base", Some("base")),
                new(Role::Runtime, "node runtime", Some("node runtime")),
                new(Role::Runtime, "python runtime", Some("python runtime")),
            ],
            env: BTreeMap::new(),
            runtimes: Vec::new(),
            linkage: Linkage::default(),
        };
        let text = r#"{"format":"shtetl/record/1","name":"ferry","source":"SOURCE","platform":"linux/amd64",
            "base":"debian:trixie","buildpacks":[],"runtimes":[],"packages":[],"steps":[],"layers":[],"processes":[],
            "settings":{}}"#;
        let source = format!("sha256:{}", "0".repeat(64));
        let mut old: Record = serde_json::from_str(&text.replace("SOURCE", &source)).unwrap();
        old.layers = vec![
            layer(Role::Base, "base"),
            layer(Role::Runtime, "python runtime"),
            layer(Role::Runtime, "node runtime"),
            layer(Role::App, "app files"),
        ];
        let order: Vec<&str> = base.layers_for(&old).iter().map(|layer| layer.record.step.as_str()).collect();
        assert_eq!(order, ["base", "python runtime", "node runtime"]);
    }
}
