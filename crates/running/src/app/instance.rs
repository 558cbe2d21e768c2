//! One instance of a process type, kept running until it is told to stop.

use super::health::{Health, HealthCheck, Probe, Verdict};
use super::output::{Written, pass_on};
use super::pauses::Pauses;
use super::pool::{Member, Pool};
use super::state::{End, InstanceName, State, Tell, What};
use crate::process::{KILL, Launched};
use model::Result;
use sandbox::{RemoteControl, SandboxError};
use std::collections::VecDeque;
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

/// How many answers are remembered.
const REMEMBERED: usize = 100;
/// The polling interval for a process without health checks.
const LONG: Duration = Duration::from_secs(3600);

/// How an instance is started and looked after.
pub(crate) struct Care {
    pub launch: Box<dyn Fn() -> Result<(Launched, Written)> + Send + Sync>,
    pub check: HealthCheck,
    pub pool: Arc<Pool>,
    pub log: PathBuf,
    /// After how many ends in a row it is given up.
    pub tries: Option<u32>,
    pub tell: Tell,
}

/// An instance and all that is known of it.
pub(crate) struct Instance {
    pub name: InstanceName,
    shared: Mutex<Shared>,
    stopped: Condvar,
}

struct Shared {
    state: State,
    since: SystemTime,
    starts: u32,
    is_retired: bool,
    is_to_stop: bool,
    control: Option<RemoteControl>,
    number: Option<u32>,
    history: VecDeque<Probe>,
    /// Its place among those that take connections.
    member: Option<Member>,
}

impl Instance {
    pub fn new(name: InstanceName) -> Self {
        let shared = Shared {
            state: State::Starting,
            since: SystemTime::now(),
            starts: 0,
            is_retired: false,
            is_to_stop: false,
            control: None,
            number: None,
            history: VecDeque::new(),
            member: None,
        };
        Self { name, shared: Mutex::new(shared), stopped: Condvar::new() }
    }

    fn shared(&self) -> MutexGuard<'_, Shared> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Its state, since when, how often it was started, and the number of its first process on this machine.
    pub fn state(&self) -> (State, SystemTime, u32, Option<u32>) {
        let shared = self.shared();
        (shared.state.clone(), shared.since, shared.starts, shared.number)
    }

    /// What it answered, the newest first.
    pub fn history(&self) -> Vec<Probe> {
        self.shared().history.iter().cloned().collect()
    }

    /// Lets it take no more connections: it is about to be stopped.
    pub fn retire(&self) {
        let mut shared = self.shared();
        (shared.is_retired, shared.member) = (true, None);
    }

    /// Whether another may take its name.
    pub fn is_leaving(&self) -> bool {
        let shared = self.shared();
        shared.is_retired || shared.is_to_stop
    }

    /// Sends a signal to what runs; from the first on, nothing is started again.
    pub fn stop(&self, signal: u8) {
        let mut shared = self.shared();
        (shared.is_to_stop, shared.member) = (true, None);
        if let Some(control) = &shared.control {
            control.signal(signal);
        }
        self.stopped.notify_all();
    }

    fn is_to_stop(&self) -> bool {
        self.shared().is_to_stop
    }

    fn set(&self, state: State, care: &Care) {
        {
            let mut shared = self.shared();
            shared.state = state.clone();
            shared.since = SystemTime::now();
        }
        (care.tell)(&self.name, &What::State(state));
    }

    /// Starts it, and again whenever it ends, until it is told to stop or is given up.
    pub fn keep_running(&self, care: &Care) {
        let mut pauses = Pauses::default();
        while !self.is_to_stop() {
            let begun = Instant::now();
            self.set(State::Starting, care);
            let end = self.run_once(care);
            if self.is_to_stop() {
                break;
            }
            let pause = pauses.after(begun.elapsed());
            if care.tries.is_some_and(|tries| pauses.in_a_row >= tries) {
                return self.set(State::Failed { how: end }, care);
            }
            let pause_ms = u64::try_from(pause.as_millis()).unwrap_or(u64::MAX);
            self.set(State::Ended { how: end, pause_ms, in_a_row: pauses.in_a_row }, care);
            self.rest(pause);
        }
        self.set(State::Stopped, care);
    }

    /// Waits, but no longer than until it is told to stop.
    fn rest(&self, pause: Duration) {
        let shared = self.shared();
        // Which of the two it was is looked at afterwards.
        let _ = self.stopped.wait_timeout_while(shared, pause, |shared| !shared.is_to_stop);
    }

    fn run_once(&self, care: &Care) -> End {
        let not_started = |error: model::Error| End::NotStarted { detail: error.to_string() };
        let (mut launched, written) = match (care.launch)() {
            Ok(launched) => launched,
            Err(error) => return not_started(error),
        };
        {
            let mut shared = self.shared();
            shared.starts += 1;
            shared.control = launched.process().remote_control().ok();
            shared.number = Some(launched.process().number());
            if let (true, Some(control)) = (shared.is_to_stop, &shared.control) {
                control.signal(crate::process::TERMINATE);
            }
        }
        std::thread::scope(|scope| {
            scope.spawn(|| pass_on(written, &care.log, &self.name, &care.tell));
            self.attend(&mut launched, care);
            let ended = launched.process().wait();
            let mut shared = self.shared();
            (shared.control, shared.number, shared.member) = (None, None, None);
            match ended {
                Ok(ended) => End::from(ended),
                // The first process of its namespaces, which would have said how, was killed from outside.
                Err(SandboxError::Lost) => End::Signal { number: i32::from(KILL) },
                Err(error) => End::NotStarted { detail: error.to_string() },
            }
        })
    }

    fn take_connections(&self, launched: &Launched, care: &Care) {
        let mut shared = self.shared();
        if !shared.is_retired && !shared.is_to_stop {
            shared.member = launched.target().map(|target| care.pool.add(self.name.number, target));
        }
    }

    /// Asks it for its health until it ends.
    fn attend(&self, launched: &mut Launched, care: &Care) {
        let mut health = Health::new(care.check.clone());
        if health.pause().is_none() {
            self.set(State::Running, care);
        }
        while !launched.process().ends_within(health.pause().filter(|_| !self.is_to_stop()).unwrap_or(LONG)) {
            if self.is_to_stop() || health.pause().is_none() {
                continue;
            }
            let (verdict, probe) = health.ask(launched);
            if let Some(probe) = probe {
                let history = &mut self.shared().history;
                history.truncate(REMEMBERED - 1);
                history.push_front(probe);
            }
            match verdict {
                Verdict::AsBefore => {}
                Verdict::Healthy => {
                    self.take_connections(launched, care);
                    self.set(State::Healthy, care);
                }
                Verdict::Unhealthy(reason) => {
                    self.shared().member = None;
                    self.set(State::Unhealthy { reason }, care);
                }
                Verdict::Hopeless => launched.process().signal(KILL),
            }
        }
    }
}
