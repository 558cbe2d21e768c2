//! Instances and the threads that look after them.

use super::instance::{Care, Instance};
use super::state::{InstanceName, State};
use super::{GLANCE, Probe, Status};
use crate::process::{KILL, TERMINATE};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

type Kept = (Arc<Instance>, JoinHandle<()>);

/// Instances that are kept running; they are ended when this is dropped.
#[derive(Default)]
pub(crate) struct Keepers(Mutex<Vec<Kept>>);

impl Keepers {
    fn kept(&self) -> MutexGuard<'_, Vec<Kept>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Starts an instance, unless it runs already.
    pub fn start(&self, name: &InstanceName, care: impl FnOnce() -> Care) {
        let mut kept = self.kept();
        // One that was given up may be tried again.
        kept.retain(|(instance, thread)| !thread.is_finished() || instance.name != *name);
        // One that is about to end is no longer meant.
        if kept.iter().any(|(instance, _)| instance.name == *name && !instance.is_leaving()) {
            return;
        }
        let (instance, care) = (Arc::new(Instance::new(name.clone())), care());
        let looked_after = Arc::clone(&instance);
        kept.push((instance, std::thread::spawn(move || looked_after.keep_running(&care))));
    }

    /// Asks those instances to end that are meant.
    pub fn end(&self, is_meant: impl Fn(&InstanceName) -> bool, signal: u8) {
        let kept = self.kept();
        kept.iter().filter(|(one, _)| is_meant(&one.name)).for_each(|(one, _)| one.stop(signal));
    }

    /// Lets those that are meant take no more connections at once, and asks them to end after `pause`, when those that they
    /// have may have ended.
    pub fn retire(&self, is_meant: impl Fn(&InstanceName) -> bool, pause: Duration) {
        let kept = self.kept();
        let meant: Vec<Arc<Instance>> =
            kept.iter().map(|(one, _)| one).filter(|one| is_meant(&one.name)).cloned().collect();
        meant.iter().for_each(|one| one.retire());
        std::thread::spawn(move || {
            std::thread::sleep(pause);
            meant.iter().for_each(|one| one.stop(TERMINATE));
        });
    }

    /// Ends those that are meant, without waiting for their end: others may take their names at once.
    pub fn replace(&self, is_meant: impl Fn(&InstanceName) -> bool, patience: Duration) {
        let kept = self.kept();
        let meant = kept.iter().map(|(one, _)| one).filter(|one| is_meant(&one.name) && !one.is_leaving());
        let meant: Vec<Arc<Instance>> = meant.cloned().collect();
        meant.iter().for_each(|one| one.stop(TERMINATE));
        std::thread::spawn(move || {
            std::thread::sleep(patience);
            // One that has ended hears nothing any more.
            meant.iter().for_each(|one| one.stop(KILL));
        });
    }

    /// How they are.
    pub fn status(&self) -> Vec<Status> {
        let mut kept = self.kept();
        // Those that were stopped on purpose are not restarted.
        kept.retain(|(instance, thread)| !thread.is_finished() || instance.state().0 != State::Stopped);
        kept.iter().map(|(instance, _)| status_of(instance)).collect()
    }

    /// The answers of an instance, the newest first.
    pub fn history(&self, name: &InstanceName) -> Vec<Probe> {
        let kept = self.kept();
        let found = kept.iter().find(|(instance, _)| instance.name == *name);
        found.map(|(instance, _)| instance.history()).unwrap_or_default()
    }

    /// Whether no instance runs any more, nor will again.
    pub fn are_over(&self) -> bool {
        self.kept().iter().all(|(_, thread)| thread.is_finished())
    }

    /// Waits until every instance is healthy or, without a port, has run for `settled`; gives the first that
    /// ended or did not get there within `patience`.
    pub fn wait_until_healthy(&self, settled: Duration, patience: Duration) -> Option<Status> {
        let deadline = Instant::now() + patience;
        loop {
            let all = self.status();
            let is_well = |status: &Status| match status.state {
                State::Healthy | State::Stopped => true,
                State::Running => status.since.elapsed().unwrap_or_default() >= settled,
                _ => false,
            };
            let has_failed = |status: &Status| {
                matches!(status.state, State::Ended { .. } | State::Failed { .. } | State::Unhealthy { .. })
            };
            if let Some(failed) = all.iter().find(|status| has_failed(status)) {
                return Some(failed.clone());
            }
            let waiting = all.into_iter().find(|status| !is_well(status))?;
            if Instant::now() > deadline {
                return Some(waiting);
            }
            std::thread::sleep(GLANCE);
        }
    }

    /// Asks all instances to end, waits, and ends those that did not within `patience`.
    pub fn stop(&self, patience: Duration) {
        self.end(|_| true, TERMINATE);
        self.wait_for_end(patience);
    }

    /// Waits until all have ended, and ends those that did not within `patience`.
    pub fn wait_for_end(&self, patience: Duration) {
        let deadline = Instant::now() + patience;
        while !self.are_over() && Instant::now() < deadline {
            std::thread::sleep(GLANCE);
        }
        self.end(|_| true, KILL);
        // No lock is held while it is waited: what they tell at their end may ask for their state.
        let all = std::mem::take(&mut *self.kept());
        for (_, thread) in all {
            // A thread that panicked has nothing left to end.
            let _ = thread.join();
        }
    }
}

impl Drop for Keepers {
    fn drop(&mut self) {
        self.stop(Duration::ZERO);
    }
}

fn status_of(instance: &Instance) -> Status {
    let (state, since, starts, number) = instance.state();
    let memory = number.and_then(sandbox::memory_of_tree);
    Status { name: instance.name.clone(), state, since, starts, memory }
}
