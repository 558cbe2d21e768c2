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
pub use log_file::{BoundedLog, older};
pub use pool::Pool;
pub use state::{End, InstanceName, Reason, State, Stream, Tell, What};
pub use tasks::{TaskEnd, run_tasks};

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
use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use workshop::inspect::OpenImage;

/// How often it is looked whether instances have ended or are healthy.
const GLANCE: Duration = Duration::from_millis(5);

/// What is said at the start of an app, besides what its image says.
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
    image: OpenImage,
    how: AppStart,
    tell: Tell,
    pools: BTreeMap<String, Arc<Pool>>,
}

impl RunningApp {
    /// Starts all instances; `tell` hears of everything that happens to them, on threads of theirs.
    pub fn start(store: Arc<Store>, image: OpenImage, how: AppStart, tell: Tell) -> Result<Self> {
        fs::create_dir_all(&how.logs).facts(&how.logs)?;
        check(&image, &how.settings)?;
        // In a fresh network namespace nobody could ask the processes.
        let _ = sandbox::raise_loopback();
        let pools = processes_of(&image).map(|process| (process.name.clone(), Arc::default())).collect();
        let inner = Arc::new(Inner { store, image, how, tell, pools });
        let app = Self { inner, keepers: Keepers::default() };
        for process in processes_of(&app.inner.image) {
            let instances =
                app.inner.how.scale.get(&process.name).copied().or(process.instances).unwrap_or(1);
            app.scale(&process.name, instances);
        }
        Ok(app)
    }

    /// From now on there are so many instances of a process type; those with the highest numbers are asked to end.
    pub fn scale(&self, process: &str, instances: u32) {
        let Some(declared) = processes_of(&self.inner.image).find(|p| p.name == process) else { return };
        self.keepers.end(|name| name.process == process && name.number > instances, TERMINATE);
        for number in 1..=instances {
            let name = InstanceName { process: process.to_owned(), number };
            self.keepers.start(&name, || self.inner.care(declared, &name));
        }
    }

    /// What takes the connections to a process type.
    pub fn pool(&self, process: &str) -> Option<Arc<Pool>> {
        self.inner.pools.get(process).cloned()
    }

    /// How its instances are, in the order of the image.
    pub fn status(&self) -> Vec<Status> {
        let order = |name: &str| processes_of(&self.inner.image).position(|process| process.name == name);
        let mut all = self.keepers.status();
        all.sort_by_key(|status| (order(&status.name.process), status.name.number));
        all
    }

    /// The answers of an instance, the newest first.
    pub fn history(&self, name: &InstanceName) -> Vec<Probe> {
        self.keepers.history(name)
    }

    /// Waits until every instance is healthy or, where nobody can ask it, has run for `settled`; gives the first that
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

/// Whether every process type and task has the settings that it needs.
pub fn check(image: &OpenImage, settings: &BTreeMap<String, String>) -> Result<()> {
    let all = image.record.processes.iter();
    all.map(|process| image.variant(Some(&process.name)))
        .try_for_each(|variant| image::check_settings(image, variant?, settings))
}

/// The process types that go on until they are told to end.
pub fn processes_of(image: &OpenImage) -> impl Iterator<Item = &ProcessType> {
    image.record.processes.iter().filter(|process| process.kind == ProcessKind::Process)
}

impl Inner {
    /// How an instance of a process type is started and looked after.
    fn care(self: &Arc<Self>, process: &ProcessType, name: &InstanceName) -> Care {
        let inner = Arc::clone(self);
        let process_name = process.name.clone();
        Care {
            launch: Box::new(move || inner.launch(&process_name)),
            check: HealthCheck::of(process),
            pool: Arc::clone(&self.pools[&process.name]),
            log: self.how.logs.join(format!("{name}.log")),
            tries: self.how.tries,
            tell: Arc::clone(&self.tell),
        }
    }

    fn launch(&self, process: &str) -> Result<(Launched, Written)> {
        let names = names::of(process, &self.image, &self.how, &self.pools)?;
        let start = Start {
            settings: self.how.settings.clone(),
            port: PortUse::Kept(names.port),
            on_host_network: self.how.on_host_network,
            ways: self.how.ways.iter().cloned().chain(names.ways).collect(),
            data: Data::Shared(self.how.data.clone()),
            ..Start::within(self.how.limits)
        };
        let (written, io) = pipes()?;
        Ok((image::start(&self.store, &self.image, Some(process), start, io)?, written))
    }
}
