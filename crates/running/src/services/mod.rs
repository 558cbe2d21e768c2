//! Services that an app needs, started for it from packages of Debian: each in a root of its own, with a data folder and a
//! generated password, and no script of a package ever run.

mod bound;
mod kinds;
mod object_store;
mod probes;
mod root;

pub use bound::{Bound, bound};
pub use root::Source;

use crate::app::health::HealthCheck;
use crate::app::instance::Care;
use crate::app::output::{Written, pipes};
use crate::app::{InstanceName, Keepers, Pool, State, Status, Tell, What};
use crate::image::owned_folder;
use crate::ports::Target;
use crate::process::{Launched, Listening, Work, launch};
use crate::ways::Way;
use cancel::Cancel;
use content::store::Store;
use engine::sandbox_mode::working_mode;
use kinds::Site;
use model::error::RunError;
use model::service::Access;
use model::{Error, PathFacts, Result, Service, ServiceKind};
use object_store::ObjectStore;
use sandbox::{Ended, Limits, Mode};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::net::Ipv4Addr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// The network, in that of the loopback interface, where services are.
const NETWORK: [u8; 3] = [127, 0, 2];
/// The file with the password of a service, in its folder.
const PASSWORD: &str = "password";
/// The folder with its data, which it sees as `/data`.
const DATA: &str = "data";
/// The file that says that its data is complete.
const PREPARED: &str = "prepared";
/// How often to check whether the caller is still waiting.
const GLANCE: Duration = Duration::from_millis(100);
/// How long a service may take until it is ready.
const PATIENCE: Duration = Duration::from_secs(120);

/// A service that is to be started.
pub struct ServiceStart {
    /// What it is called.
    pub name: String,
    /// What it is.
    pub service: Service,
    /// Where it keeps its data and its password.
    pub folder: PathBuf,
    /// Its root: unpacked layers.
    pub layers: Vec<PathBuf>,
}

/// Running services; they are ended when this is dropped.
#[derive(Default)]
pub struct RunningServices {
    keepers: Keepers,
    /// Name, kind, and what leads there.
    targets: Vec<(String, ServiceKind, Target)>,
    object_stores: Vec<ObjectStore>,
    /// How each is reached by the app.
    pub access: BTreeMap<String, Access>,
}

impl RunningServices {
    /// Prepares and starts services, each on threads of its own.
    pub fn start(
        store: &Arc<Store>,
        services: Vec<ServiceStart>,
        logs: &Path,
        limits: Limits,
        tell: &Tell,
    ) -> Result<Self> {
        fs::create_dir_all(logs).facts(logs)?;
        let (own, services): (Vec<_>, Vec<_>) =
            services.into_iter().partition(|start| start.service.kind == ServiceKind::ObjectStore);
        let mut all = Self::default();
        for start in own {
            let store = ObjectStore::start(&start)?;
            let name = InstanceName { process: start.name.clone(), number: 1 };
            tell(&name, &What::State(State::Healthy));
            all.targets.push((start.name.clone(), ServiceKind::ObjectStore, store.target()));
            all.access.insert(start.name, store.access(all.targets.len()));
            all.object_stores.push(store);
        }
        // None is started before the data of all is there.
        let prepare = |start| Prepared::new(Arc::clone(store), start, limits);
        let prepared = services.into_iter().map(prepare).collect::<Result<Vec<_>>>()?;
        for running in prepared {
            let name = running.site.name.clone();
            let pool: Arc<Pool> = Arc::default();
            all.targets.push((name.clone(), running.site.kind, pool.target()));
            all.access.insert(name.clone(), running.site.access());
            let site = running.site.clone();
            let care = Care {
                launch: Box::new(move || running.launch()),
                check: HealthCheck::own(Arc::new(move |stream| probes::probe(&site, stream))),
                pool,
                log: logs.join(format!("{name}.log")),
                tries: Some(1),
                tell: Arc::clone(tell),
            };
            all.keepers.start(&InstanceName { process: name, number: 1 }, || care);
        }
        Ok(all)
    }

    /// Waits until all are ready, or it is cancelled; gives the first that is not.
    pub fn wait_until_ready(&self, cancel: &Cancel) -> Option<Status> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            let waiting = self.keepers.wait_until_healthy(Duration::ZERO, GLANCE)?;
            let is_starting = waiting.state == State::Starting;
            if !is_starting || cancel.is_cancelled() || Instant::now() > deadline {
                return Some(waiting);
            }
        }
    }

    /// The ways to them.
    pub fn ways(&self) -> Vec<Way> {
        let numbered = (1..=usize::from(u8::MAX)).zip(&self.targets);
        let way = |(number, (name, kind, target)): (usize, &(String, ServiceKind, Target))| Way {
            name: Some(name.clone()),
            address: address(number),
            port: kind.port(),
            to: Arc::clone(target),
        };
        numbered.map(way).collect()
    }

    /// How they are.
    pub fn status(&self) -> Vec<Status> {
        self.keepers.status()
    }

    /// Asks all to end, waits, and ends those that did not within `patience`.
    pub fn stop(&self, patience: Duration) {
        for (name, kind, _) in &self.targets {
            self.keepers.end(|instance| instance.process == *name, kinds::end_signal(*kind));
        }
        self.keepers.wait_for_end(patience);
    }
}

/// The address of the service with a number, from 1.
fn address(number: usize) -> Ipv4Addr {
    let [a, b, c] = NETWORK;
    Ipv4Addr::new(a, b, c, u8::try_from(number).unwrap_or(u8::MAX))
}

/// A service whose data is there.
struct Prepared {
    store: Arc<Store>,
    site: Site,
    folder: PathBuf,
    layers: Vec<PathBuf>,
    limits: Limits,
    mode: Mode,
}

impl Prepared {
    fn new(store: Arc<Store>, start: ServiceStart, limits: Limits) -> Result<Self> {
        let ServiceStart { name, service, folder, layers } = start;
        let mode = working_mode(&store)?;
        // What a service of another kind left under the same name is not for this one, and is not lost.
        let folder = folder.join(service.kind.name());
        fs::create_dir_all(&folder).facts(&folder)?;
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o711)).facts(&folder)?;
        let site = Site { kind: service.kind, password: password(&folder.join(PASSWORD))?, name };
        let prepared = Self { store, site, folder, layers, limits, mode };
        prepared.prepare()?;
        Ok(prepared)
    }

    /// Makes its data, once: what is incomplete is recreated.
    fn prepare(&self) -> Result<()> {
        let (data, done) = (self.folder.join(DATA), self.folder.join(PREPARED));
        if done.exists() {
            return Ok(());
        }
        content::store::remove_tree(&data);
        owned_folder(data.clone(), self.mode)?;
        for (name, text) in kinds::files(&self.site) {
            let path = data.join(name);
            fs::write(&path, text).facts(&path)?;
            fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).facts(&path)?;
            crate::image::give_to_app(&path, self.mode)?;
        }
        for program in kinds::preparation(&self.site, &self.layers)? {
            self.run(program)?;
        }
        fs::write(&done, "").facts(&done)
    }

    /// Runs a program that makes data.
    fn run(&self, program: kinds::Program) -> Result<()> {
        let scratch = self.store.temporary_folder()?;
        let said = scratch.with_extension("said");
        let input = scratch.with_extension("input");
        fs::write(&input, &program.input).facts(&input)?;
        let output = File::create(&said).facts(&said)?;
        let io = [Stdio::from(File::open(&input).facts(&input)?), output.try_clone()?.into(), output.into()];
        let work = self.work(program.command, scratch, Listening::Nowhere);
        let ended = launch(&self.store, work, io).and_then(|mut run| Ok(run.process().wait()?));
        let text = fs::read(&said).unwrap_or_default();
        for file in [&said, &input] {
            // It is in a folder for what is temporary: the next one removes what is left.
            let _ = fs::remove_file(file);
        }
        if ended? == Ended::Exit(0) {
            return Ok(());
        }
        let text = String::from_utf8_lossy(&text);
        let last = text.lines().rev().take(10).map(str::to_owned).collect::<Vec<_>>();
        let lines = last.into_iter().rev().collect();
        Err(Error::Run(RunError::ServiceNotPrepared { service: self.site.name.clone(), lines }))
    }

    fn launch(&self) -> Result<(Launched, Written)> {
        let (written, io) = pipes()?;
        let command = kinds::command(&self.site, &self.layers)?;
        let port = Listening::Inside(self.site.kind.port(), None);
        let work = self.work(command, self.store.temporary_folder()?, port);
        Ok((launch(&self.store, work, io)?, written))
    }

    fn work(&self, argv: Vec<String>, scratch: PathBuf, port: Listening) -> Work {
        let user = model::places::APP_USER;
        Work {
            mode: self.mode,
            layers: self.layers.clone(),
            scratch,
            argv,
            env: kinds::environment(&self.site),
            folder: "/".to_owned(),
            writable: ["tmp", "run", "var/tmp"].map(str::to_owned).into(),
            shared: vec![(self.folder.join(DATA), DATA.to_owned())],
            merged: Vec::new(),
            user: (user.uid, user.gid),
            limits: self.limits,
            port,
            ways: Vec::new(),
            on_host_network: false,
            on_terminal: false,
        }
    }
}

/// The password in a file, which is made when it is not there: 32 hexadecimal digits.
fn password(file: &Path) -> Result<String> {
    match fs::read_to_string(file) {
        Ok(known) if !known.is_empty() => return Ok(known),
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error).facts(file),
        _ => {}
    }
    let mut bytes = [0; 16];
    File::open("/dev/urandom").and_then(|mut random| random.read_exact(&mut bytes))?;
    let text: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    let fresh = file.with_extension("fresh");
    let mut made = File::create(&fresh).facts(&fresh)?;
    made.set_permissions(fs::Permissions::from_mode(0o600)).facts(&fresh)?;
    made.write_all(text.as_bytes()).facts(&fresh)?;
    fs::rename(&fresh, file).facts(file)?;
    Ok(text)
}
