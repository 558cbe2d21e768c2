//! Services for `run --all`: started, or bound to what runs already.

use crate::surroundings::Surroundings;
use arguments::RunOptions;
use cancel::Cancel;
use config::Effective;
use config::addresses::Addresses;
use engine::Budget;
use model::error::RunError;
use model::service::Access;
use model::{Ecosystem, Error, Service, ServiceKind};
use remote::Network;
use render::Output;
use render::events::Renderer;
use running::app::{Status, Tell};
use running::services::{Bound, RunningServices, ServiceStart, Source, bound};
use running::ways::Way;
use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;
use wording::Failure;
use workshop::inspect::OpenImage;

/// How the services of an app are reached.
pub struct Services {
    /// Those that were started.
    pub running: Option<RunningServices>,
    /// The settings that they give.
    pub settings: BTreeMap<String, String>,
    /// The ways to them.
    pub ways: Vec<Way>,
}

/// What is bound by the options: the service, and where it is.
pub fn bindings(options: &RunOptions, image: &OpenImage) -> Result<BTreeMap<String, Bound>, Failure> {
    let mut all = BTreeMap::new();
    for (number, text) in (1..=u8::MAX).zip(&options.bind) {
        // The text may hold a password, so it is not repeated.
        let (name, url) = text.split_once('=').ok_or_else(|| Failure::Usage {
            message: "--bind needs a service and its address".to_owned(),
            hint: "write --bind SERVICE=URL".to_owned(),
        })?;
        let services = &image.record.services;
        let service = services.get(name).ok_or_else(|| RunError::NoSuchService {
            name: name.to_owned(),
            known: services.keys().cloned().collect(),
        });
        let service = service.map_err(Error::from)?;
        all.insert(name.to_owned(), bound(name, service, url, number)?);
    }
    Ok(all)
}

/// Prepares what is to be started, and puts it together with what is bound. `folder` keeps the data.
pub fn start(
    (options, image): (&RunOptions, &OpenImage),
    bound: BTreeMap<String, Bound>,
    (folder, logs): (&Path, &Path),
    tell: &Tell,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<Services, Failure> {
    let mut services = Services { running: None, settings: BTreeMap::new(), ways: Vec::new() };
    let own: Vec<(&String, &Service)> =
        image.record.services.iter().filter(|(name, _)| !bound.contains_key(*name)).collect();
    for (name, Bound { access, way }) in bound {
        services.fill(&image.record.services[&name], &access);
        services.ways.push(way);
    }
    if !options.with_services || own.is_empty() {
        return Ok(services);
    }
    let starts = prepare(&own, folder, surroundings, output)?;
    let running =
        RunningServices::start(&surroundings.store, starts, logs, surroundings.process_limits(), tell)?;
    for (name, service) in own {
        services.fill(service, &running.access[name]);
    }
    services.ways.extend(running.ways());
    services.running = Some(running);
    Ok(services)
}

impl Services {
    fn fill(&mut self, service: &Service, access: &Access) {
        let given = service.gives.iter().map(|(setting, template)| (setting.clone(), access.fill(template)));
        self.settings.extend(given);
    }

    /// Waits until those that were started are ready, or it is cancelled; gives the first that is not.
    pub fn wait_until_ready(&self, cancel: &Cancel) -> Option<Status> {
        self.running.as_ref()?.wait_until_ready(cancel)
    }

    /// Ends those that were started, in good order.
    pub fn stop(&self, patience: Duration) {
        if let Some(running) = &self.running {
            running.stop(patience);
        }
    }
}

/// The roots of services: from the store, or from packages.
fn prepare(
    services: &[(&String, &Service)],
    folder: &Path,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<Vec<ServiceStart>, Failure> {
    let here = Path::new(".");
    let Effective { config, origins } = surroundings.config_here()?;
    let keyrings = Surroundings::keyrings(&config)?;
    let addresses = Addresses::new(&surroundings.book, &config, &origins, here);
    let address = |kind| addresses.in_force(kind).ok().map(|known| known.address);
    let source = Source {
        addresses: [Ecosystem::DEBIAN, Ecosystem::DEBIAN_SECURITY].map(address),
        keyrings: &keyrings,
        outdated: config.outdated.unwrap_or_default(),
        now: Surroundings::now() / 1_000_000_000,
    };
    let fetcher = surroundings.fetcher(Network::Allowed);
    let (renderer, budget) = (Renderer::of_work(output), Budget::new(surroundings.jobs));
    let events = |event| renderer.show(&event);
    let session = surroundings.session(&fetcher, &budget, &events);
    let start = |(name, service): &(&String, &Service)| {
        Ok(ServiceStart {
            name: (*name).clone(),
            service: (*service).clone(),
            folder: folder.join(name),
            layers: match service.kind {
                ServiceKind::ObjectStore => Vec::new(),
                kind => source.root(kind, &session)?,
            },
        })
    };
    services.iter().map(start).collect()
}
