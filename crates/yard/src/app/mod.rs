//! An app that runs in the yard.

mod front;
mod release;

use crate::events::{self, EventKind};
use crate::host::Host;
use crate::place::{Settings, Yard};
use crate::protocol::{Answer, AppStatus, Fault, InstanceStatus};
use crate::state::{AppState, Outcome, Release, ReleaseKind, Way};
use cancel::Cancel;
use content::BlobDigest;
use front::{Current, Front};
use model::{ProcessKind, Result};
use proxy::{Backends, Served};
use running::app::{AppStart, Before, InstanceName, Probe, RunningApp, Tell, What, processes_of};
use running::ports::offer;
use std::fs;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, TryLockError};
use std::time::{Duration, Instant, UNIX_EPOCH};
use workshop::inspect::{OpenImage, open_index};

/// How long requests to the release before may take until they are cut.
const DRAINING: Duration = Duration::from_secs(15);
/// How long a process that was asked to end may take.
const GRACE: Duration = Duration::from_secs(10);
/// How often it is looked whether requests have ended.
const GLANCE: Duration = Duration::from_millis(5);
/// How long instances may take until they are healthy, beside the time that their process type says.
const PATIENCE: Duration = Duration::from_secs(30);
/// The default time for a process type to start.
const START_WITHIN: u32 = 60;

/// A release that is wanted.
pub(crate) struct Wanted {
    pub kind: ReleaseKind,
    pub image: BlobDigest,
    pub label: String,
    pub way: Way,
    pub settings: Settings,
    pub who: String,
    /// The port of this machine, where one is asked for.
    pub port: Option<u16>,
}

/// Who hears of what happens to a release while a client waits for it.
type Listener = Arc<Mutex<Option<(u32, Told)>>>;
/// Hears of what happens.
pub(crate) type Told = Box<dyn Fn(Answer) + Send>;

/// An app, whether it runs or not.
pub(crate) struct LiveApp {
    name: String,
    yard: Yard,
    host: Arc<Host>,
    state: Mutex<AppState>,
    /// Held during changes.
    changing: Mutex<()>,
    front: Arc<Front>,
    served: Mutex<Option<Served>>,
    listener: Listener,
}

impl LiveApp {
    /// What is kept of it; nothing runs yet.
    pub fn open(name: &str, yard: &Yard, host: &Arc<Host>) -> Result<Self> {
        let mut state = yard.state(name)?.unwrap_or_default();
        // What did not come to an end before the yard ended never will.
        for release in &mut state.releases {
            if release.outcome == Outcome::Starting {
                release.outcome = Outcome::CutShort;
            }
        }
        Ok(Self {
            name: name.to_owned(),
            yard: yard.clone(),
            host: Arc::clone(host),
            state: Mutex::new(state),
            changing: Mutex::default(),
            front: Arc::default(),
            served: Mutex::default(),
            listener: Arc::default(),
        })
    }

    fn state(&self) -> MutexGuard<'_, AppState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn keep(&self) -> Result<()> {
        let state = self.state().clone();
        self.yard.keep_state(&self.name, &state)
    }

    fn note(&self, kind: EventKind) {
        events::add(&self.yard, &self.name, kind);
    }

    /// Lets one change happen at a time.
    fn change(&self) -> Result<MutexGuard<'_, ()>, Fault> {
        match self.changing.try_lock() {
            Ok(guard) => Ok(guard),
            Err(TryLockError::Poisoned(poisoned)) => Ok(poisoned.into_inner()),
            Err(TryLockError::WouldBlock) => Err(Fault::Busy { app: self.name.clone() }),
        }
    }

    /// Starts the current releases, after the yard was started.
    pub fn resume(&self, cancel: &Cancel) -> Result<(), Fault> {
        let _changing = self.change()?;
        let Some(release) = self.state().release_in_force().cloned() else { return Ok(()) };
        self.note(EventKind::YardStarted);
        self.serve(None)?;
        let image = self.image(&release)?;
        let settings = self.yard.settings(&self.name, Some(release.number))?;
        // One that fails shows in its log; what was current is started all the same.
        let _ = self.prepare(release.number, &image, Before::Start, &settings, cancel);
        let app = self.start(&image, release.number, settings)?;
        self.put_in_force(release.number, &image, app);
        Ok(())
    }

    fn image(&self, release: &Release) -> Result<OpenImage> {
        open_index(&self.host.store, &release.label, release.image)
    }

    fn how(&self, number: u32, settings: &Settings) -> AppStart {
        let (way, scale) = {
            let state = self.state();
            (
                state.release(number).map(|release| release.way.clone()).unwrap_or_default(),
                state.scale.clone(),
            )
        };
        AppStart {
            settings: way.with(settings),
            data: self.yard.data(&self.name),
            logs: self.yard.logs(&self.name, number),
            on_host_network: self.host.on_host_network,
            ways: Vec::new(),
            scale: way.instances.into_iter().chain(scale).collect(),
            limits: self.host.limits,
            tries: None,
        }
    }

    fn start(&self, image: &OpenImage, number: u32, settings: Settings) -> Result<RunningApp> {
        let how = self.how(number, &settings);
        RunningApp::start(Arc::clone(&self.host.store), image.clone(), how, self.tell(number))
    }

    /// Keeps what happens to instances, and notifies waiters for a release.
    fn tell(&self, release: u32) -> Tell {
        let (yard, app, listener) = (self.yard.clone(), self.name.clone(), Arc::clone(&self.listener));
        Arc::new(move |instance: &InstanceName, what: &What| {
            if let What::State(state) = what {
                let (instance, state) = (instance.clone(), state.clone());
                events::add(&yard, &app, EventKind::Instance { release, instance, state });
            }
            if let Some((of, told)) = &*listener.lock().unwrap_or_else(PoisonError::into_inner)
                && *of == release
            {
                told(Answer::Meanwhile { release, instance: instance.clone(), what: what.clone() });
            }
        })
    }

    /// Lets the instances answer from now on, and stops the old ones once their requests are answered.
    fn put_in_force(&self, release: u32, image: &OpenImage, app: RunningApp) {
        let process = processes_of(image).find(|process| process.port.is_some());
        let process = process.map(|process| process.name.clone());
        let new = Current { release, app, process, lease: Arc::default() };
        if let Some(old) = self.front.replace(Some(Arc::new(new))) {
            let deadline = Instant::now() + DRAINING;
            while Arc::strong_count(&old.lease) > 1 && Instant::now() < deadline {
                std::thread::sleep(GLANCE);
            }
            old.app.stop(GRACE);
            self.note(EventKind::Replaced { release: old.release });
        }
    }

    /// Answers on its port from now on: the one that it has, else the one that is asked for, else the image's, else a free one.
    fn serve(&self, asked: Option<(Option<u16>, Option<u16>)>) -> Result<(), Fault> {
        let mut served = self.served.lock().unwrap_or_else(PoisonError::into_inner);
        let (wanted, of_image) = asked.unwrap_or_default();
        let had = self.state().port;
        if served.is_some() && (wanted.is_none() || wanted == had) {
            return Ok(());
        }
        let offered = match (wanted, had.or(of_image)) {
            (Some(port), _) => offer(port)?,
            (None, None) if asked.is_none() => return Ok(()),
            (None, preferred) => offer(preferred.unwrap_or_default()).or_else(|_| offer(0))?,
        };
        let port = offered.port;
        let listeners = offered.into_listeners();
        let front: Arc<dyn Backends> = Arc::clone(&self.front) as _;
        *served = Some(self.host.proxies.serve(listeners, front).map_err(model::Error::from)?);
        if let Some(before) = had.filter(|before| *before != port) {
            self.note(EventKind::PortMoved { before, after: port });
        }
        self.state().port = Some(port);
        self.keep()?;
        Ok(())
    }

    /// The release whose number is `to`, as a new one.
    pub fn wanted_again(&self, to: u32, who: String) -> Result<Wanted, Fault> {
        let missing = || Fault::NoRelease { app: self.name.clone(), release: to };
        let release = self.state().release(to).cloned().ok_or_else(missing)?;
        let settings = self.yard.settings(&self.name, Some(to))?;
        let Release { image, label, way, .. } = release;
        Ok(Wanted { kind: ReleaseKind::RollBack { to }, image, label, way, settings, who, port: None })
    }

    /// The current release with other settings; without one, they are kept for the first release.
    pub fn wanted_with(
        &self,
        settings: Settings,
        names: Vec<String>,
        who: String,
    ) -> Result<Option<Wanted>, Fault> {
        let current = self.state().release_in_force().cloned();
        let Some(Release { image, label, way, .. }) = current else {
            self.yard.keep_settings(&self.name, None, &settings)?;
            self.keep()?;
            return Ok(None);
        };
        let kind = ReleaseKind::Settings { names };
        Ok(Some(Wanted { kind, image, label, way, settings, who, port: None }))
    }

    /// The settings that a release of another image has.
    pub fn settings_in_force(&self) -> Result<Settings> {
        let current = self.state().current;
        self.yard.settings(&self.name, current)
    }

    /// Changes how many instances there are, and waits until they are healthy.
    pub fn scale(&self, process: &str, instances: u32) -> Result<(), Fault> {
        let _changing = self.change()?;
        let current = self.running()?;
        let image =
            self.state().release_in_force().cloned().map(|release| self.image(&release)).transpose()?;
        let known: Vec<String> =
            image.iter().flat_map(processes_of).map(|process| process.name.clone()).collect();
        if !known.iter().any(|name| name == process) {
            return Err(Fault::NoProcess { process: process.to_owned(), known });
        }
        self.state().scale.insert(process.to_owned(), instances);
        self.keep()?;
        current.app.scale(process, instances);
        self.note(EventKind::Scaled { process: process.to_owned(), instances });
        match current.app.wait_until_healthy(Duration::ZERO, image.as_ref().map_or(PATIENCE, patience)) {
            None => Ok(()),
            Some(status) => Err(Fault::NotHealthy { instance: status.name.to_string(), state: status.state }),
        }
    }

    /// Puts new instances in the place of all, as a release does.
    pub fn restart(&self, cancel: &Cancel) -> Result<(), Fault> {
        let _changing = self.change()?;
        let nothing = || Fault::NothingReleased { app: self.name.clone() };
        let release = self.state().release_in_force().cloned().ok_or_else(nothing)?;
        let image = self.image(&release)?;
        let settings = self.yard.settings(&self.name, Some(release.number))?;
        let started = self
            .prepare(release.number, &image, Before::Start, &settings, cancel)
            .and_then(|()| self.start_healthy(&image, release.number, settings));
        match started {
            Ok(app) => self.put_in_force(release.number, &image, app),
            Err((outcome, last_lines)) => {
                let (app, release) = (self.name.clone(), release.number);
                return Err(Fault::NotReleased { app, release, outcome, last_lines, still: Some(release) });
            }
        }
        self.note(EventKind::Restarted);
        Ok(())
    }

    fn running(&self) -> Result<Arc<Current>, Fault> {
        self.front.current().ok_or_else(|| Fault::NothingReleased { app: self.name.clone() })
    }

    /// The answers of an instance, the newest first.
    pub fn health(&self, instance: &InstanceName) -> Result<Vec<Probe>, Fault> {
        Ok(self.running()?.app.history(instance))
    }

    /// How it is.
    pub fn status(&self) -> AppStatus {
        let state = self.state().clone();
        let instances = self.front.current().map(|current| current.app.status()).unwrap_or_default();
        let instance = |status: running::app::Status| InstanceStatus {
            since: status
                .since
                .duration_since(UNIX_EPOCH)
                .map_or(0, |since| i64::try_from(since.as_secs()).unwrap_or(i64::MAX)),
            instance: status.name,
            state: status.state,
            starts: status.starts,
            memory: status.memory,
        };
        AppStatus {
            name: self.name.clone(),
            release: state.current,
            port: state.port,
            instances: instances.into_iter().map(instance).collect(),
        }
    }

    /// Ends its instances; what is kept stays.
    pub fn stop(&self) {
        *self.served.lock().unwrap_or_else(PoisonError::into_inner) = None;
        if let Some(current) = self.front.replace(None) {
            current.app.stop(GRACE);
            self.note(EventKind::YardEnded);
        }
    }

    /// Ends it, and removes all that is kept of it.
    pub fn end(&self) -> Result<(), Fault> {
        let _changing = self.change()?;
        self.stop();
        for release in &self.state().releases {
            let name = self.host.store.image_path(&self.name, &tag(release.number));
            // The name of an image that was pruned by hand is gone already.
            let _ = fs::remove_file(name);
        }
        content::store::remove_tree(&self.yard.app(&self.name));
        Ok(())
    }
}

/// How long the slowest process type of an image may take until it is healthy.
fn patience(image: &OpenImage) -> Duration {
    let slowest = processes_of(image).map(|process| process.start_within.unwrap_or(START_WITHIN)).max();
    PATIENCE + Duration::from_secs(slowest.unwrap_or_default().into())
}

/// What the image of a release is called in the store.
fn tag(number: u32) -> String {
    format!("yard-{number}")
}

/// Whether the image has anything that goes on.
pub(crate) fn has_processes(image: &OpenImage) -> bool {
    image.record.processes.iter().any(|process| process.kind == ProcessKind::Process)
}
