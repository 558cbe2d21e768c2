//! Runs a process type of an image on this machine.

use crate::image::inside_app;
use crate::inspect::{OpenImage, ProcessImage};
use crate::plan::PORT_VARIABLE;
use crate::ports;
use content::layer::Codec;
use content::store::{Store, remove_tree};
use content::{ContentError, DiffId};
use engine::sandbox_mode::{forget_if_refused, working_mode};
use engine::unpacked_layers::{StoredLayer, unpacked};
use model::error::RunError;
use model::platform::own_platform;
use model::{Error, PathFacts, ProcessType, Result};
use sandbox::{Ended, FIRST_ID, Isolation, Limits, Link, Merged, Mode, Network, Plan, Running};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::os::unix::fs::lchown;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// The number of the signal that asks a process to end.
pub const TERMINATE: u8 = 15;
/// The number of the signal that ends a process.
pub const KILL: u8 = 9;

/// How long to wait before a process is asked again whether it accepts connections: longer each time.
const FIRST_PAUSE: Duration = Duration::from_millis(1);
const LONGEST_PAUSE: Duration = Duration::from_millis(20);

/// What is said at the start of a process, besides what the image says.
#[derive(Debug)]
pub struct Start {
    /// Values of settings.
    pub settings: BTreeMap<String, String>,
    /// The port of this machine that answers for the process; `None` takes the image's, 0 a free one.
    pub port: Option<u16>,
    /// Whether the process sees the network of this machine; otherwise it has one of its own.
    pub on_host_network: bool,
    /// Ports of this machine that a process with a network of its own may reach.
    pub reach: Vec<u16>,
    /// Arguments after those of the image.
    pub arguments: Vec<String>,
    /// Where what the process writes is kept; without, it is gone at its end.
    pub data: Option<PathBuf>,
    /// How much the process may use; what the image says of memory holds, too.
    pub limits: Limits,
}

impl Start {
    /// With nothing said but how much the process may use.
    pub fn within(limits: Limits) -> Self {
        Self {
            settings: BTreeMap::new(),
            port: None,
            on_host_network: false,
            reach: Vec::new(),
            arguments: Vec::new(),
            data: None,
            limits,
        }
    }
}

/// A running process of an image.
pub struct Launched {
    running: Running,
    scratch: PathBuf,
    /// The port of this machine that answers for it, if it listens at all.
    pub port: Option<u16>,
    /// The way to its own port, where it has a network of its own.
    inside: Option<(Arc<Link>, u16)>,
    /// How it is kept apart.
    pub mode: Mode,
}

/// Starts `process` of `image` (the default one when none is named).
pub fn start(
    store: &Store,
    image: &OpenImage,
    process: Option<&str>,
    how: Start,
    io: [Stdio; 3],
) -> Result<Launched> {
    let variant = image.variant(process)?;
    let here = own_platform();
    if image.record.platform != here {
        let (image, platform) = (image.label.clone(), image.record.platform.clone());
        return Err(Error::Run(RunError::OtherPlatform { image, platform, here }));
    }
    let settings = check_settings(image, variant, &how.settings)?;
    let said = image.record.processes.iter().find(|p| p.name == variant.process);
    let own = said.and_then(|p| p.port);
    let wanted = how.port.or(own);
    let ports = match (wanted, how.on_host_network) {
        (None, _) => Ports::None,
        (Some(0), true) => Ports::Shared(free_port()?),
        (Some(port), true) => Ports::Shared(checked_port(port)?),
        (Some(port), false) => {
            let offered = ports::offer(port)?;
            let inside = own.unwrap_or(offered.port);
            Ports::Led { offered, inside }
        }
    };
    let told = match &ports {
        Ports::None => None,
        Ports::Shared(port) | Ports::Led { inside: port, .. } => Some(*port),
    };
    let mut env: BTreeMap<String, String> = variant
        .config
        .config
        .env
        .iter()
        .filter_map(|e| e.split_once('='))
        .map(|(k, v)| (k.to_owned(), v.to_owned()))
        .collect();
    env.extend(settings);
    env.extend(told.map(|p| (PORT_VARIABLE.to_owned(), p.to_string())));
    let mode = working_mode(store)?;
    let layers = unpacked_layers(store, variant, mode)?;
    let scratch = store.temporary_folder()?;
    let written = how.data.clone().unwrap_or_else(|| scratch.join("data"));
    let merged = writable_folders(said, &written, mode)?;
    let (uid, gid) = user_of(&variant.config.config.user);
    let plan = Plan {
        mode,
        layers,
        scratch: scratch.clone(),
        argv: variant.config.config.entrypoint.iter().cloned().chain(how.arguments).collect(),
        env: env.into_iter().collect(),
        folder: variant.config.config.working_dir.clone(),
        shared: Vec::new(),
        merged,
        root_writable: false,
        on_terminal: false,
        network: if how.on_host_network { Network::Shared } else { Network::Linked },
        listens: if how.on_host_network { Vec::new() } else { how.reach.clone() },
        writable: ["tmp", "var/tmp", model::places::APP_HOME].map(str::to_owned).into(),
        uid,
        gid,
        limits: Limits { memory: memory_of(said, &how.limits), ..how.limits },
    };
    let running = sandbox::start(&plan, io).inspect_err(|error| {
        forget_if_refused(store, error);
        remove_tree(&scratch);
    })?;
    let mut launched = Launched { running, scratch, port: told, inside: None, mode };
    if let Some(link) = launched.running.link() {
        for port in BTreeSet::from_iter(how.reach) {
            ports::let_reach(&link, port)?;
        }
        if let Ports::Led { offered, inside } = ports {
            launched.port = Some(offered.port);
            launched.inside = Some((Arc::clone(&link), inside));
            offered.lead_to(&link, inside);
        }
    }
    Ok(launched)
}

/// Where a process listens.
enum Ports {
    None,
    /// On a port of this machine.
    Shared(u16),
    /// In its own network, where connections to a port of this machine are led.
    Led {
        offered: ports::Offered,
        inside: u16,
    },
}

impl Launched {
    /// The handle of the process itself.
    pub fn process(&mut self) -> &mut Running {
        &mut self.running
    }

    /// Whether the process accepts connections before it ends, and before `patience` is over.
    pub fn wait_for_port(&mut self, patience: Duration) -> bool {
        let Some(port) = self.port else { return false };
        // In a fresh network namespace nobody could ask the process. Where this is not allowed, it is
        // not needed either: the interface is up everywhere else.
        let _ = sandbox::raise_loopback();
        let deadline = Instant::now() + patience;
        let mut pause = FIRST_PAUSE;
        while Instant::now() < deadline {
            let answers = match &self.inside {
                Some((link, port)) => link.connect(*port).is_ok(),
                None => connect(port).is_ok(),
            };
            if answers {
                return true;
            }
            if self.running.ends_within(pause) {
                return false;
            }
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
        false
    }

    /// Where it listens in its own network; nothing where it has none.
    pub fn listening(&self) -> Vec<SocketAddr> {
        let Some((link, _)) = &self.inside else { return Vec::new() };
        let mut all = link.listening().unwrap_or_default();
        all.sort();
        all.dedup();
        all
    }

    /// Asks the process to end, waits, and ends it when it does not within `patience`.
    pub fn stop(&mut self, patience: Duration) -> Result<Ended> {
        self.running.signal(TERMINATE);
        let control = self.running.remote_control();
        let (told, ended) = std::sync::mpsc::channel::<()>();
        let reaper = std::thread::spawn(move || {
            if ended.recv_timeout(patience).is_err()
                && let Ok(control) = control
            {
                control.signal(KILL);
            }
        });
        let end = self.running.wait();
        // The watcher may be gone already.
        let _ = told.send(());
        // It only sleeps and signals; there is nothing to learn from how it ended.
        let _ = reaper.join();
        Ok(end?)
    }
}

impl Drop for Launched {
    fn drop(&mut self) {
        self.running.kill();
        // Until all processes are gone, the folder is in use.
        let _ = self.running.wait();
        remove_tree(&self.scratch);
    }
}

/// The lower of what the process may use and what anybody may.
fn memory_of(process: Option<&ProcessType>, limits: &Limits) -> Option<u64> {
    let own = process.and_then(|process| process.memory);
    own.into_iter().chain(limits.memory).min()
}

/// The folders that a process may write to, each over what the image has there, kept in `data`.
fn writable_folders(process: Option<&ProcessType>, data: &Path, mode: Mode) -> Result<Vec<Merged>> {
    let mut merged = Vec::new();
    for folder in process.into_iter().flat_map(|process| &process.writable) {
        let from = if folder == "." { data.to_owned() } else { data.join(folder) };
        fs::create_dir_all(&from).facts(&from)?;
        if mode.isolation == Isolation::Superuser {
            let user = model::places::APP_USER;
            lchown(&from, Some(FIRST_ID + user.uid), Some(FIRST_ID + user.gid)).facts(&from)?;
        }
        merged.push(Merged { from, to: inside_app(folder)[1..].to_owned() });
    }
    Ok(merged)
}

fn connect(port: u16) -> std::io::Result<TcpStream> {
    TcpStream::connect_timeout(&SocketAddr::from((Ipv4Addr::LOCALHOST, port)), Duration::from_millis(500))
}

/// The answer to `GET path` of a process of this machine: status and body (HTTP/1.0, so that the end
/// of the connection is the end of the body).
pub fn ask(port: u16, path: &str) -> std::io::Result<(u16, String)> {
    let mut stream = connect(port)?;
    stream.set_read_timeout(Some(Duration::from_secs(10)))?;
    // In one piece: a small server may read only once.
    stream.write_all(format!("GET {path} HTTP/1.0\r\nHost: localhost\r\n\r\n").as_bytes())?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer)?;
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
    let status = head.split(' ').nth(1).and_then(|s| s.parse().ok());
    Ok((status.ok_or_else(|| std::io::Error::other("no HTTP answer"))?, body.to_owned()))
}

/// What was given must be known or at least plausible; what is required must be there.
fn check_settings(
    image: &OpenImage,
    variant: &ProcessImage,
    given: &BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>> {
    let has = |name: &str| {
        given.contains_key(name)
            || variant.config.config.env.iter().any(|e| e.split('=').next() == Some(name))
    };
    let rules = &image.record.settings;
    let names: Vec<String> =
        rules.iter().filter(|(name, rule)| rule.required && !has(name)).map(|(n, _)| n.clone()).collect();
    if names.is_empty() { Ok(given.clone()) } else { Err(Error::Run(RunError::SettingsMissing { names })) }
}

fn free_port() -> Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?.port())
}

fn checked_port(port: u16) -> Result<u16> {
    match TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)) {
        Ok(_) => Ok(port),
        Err(_) => Err(Error::Run(RunError::PortTaken { port })),
    }
}

fn user_of(text: &str) -> (u32, u32) {
    let (user, group) = text.split_once(':').unwrap_or((text, text));
    (user.parse().unwrap_or(0), group.parse().unwrap_or(0))
}

/// The layers of an image as folders in the store, bottom to top.
fn unpacked_layers(store: &Store, variant: &ProcessImage, mode: Mode) -> Result<Vec<PathBuf>> {
    let diff_ids = &variant.config.rootfs.diff_ids;
    let layers = variant.manifest.layers.iter().zip(diff_ids).enumerate();
    // An image of others may have a layer twice: the upper one gives all that the lower one gave, and no
    // folder can be part of an overlay twice.
    let is_last = |(number, (_, diff_id)): &(usize, (_, &DiffId))| !diff_ids[number + 1..].contains(*diff_id);
    layers
        .filter(is_last)
        .map(|(_, (layer, diff_id))| {
            let codec = Codec::of_media_type(&layer.media_type).ok_or_else(|| ContentError::Malformed {
                what: layer.digest.to_string(),
                detail: format!("layers of type {} are not supported", layer.media_type),
            })?;
            unpacked(store, &StoredLayer { digest: layer.digest, diff_id: *diff_id, codec }, mode)
        })
        .collect()
}
