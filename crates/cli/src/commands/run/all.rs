//! `run --all`: all process types of an app at once.

use super::super::Done;
use super::services::{self, Services};
use super::{GRACE, given_settings, kept_data, network};
use crate::interrupt::{self, Ending};
use crate::surroundings::Surroundings;
use arguments::{RunNetwork, RunOptions};
use cancel::Cancel;
use content::store::remove_tree;
use model::error::RunError;
use model::{ProcessType, Service};
use render::Output;
use render::complaints::Watched;
use render::instances::Narrator;
use running::app::{
    AppStart, Before, End, InstanceName, RunningApp, State, Stream, Tell, What, processes_of, run_tasks,
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
use wording::{Failure, INTERRUPTED};
use workshop::inspect::OpenImage;

/// The folder, in that of the data, with what services keep.
const SERVICES: &str = ".services";
/// After how many ends in a row a process counts as broken.
const TRIES: u32 = 4;
/// How often it is looked whether a process is broken.
const GLANCE: Duration = Duration::from_millis(50);

pub fn run_all(options: &RunOptions, image: OpenImage, surroundings: &Surroundings, output: &Output) -> Done {
    let mut session = Session::open(options, &image, TRIES, surroundings, output)?;
    let stopped = session.end_with_signals(&surroundings.cancel)?;
    if let Some(failed) = session.start(image)? {
        session.stop();
        return Ok(if stopped.load(Ordering::SeqCst) { ExitCode::SUCCESS } else { failed });
    }
    let failed = session.wait(&stopped);
    session.stop();
    Ok(failed.map_or(ExitCode::SUCCESS, |end| ExitCode::from(end.exit_code())))
}

/// An app that runs for one user, with what it needs.
pub struct Session<'a> {
    options: &'a RunOptions,
    surroundings: &'a Surroundings,
    output: &'a Output,
    how: AppStart,
    ports: BTreeMap<String, Offered>,
    narrator: Arc<Narrator>,
    tell: Tell,
    cancel: Cancel,
    app: Arc<OnceLock<RunningApp>>,
    services: Option<Services>,
    data: DataFolder,
}

impl<'a> Session<'a> {
    /// With ports taken, and nothing started. After `tries` ends in a row a process is given up.
    pub fn open(
        options: &'a RunOptions,
        image: &OpenImage,
        tries: u32,
        surroundings: &'a Surroundings,
        output: &'a Output,
    ) -> Result<Self, Failure> {
        let data = match kept_data(options)? {
            Some(path) => DataFolder { path, is_dropped: false },
            None => DataFolder { path: surroundings.store.temporary_folder()?, is_dropped: true },
        };
        let how = AppStart {
            settings: BTreeMap::new(),
            data: data.path.clone(),
            logs: surroundings.store.root().join("logs").join(&image.record.name),
            on_host_network: network(options, surroundings) == RunNetwork::Host,
            ways: options.reach.iter().map(|port| Way::to_this_machine(*port)).collect(),
            scale: [].into(),
            limits: surroundings.process_limits(),
            tries: Some(tries),
        };
        let ports = published(options, image, output)?;
        let narrator = Arc::new(narrator(image, &ports, output));
        let tell = teller(image, how.on_host_network, &narrator);
        let (cancel, app) = (Cancel::new(), Arc::default());
        let services = None;
        Ok(Self { options, surroundings, output, how, ports, narrator, tell, cancel, app, services, data })
    }

    /// Ends everything when this program is told to end, and sets `also`; the flag says whether it was.
    pub fn end_with_signals(&self, also: &Cancel) -> Result<Arc<AtomicBool>, Failure> {
        let (cancel, also, app) = (self.cancel.clone(), also.clone(), Arc::clone(&self.app));
        interrupt::on_signal(GRACE, move |ending| {
            cancel.cancel();
            also.cancel();
            match (app.get(), ending) {
                (Some(app), Ending::Asked) => app.ask_to_stop(),
                (Some(app), Ending::Forced) => app.kill(),
                (None, Ending::Asked) => {}
                // Whatever was started ends with this program.
                (None, Ending::Forced) => std::process::exit(i32::from(INTERRUPTED)),
            }
        })
    }

    /// The app, once it was started.
    pub fn app(&self) -> Option<&RunningApp> {
        self.app.get()
    }

    /// Starts services, runs tasks, and starts the app; gives the exit code where one of them fails.
    pub fn start(&mut self, image: OpenImage) -> Result<Option<ExitCode>, Failure> {
        let store = Arc::clone(&self.surroundings.store);
        let bound = services::bindings(self.options, &image)?;
        let given = given_settings::gather(&self.options.settings)?;
        check_bound(self.options, &image, &bound, &given)?;
        running::data::fill(&store, &image, &self.data.path)?;
        if self.services.is_none() {
            let folder = self.data.path.join(SERVICES);
            let places = (folder.as_path(), self.how.logs.as_path());
            let tell = quiet(&self.tell);
            let services = services::start(
                (self.options, &image),
                bound,
                places,
                &tell,
                self.surroundings,
                self.output,
            )?;
            self.how.ways.extend(services.ways.iter().cloned());
            self.services = Some(services);
        }
        let waited = self.services.as_ref().and_then(|services| services.wait_until_ready(&self.cancel));
        if self.cancel.is_cancelled() {
            return Ok(Some(ExitCode::SUCCESS));
        }
        if let Some(failed) = waited {
            let log = self.how.logs.join(format!("{}.log", failed.name.process));
            let note = format!("it did not become ready; its output is in {}", log.display());
            self.narrator.note(&failed.name, note);
            return Ok(Some(ExitCode::FAILURE));
        }
        self.how.settings = self.settings()?;
        if let Some(failed) = run_tasks(&store, &image, Before::Release, &self.how, &self.cancel, &self.tell)?
        {
            let name = InstanceName::of_task(&failed.task);
            (self.tell)(&name, &What::State(State::Failed { how: failed.how.clone() }));
            return Ok(Some(ExitCode::from(failed.how.exit_code())));
        }
        let started = RunningApp::start(store, image, self.how.clone(), Arc::clone(&self.tell))?;
        let app = self.app.get_or_init(|| started);
        lead(&self.ports, app)?;
        if self.cancel.is_cancelled() {
            app.ask_to_stop();
        }
        Ok(None)
    }

    /// The effective settings: those of services, overridden by given ones.
    fn settings(&self) -> Result<BTreeMap<String, String>, Failure> {
        let of_services = self.services.iter().flat_map(|services| services.settings.clone());
        Ok(of_services.chain(given_settings::gather(&self.options.settings)?).collect())
    }

    /// Goes on with another image; gives the process types that were started again.
    pub fn replace(&mut self, image: OpenImage) -> Result<Vec<String>, Failure> {
        let settings = self.settings()?;
        running::data::fill(&self.surroundings.store, &image, &self.data.path)?;
        let new = processes_of(&image).filter(|process| !self.ports.contains_key(&process.name));
        let new: Vec<(String, u16)> = new.filter_map(|p| Some((p.name.clone(), p.port?))).collect();
        let Some(app) = self.app.get() else { return Ok(Vec::new()) };
        let changed = app.replace(image, settings)?;
        for (process, own) in new {
            let offered = offer_or_free(&process, own, self.output)?;
            lead(&BTreeMap::from([(process.clone(), offered)]), app)?;
        }
        Ok(changed)
    }

    /// Waits until everything has ended after a signal, or one instance is given up; gives how that one ended.
    fn wait(&self, stopped: &AtomicBool) -> Option<End> {
        while !stopped.load(Ordering::SeqCst) {
            let of_services = self.services.iter().filter_map(|services| services.running.as_ref());
            let all = of_services.flat_map(RunningServices::status);
            let failed =
                self.app.get().into_iter().flat_map(RunningApp::status).chain(all).find_map(|status| {
                    match status.state {
                        State::Failed { how } => Some(how),
                        _ => None,
                    }
                });
            if failed.is_some() {
                return failed;
            }
            std::thread::sleep(GLANCE);
        }
        None
    }

    /// Ends the app, and after it its services.
    pub fn stop(&self) {
        if let Some(app) = self.app.get() {
            app.stop(GRACE);
        }
        if let Some(services) = &self.services {
            services.stop(GRACE);
        }
    }
}

/// Leads ports of this machine to the app.
fn lead(ports: &BTreeMap<String, Offered>, app: &RunningApp) -> Result<(), Failure> {
    for (process, offered) in ports {
        if let Some(pool) = app.pool(process) {
            offered.lead_to(&pool.target())?;
        }
    }
    Ok(())
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
            _ => offer_or_free(&process.name, own, output)?,
        };
        all.insert(process.name.clone(), offered);
    }
    Ok(all)
}

/// A port of this machine, or a free one where it is taken.
fn offer_or_free(process: &str, port: u16, output: &Output) -> Result<Offered, Failure> {
    match offer(port) {
        Err(model::Error::Run(RunError::PortTaken { .. })) => {
            let offered = offer(0)?;
            output.aside(format!("note: port {port} is in use: {} answers for {process}", offered.port));
            Ok(offered)
        }
        offered => Ok(offered?),
    }
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
