//! All process types of an app, kept running.

pub(crate) mod health;
pub(crate) mod instance;
mod keepers;
mod log_file;
mod names;
pub(crate) mod output;
mod pauses;
mod pool;
mod state;
mod tasks;

pub use health::Probe;
pub use log_file::{BoundedLog, kept_text};
pub use pool::Pool;
pub use state::{End, InstanceName, Reason, State, Stream, Tell, What};
pub use tasks::{Before, TaskEnd, run_tasks};

use crate::image::{self, Data, PortUse, Start};
use crate::process::{KILL, Launched, TERMINATE};
use crate::ways::Way;
use content::store::Store;
use health::HealthCheck;
use instance::Care;
pub(crate) use keepers::Keepers;
use model::{PathFacts, ProcessKind, ProcessType, Result};
use output::{Written, pipes};
use sandbox::Limits;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock, RwLockWriteGuard};
use std::time::{Duration, SystemTime};
use workshop::inspect::OpenImage;

/// How often it is looked whether instances have ended or are healthy.
const GLANCE: Duration = Duration::from_millis(5);

/// How long an instance that is not wanted any more may go on with the requests that it has.
const RETIRING: Duration = Duration::from_secs(2);
/// How long an instance may take to end that is replaced.
const GRACE: Duration = Duration::from_secs(2);

/// Options for starting an app, besides its image.
#[derive(Clone)]
pub struct AppStart {
    /// Values of settings.
    pub settings: BTreeMap<String, String>,
    /// Where what it writes is kept, filled by [`crate::data::fill`].
    pub data: PathBuf,
    /// Where its output is kept.
    pub logs: PathBuf,
    /// Whether it sees the network of this machine.
    pub on_host_network: bool,
    /// Ways out of its own network, besides those to its own process types.
    pub ways: Vec<Way>,
    /// How many instances there are of a process type, where that is not what the image says.
    pub scale: BTreeMap<String, u32>,
    /// How much each process may use.
    pub limits: Limits,
    /// After how many ends in a row an instance is given up; `None` is never.
    pub tries: Option<u32>,
}

/// How an instance is at a moment.
#[derive(Debug, Clone)]
pub struct Status {
    /// Which one.
    pub name: InstanceName,
    /// How it is.
    pub state: State,
    /// Since when.
    pub since: SystemTime,
    /// How often it was started.
    pub starts: u32,
    /// Bytes of memory that it uses.
    pub memory: Option<u64>,
}

/// A running app; its processes are ended when this is dropped.
pub struct RunningApp {
    inner: Arc<Inner>,
    keepers: Keepers,
}

struct Inner {
    store: Arc<Store>,
    tell: Tell,
    now: RwLock<Now>,
}

/// What is to run.
#[derive(Clone)]
struct Now {
    image: Arc<OpenImage>,
    how: AppStart,
    pools: BTreeMap<String, Arc<Pool>>,
}

impl RunningApp {
    /// Starts all instances; `tell` hears of everything that happens to them, on threads of theirs.
    pub fn start(store: Arc<Store>, image: OpenImage, how: AppStart, tell: Tell) -> Result<Self> {
        fs::create_dir_all(&how.logs).facts(&how.logs)?;
        check(&image, &how.settings)?;
        // A fresh network namespace has no way to reach the processes.
        let _ = sandbox::raise_loopback();
        let pools = processes_of(&image).map(|process| (process.name.clone(), Arc::default())).collect();
        let now = Now { image: Arc::new(image), how, pools };
        let inner = Inner { store, tell, now: RwLock::new(now.clone()) };
        let app = Self { inner: Arc::new(inner), keepers: Keepers::default() };
        for process in processes_of(&now.image) {
            app.start_instances(&now, process);
        }
        Ok(app)
    }

    fn start_instances(&self, now: &Now, process: &ProcessType) {
        for number in 1..=now.instances_of(process) {
            let name = InstanceName { process: process.name.clone(), number };
            self.keepers.start(&name, || self.inner.care(now, process, &name));
        }
    }

    /// From now on there are so many instances of a process type; those with the highest numbers take no more connections, and
    /// are asked to end soon after.
    pub fn scale(&self, process: &str, instances: u32) {
        self.inner.now_mut().how.scale.insert(process.to_owned(), instances);
        let now = self.inner.now();
        let Some(declared) = processes_of(&now.image).find(|p| p.name == process) else { return };
        self.keepers.retire(|name| name.process == process && name.number > instances, RETIRING);
        self.start_instances(&now, declared);
    }

    /// Goes on with another image and other settings: process types that are the same in both go on as they are, all others
    /// are started again. Gives the names of those.
    pub fn replace(&self, image: OpenImage, settings: BTreeMap<String, String>) -> Result<Vec<String>> {
        check(&image, &settings)?;
        let before = self.inner.now();
        let mut now = before.clone();
        now.image = Arc::new(image);
        now.how.settings = settings;
        for process in processes_of(&now.image) {
            now.pools.entry(process.name.clone()).or_default();
        }
        *self.inner.now_mut() = now.clone();
        let names = processes_of(&before.image).chain(processes_of(&now.image)).map(|process| &process.name);
        let changed: BTreeSet<&String> = names.filter(|name| !runs_alike(&before, &now, name)).collect();
        self.keepers.replace(|name| changed.contains(&name.process), GRACE);
        for process in processes_of(&now.image).filter(|process| changed.contains(&process.name)) {
            self.start_instances(&now, process);
        }
        Ok(changed.into_iter().cloned().collect())
    }

    /// What takes the connections to a process type.
    pub fn pool(&self, process: &str) -> Option<Arc<Pool>> {
        self.inner.now().pools.get(process).cloned()
    }

    /// How its instances are, in the order of the image.
    pub fn status(&self) -> Vec<Status> {
        let now = self.inner.now();
        let order = |name: &str| processes_of(&now.image).position(|process| process.name == name);
        let mut all = self.keepers.status();
        all.sort_by_key(|status| (order(&status.name.process), status.name.number));
        all
    }

    /// The answers of an instance, the newest first.
    pub fn history(&self, name: &InstanceName) -> Vec<Probe> {
        self.keepers.history(name)
    }

    /// Waits until every instance is healthy or, without a port, has run for `settled`; gives the first that
    /// ended or did not get there within `patience`.
    pub fn wait_until_healthy(&self, settled: Duration, patience: Duration) -> Option<Status> {
        self.keepers.wait_until_healthy(settled, patience)
    }

    /// Asks all instances to end, at once.
    pub fn ask_to_stop(&self) {
        self.keepers.end(|_| true, TERMINATE);
    }

    /// Ends all instances, at once.
    pub fn kill(&self) {
        self.keepers.end(|_| true, KILL);
    }

    /// Asks all instances to end, waits, and ends those that did not within `patience`.
    pub fn stop(&self, patience: Duration) {
        self.keepers.stop(patience);
    }
}

/// Whether the image is for this machine, and every process type and task has the settings that it needs.
pub fn check(image: &OpenImage, settings: &BTreeMap<String, String>) -> Result<()> {
    image::check_platform(image)?;
    let all = image.record.processes.iter();
    all.map(|process| image.variant(Some(&process.name)))
        .try_for_each(|variant| image::check_settings(image, variant?, settings))
}

/// The process types that go on until they are told to end.
pub fn processes_of(image: &OpenImage) -> impl Iterator<Item = &ProcessType> {
    image.record.processes.iter().filter(|process| process.kind == ProcessKind::Process)
}

impl Now {
    fn instances_of(&self, process: &ProcessType) -> u32 {
        self.how.scale.get(&process.name).copied().or(process.instances).unwrap_or(1)
    }
}

/// Whether a process type runs the same in both: what it starts, where, on which files, with which values.
fn runs_alike(before: &Now, now: &Now, process: &str) -> bool {
    let of = |now: &Now| {
        let variant = now.image.variant(Some(process)).ok()?;
        let declared = processes_of(&now.image).find(|declared| declared.name == process)?;
        let mut runs = variant.config.config.clone();
        // They say how the image came about.
        runs.labels.clear();
        let layers = variant.config.rootfs.diff_ids.clone();
        let ProcessType { port, health, memory, .. } = declared.clone();
        Some((runs, layers, (port, health, memory), now.how.settings.clone()))
    };
    matches!((of(before), of(now)), (Some(before), Some(now)) if before == now)
}

impl Inner {
    fn now(&self) -> Now {
        self.now.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn now_mut(&self) -> RwLockWriteGuard<'_, Now> {
        self.now.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// How an instance of a process type is started and looked after.
    fn care(self: &Arc<Self>, now: &Now, process: &ProcessType, name: &InstanceName) -> Care {
        let inner = Arc::clone(self);
        let process_name = process.name.clone();
        Care {
            launch: Box::new(move || inner.launch(&process_name)),
            check: HealthCheck::of(process),
            pool: Arc::clone(&now.pools[&process.name]),
            log: now.how.logs.join(format!("{name}.log")),
            tries: now.how.tries,
            tell: Arc::clone(&self.tell),
        }
    }

    fn launch(&self, process: &str) -> Result<(Launched, Written)> {
        let Now { image, how, pools } = self.now();
        let names = names::of(process, &image, &how, &pools)?;
        let start = Start {
            settings: how.settings,
            port: PortUse::Kept(names.port),
            on_host_network: how.on_host_network,
            ways: how.ways.into_iter().chain(names.ways).collect(),
            data: Data::Shared(how.data),
            ..Start::within(how.limits)
        };
        let (written, io) = pipes()?;
        Ok((image::start(&self.store, &image, Some(process), start, io)?, written))
    }
}
