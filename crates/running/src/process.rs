//! One isolated process, its port, and the way to it.

use crate::http;
use crate::ports::{Offered, Target};
use crate::ways::{OpenWays, Way};
use content::store::{Store, remove_tree};
use engine::sandbox_mode::forget_if_refused;
use model::Result;
use sandbox::{Ended, Limits, Link, Merged, Mode, Network, Plan, Running};
use std::collections::BTreeMap;
use std::io;
use std::net::{SocketAddr, TcpStream};
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::{Duration, Instant};

/// The number of the signal that asks for an interruption, as Ctrl-C does.
pub const INTERRUPT: u8 = 2;
/// The number of the signal that ends a process.
pub const KILL: u8 = 9;
/// The number of the signal that asks a process to end.
pub const TERMINATE: u8 = 15;

/// How long to wait before a process is asked again whether it accepts connections: longer each time.
const FIRST_PAUSE: Duration = Duration::from_millis(1);
const LONGEST_PAUSE: Duration = Duration::from_millis(20);
/// How long a connection of this machine waits for the process to listen, and how often it tries.
const PATIENCE: Duration = Duration::from_secs(5);
const PAUSE: Duration = Duration::from_millis(50);
/// How long a port may take to show that it speaks HTTP.
const FIRST_ANSWER: Duration = Duration::from_secs(1);

/// What is to run, wherever it comes from.
pub(crate) struct Work {
    /// How it is kept apart.
    pub mode: Mode,
    /// Unpacked layers, bottom to top.
    pub layers: Vec<PathBuf>,
    /// An empty folder of its own.
    pub scratch: PathBuf,
    /// The program and its arguments.
    pub argv: Vec<String>,
    /// The whole environment.
    pub env: BTreeMap<String, String>,
    /// The working folder inside.
    pub folder: String,
    /// Folders in memory, from the root.
    pub writable: Vec<String>,
    /// Folders of this machine that it writes to, with their place from the root.
    pub shared: Vec<(PathBuf, String)>,
    /// Folders of this machine over those of the layers.
    pub merged: Vec<Merged>,
    /// The user and group that it sees itself as.
    pub user: (u32, u32),
    /// How much it may use.
    pub limits: Limits,
    /// Where it listens.
    pub port: Listening,
    /// The ways out of its own network; without one, there are none.
    pub ways: Vec<Way>,
    /// Whether it sees the network of this machine.
    pub on_host_network: bool,
    /// Whether standard input is a terminal of its own.
    pub on_terminal: bool,
}

/// Where a process listens.
pub(crate) enum Listening {
    /// Nowhere.
    Nowhere,
    /// On a port of this machine.
    Shared(u16),
    /// On a port in its own network, where the connections to an offered port are led, too.
    Inside(u16, Option<Offered>),
}

/// The way to the port of a process in its own network.
struct Inside {
    link: Arc<Link>,
    port: u16,
    /// Another port that is asked when nothing listens on its own; 0 when there is none.
    other: AtomicU16,
}

impl Inside {
    /// A connection, at once or not at all.
    fn connect(&self) -> io::Result<TcpStream> {
        let own = self.link.connect(self.port);
        match (&own, self.other.load(Ordering::Relaxed)) {
            (Ok(_), _) | (Err(_), 0) => own,
            (Err(_), other) => self.link.connect(other),
        }
    }
}

/// A running process.
pub struct Launched {
    running: Running,
    scratch: PathBuf,
    /// The port of this machine that answers for it, if one does.
    pub port: Option<u16>,
    /// The way to its own port, where it has a network of its own.
    inside: Option<Arc<Inside>>,
    /// How it is kept apart.
    pub mode: Mode,
    /// What is closed when this is dropped.
    _open: (Option<Offered>, OpenWays),
}

/// Starts it.
pub(crate) fn launch(store: &Store, work: Work, io: [Stdio; 3]) -> Result<Launched> {
    let ways = if work.on_host_network { &[][..] } else { &work.ways };
    let plan = Plan {
        mode: work.mode,
        layers: work.layers,
        scratch: work.scratch.clone(),
        argv: work.argv,
        env: work.env.into_iter().collect(),
        folder: work.folder,
        shared: work.shared,
        merged: work.merged,
        root_writable: false,
        on_terminal: work.on_terminal,
        network: if work.on_host_network { Network::Shared } else { Network::Linked },
        listens: ways.iter().map(Way::listens).collect(),
        names: ways.iter().filter_map(Way::named).collect(),
        writable: work.writable,
        uid: work.user.0,
        gid: work.user.1,
        limits: work.limits,
    };
    let running = sandbox::start(&plan, io).inspect_err(|error| {
        forget_if_refused(store, error);
        remove_tree(&work.scratch);
    })?;
    let link = running.link();
    let open_ways = match &link {
        Some(link) => OpenWays::open(link, ways)?,
        None => OpenWays::default(),
    };
    let (port, inside, offered) = match work.port {
        Listening::Nowhere => (None, None, None),
        Listening::Shared(port) => (Some(port), None, None),
        Listening::Inside(port, offered) => {
            let inside = link.map(|link| Arc::new(Inside { link, port, other: AtomicU16::new(0) }));
            (offered.as_ref().map(|offered| offered.port), inside, offered)
        }
    };
    if let (Some(offered), Some(inside)) = (&offered, &inside) {
        offered.lead_to(&target_inside(inside))?;
    }
    Ok(Launched {
        running,
        scratch: work.scratch,
        port,
        inside,
        mode: work.mode,
        _open: (offered, open_ways),
    })
}

impl Launched {
    /// The handle of the process itself.
    pub fn process(&mut self) -> &mut Running {
        &mut self.running
    }

    /// The way to where it listens, if it does.
    pub fn target(&self) -> Option<Target> {
        match (&self.inside, self.port) {
            (Some(inside), _) => Some(target_inside(inside)),
            (None, Some(port)) => Some(Arc::new(move || http::connect(port))),
            (None, None) => None,
        }
    }

    /// A connection to where it listens, at once or not at all.
    pub(crate) fn connect_now(&self) -> io::Result<TcpStream> {
        match (&self.inside, self.port) {
            (Some(inside), _) => inside.connect(),
            (None, Some(port)) => http::connect(port),
            (None, None) => Err(io::ErrorKind::NotConnected.into()),
        }
    }

    /// Whether the process accepts connections before it ends, and before `patience` is over.
    pub fn wait_for_port(&mut self, patience: Duration) -> bool {
        // A fresh network namespace has no way to reach the process. Where this is not allowed, it is
        // not needed either: the interface is up everywhere else.
        let _ = sandbox::raise_loopback();
        let deadline = Instant::now() + patience;
        let mut pause = FIRST_PAUSE;
        while Instant::now() < deadline {
            if self.connect_now().is_ok() {
                return true;
            }
            if self.running.ends_within(pause) {
                return false;
            }
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
        false
    }

    /// The other ports that it listens on, once they have been the same for `settled` without its own among them;
    /// none where it ends before, or where that takes longer than `patience`. Of several, the only one that speaks HTTP.
    pub fn other_ports(&mut self, settled: Duration, patience: Duration) -> Vec<SocketAddr> {
        let deadline = Instant::now() + patience;
        let (mut seen, mut since) = (Vec::new(), Instant::now());
        while Instant::now() < deadline && self.connect_now().is_err() && !self.running.ends_within(PAUSE) {
            let mut all = self.listening();
            all.dedup_by_key(|address| address.port());
            if all != seen {
                (seen, since) = (all, Instant::now());
            } else if !seen.is_empty() && since.elapsed() >= settled {
                return self.by_http(seen);
            }
        }
        Vec::new()
    }

    /// The only one of several addresses that speaks HTTP; all of them where that does not tell.
    fn by_http(&self, all: Vec<SocketAddr>) -> Vec<SocketAddr> {
        let Some(inside) = self.inside.as_ref().filter(|_| all.len() > 1) else { return all };
        let speaks = |address: &&SocketAddr| {
            let asked = inside.link.connect(address.port());
            asked.and_then(|stream| http::ask_on(stream, "/", FIRST_ANSWER)).is_ok()
        };
        match all.iter().filter(speaks).collect::<Vec<_>>()[..] {
            [only] => vec![*only],
            _ => all,
        }
    }

    /// Leads connections to this port wherever it does not listen on its own.
    pub fn follow(&self, port: u16) {
        if let Some(inside) = &self.inside {
            inside.other.store(port, Ordering::Relaxed);
        }
    }

    /// Where it listens in its own network; nothing where it has none.
    pub fn listening(&self) -> Vec<SocketAddr> {
        let Some(inside) = &self.inside else { return Vec::new() };
        let mut all = inside.link.listening().unwrap_or_default();
        all.sort_by_key(|address| (address.port(), address.ip()));
        all.dedup();
        all
    }

    /// Asks the process to end, waits, and ends it when it does not within `patience`.
    pub fn stop(&mut self, patience: Duration) -> Result<Ended> {
        self.running.signal(TERMINATE);
        if !self.running.ends_within(patience) {
            self.running.signal(KILL);
        }
        Ok(self.running.wait()?)
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

fn target_inside(inside: &Arc<Inside>) -> Target {
    let inside = Arc::clone(inside);
    Arc::new(move || connect(&inside))
}

/// A connection into the process's network, once something listens there.
fn connect(inside: &Inside) -> io::Result<TcpStream> {
    let tries = PATIENCE.as_millis() / PAUSE.as_millis();
    for _ in 0..tries {
        match inside.connect() {
            Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => std::thread::sleep(PAUSE),
            other => return other,
        }
    }
    inside.connect()
}
