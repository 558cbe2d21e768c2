//! `run --all`: all process types of an app at once.

use super::super::Done;
use super::complaints::Watched;
use super::services::{self, Services};
use super::{GRACE, given_settings, network};
use crate::arguments::{RunNetwork, RunOptions};
use crate::error::Failure;
use crate::interrupt::{self, Ending};
use crate::render::Output;
use crate::render::instances::Narrator;
use crate::surroundings::Surroundings;
use cancel::Cancel;
use content::store::remove_tree;
use model::error::RunError;
use model::{ProcessType, Service};
use running::app::{
    AppStart, End, InstanceName, RunningApp, State, Stream, Tell, What, processes_of, run_tasks,
};
use running::ports::{Offered, offer};
use running::services::{Bound, RunningServices};
use running::ways::Way;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Duration;
use workshop::inspect::OpenImage;

/// The folder, in that of the data, with what services keep.
const SERVICES: &str = ".services";
/// After how many ends in a row a process counts as broken.
const TRIES: u32 = 4;
/// How often it is looked whether a process is broken.
const GLANCE: Duration = Duration::from_millis(50);

pub fn run_all(options: &RunOptions, image: OpenImage, surroundings: &Surroundings, output: &Output) -> Done {
    let store = Arc::clone(&surroundings.store);
    let data = match &options.data {
        Some(folder) => DataFolder { path: std::path::absolute(folder)?, is_dropped: false },
        None => DataFolder { path: store.temporary_folder()?, is_dropped: true },
    };
    let bound = services::bindings(options, &image)?;
    let given = given_settings::gather(&options.settings)?;
    check_bound(options, &image, &bound, &given)?;
    let mut how = AppStart {
        settings: given.clone(),
        data: data.path.clone(),
        logs: store.root().join("logs").join(&image.record.name),
        on_host_network: network(options, surroundings) == RunNetwork::Host,
        ways: options.reach.iter().map(|port| Way::to_this_machine(*port)).collect(),
        scale: [].into(),
        limits: surroundings.process_limits(),
        tries: Some(TRIES),
    };
    let ports = published(options, &image, output)?;
    let narrator = Arc::new(narrator(&image, &ports, output));
    let tell = teller(&image, how.on_host_network, &narrator);
    let (cancel, app) = (Cancel::new(), Arc::new(OnceLock::<RunningApp>::new()));
    let (token, running) = (cancel.clone(), Arc::clone(&app));
    let stopped = interrupt::on_signal(GRACE, move |ending| {
        token.cancel();
        match (running.get(), ending) {
            (Some(app), Ending::Asked) => app.ask_to_stop(),
            (Some(app), Ending::Forced) => app.kill(),
            (None, _) => {}
        }
    })?;
    running::data::fill(&store, &image, &data.path)?;
    let folder = data.path.join(SERVICES);
    let places = (folder.as_path(), how.logs.as_path());
    let services = services::start((options, &image), bound, places, &quiet(&tell), surroundings, output)?;
    how.settings = services.settings.clone().into_iter().chain(given).collect();
    how.ways.extend(services.ways.iter().cloned());
    if let Some(failed) = services.wait_until_ready() {
        let log = how.logs.join(format!("{}.log", failed.name.process));
        narrator
            .note(&failed.name, format!("it did not become ready; what it wrote is in {}", log.display()));
        return Ok(ExitCode::FAILURE);
    }
    if let Some(failed) = run_tasks(&store, &image, &how, &cancel, &tell)? {
        if stopped.load(Ordering::SeqCst) {
            return Ok(ExitCode::SUCCESS);
        }
        tell(
            &InstanceName { process: failed.task, number: 1 },
            &What::State(State::Failed { how: failed.how.clone() }),
        );
        return Ok(ExitCode::from(failed.how.exit_code()));
    }
    let started = RunningApp::start(store, image, how, tell)?;
    let app = app.get_or_init(|| started);
    for (process, offered) in &ports {
        if let Some(pool) = app.pool(process) {
            offered.lead_to(&pool.target())?;
        }
    }
    let failed = wait(app, &services, &stopped);
    app.stop(GRACE);
    if let Some(running) = &services.running {
        running.stop(GRACE);
    }
    Ok(failed.map_or(ExitCode::SUCCESS, |end| ExitCode::from(end.exit_code())))
}

/// Every service has to be started, bound, or have its settings given.
fn check_bound(
    options: &RunOptions,
    image: &OpenImage,
    bound: &BTreeMap<String, Bound>,
    given: &BTreeMap<String, String>,
) -> model::Result<()> {
    let is_there = |name: &String, service: &Service| {
        let all_given = service.gives.keys().all(|setting| given.contains_key(setting));
        options.with_services || bound.contains_key(name) || all_given
    };
    match image.record.services.iter().find(|(name, service)| !is_there(name, service)) {
        None => Ok(()),
        Some((name, service)) => Err(model::Error::Run(RunError::ServiceNotBound {
            service: name.clone(),
            kind: service.kind.name().to_owned(),
            settings: service.gives.keys().cloned().collect(),
        })),
    }
}

/// Tells how services are, and not what they write: that is kept in their logs.
fn quiet(tell: &Tell) -> Tell {
    let tell = Arc::clone(tell);
    Arc::new(move |name: &InstanceName, what: &What| {
        if let What::State(_) = what {
            tell(name, what);
        }
    })
}

/// Where the app keeps what it writes.
struct DataFolder {
    path: PathBuf,
    is_dropped: bool,
}

impl Drop for DataFolder {
    fn drop(&mut self) {
        if self.is_dropped {
            remove_tree(&self.path);
        }
    }
}

/// The ports of this machine that answer for process types: that of the options for the default one, those of the image
/// for the others, and free ones where these are taken.
fn published(
    options: &RunOptions,
    image: &OpenImage,
    output: &Output,
) -> Result<BTreeMap<String, Offered>, Failure> {
    let default = image.variants.first().map(|variant| variant.process.as_str());
    let mut all = BTreeMap::new();
    let ports = processes_of(image).filter_map(|process| Some((process, process.port?)));
    for (process, own) in ports {
        let offered = match options.port {
            Some(0) => offer(0)?,
            Some(port) if default == Some(&process.name) => offer(port)?,
            _ => match offer(own) {
                Err(model::Error::Run(RunError::PortTaken { .. })) => {
                    let offered = offer(0)?;
                    let name = &process.name;
                    output.aside(format!("note: port {own} is in use: {} answers for {name}", offered.port));
                    offered
                }
                offered => offered?,
            },
        };
        all.insert(process.name.clone(), offered);
    }
    Ok(all)
}

fn narrator(image: &OpenImage, ports: &BTreeMap<String, Offered>, output: &Output) -> Narrator {
    let processes = image.record.processes.iter().map(|process| process.name.clone());
    let names = processes.chain(image.record.services.keys().cloned()).collect();
    let addresses =
        ports.iter().map(|(name, offered)| (name.clone(), format!("http://127.0.0.1:{}/", offered.port)));
    Narrator::new(names, addresses.collect(), output.another())
}

/// Tells what happens, and explains each complaint once.
fn teller(image: &OpenImage, on_host_network: bool, narrator: &Arc<Narrator>) -> Tell {
    let narrator = Arc::clone(narrator);
    let processes: Vec<ProcessType> = image.record.processes.clone();
    let told = Mutex::new(BTreeSet::new());
    Arc::new(move |name: &InstanceName, what: &What| {
        narrator.tell(name, what);
        let What::Line { stream: Stream::Errors, text } = what else { return };
        let kind = processes.iter().find(|p| p.name == name.process).map(|p| p.kind);
        let watched = Watched { process: &name.process, kind, has_own_network: !on_host_network };
        let note = watched.explained(text);
        let is_new = |note: &String| told.lock().unwrap_or_else(PoisonError::into_inner).insert(note.clone());
        if let Some(note) = note.filter(is_new) {
            narrator.note(name, note);
        }
    })
}

/// Waits until everything has ended after a signal, or one instance is given up; gives how that one ended.
fn wait(app: &RunningApp, services: &Services, stopped: &AtomicBool) -> Option<End> {
    loop {
        if stopped.load(Ordering::SeqCst) {
            app.ask_to_stop();
            return None;
        }
        let of_services = services.running.iter().flat_map(RunningServices::status);
        let failed = app.status().into_iter().chain(of_services).find_map(|status| match status.state {
            State::Failed { how } => Some(how),
            _ => None,
        });
        if failed.is_some() {
            return failed;
        }
        std::thread::sleep(GLANCE);
    }
}
