//! How much a process does at once: every number that tunes it is here.
//!
//! All steps of all apps of a process share one budget, so that memory and connections do not multiply.

use std::sync::{Condvar, Mutex, PoisonError};

/// Jobs per step that may run at the same time.
const JOBS_PER_STEP: usize = 2;
/// Jobs per thread that compresses what one step writes.
const JOBS_PER_COMPRESSOR: usize = 4;
/// Jobs per package that may be unpacked at the same time: that takes memory and the processor.
const JOBS_PER_UNPACKING: usize = 4;
/// Fetch threads per job: with a distant registry, waiting is all that there is to do.
const FETCHES_PER_JOB: usize = 16;
/// The most fetch threads of a step, and the most connections of a process.
const MOST_FETCHES: usize = 48;
/// The most bytes of package files that are in memory while they are unpacked.
const BYTES_IN_FLIGHT: u64 = 24 << 20;

/// What a process may use at once.
pub struct Budget {
    jobs: usize,
    connections: Gate,
    unpacking: Gate,
    in_flight: Gate,
}

impl Budget {
    /// A budget for this many jobs, at least one.
    pub fn new(jobs: usize) -> Self {
        let jobs = jobs.max(1);
        let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
        Self {
            jobs,
            connections: Gate::new(count((jobs * FETCHES_PER_JOB).min(MOST_FETCHES))),
            unpacking: Gate::new(count(jobs / JOBS_PER_UNPACKING)),
            in_flight: Gate::new(BYTES_IN_FLIGHT),
        }
    }

    /// How many things to do at once.
    pub fn jobs(&self) -> usize {
        self.jobs
    }

    /// How many steps may run at once.
    pub fn steps(&self) -> usize {
        (self.jobs / JOBS_PER_STEP).max(1)
    }

    /// How many threads compress what one step writes.
    pub(crate) fn compressors(&self) -> usize {
        self.jobs.div_ceil(JOBS_PER_COMPRESSOR)
    }

    /// How many threads of one step may wait for answers.
    pub fn fetches(&self) -> usize {
        (self.jobs * FETCHES_PER_JOB).min(MOST_FETCHES)
    }

    /// Passed, with 1, while something is fetched.
    pub fn connections(&self) -> &Gate {
        &self.connections
    }

    /// Passed, with 1, while a package is unpacked.
    pub fn unpacking(&self) -> &Gate {
        &self.unpacking
    }

    /// Passed, with a length in bytes, while a package file is in memory.
    pub fn in_flight(&self) -> &Gate {
        &self.in_flight
    }
}

/// Lets only so much in at once.
pub struct Gate {
    room: u64,
    free: Mutex<u64>,
    left: Condvar,
}

impl Gate {
    /// A gate with this much room, in any unit.
    pub fn new(room: u64) -> Self {
        Self { room: room.max(1), free: Mutex::new(room.max(1)), left: Condvar::new() }
    }

    /// Does `work` when there is room for it; what needs more than all of it goes alone.
    pub fn pass<T>(&self, needs: u64, work: impl FnOnce() -> T) -> T {
        let _place = self.enter(needs.min(self.room));
        work()
    }

    fn enter(&self, needs: u64) -> Place<'_> {
        let lock = self.free.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = self.left.wait_while(lock, |free| *free < needs);
        *waited.unwrap_or_else(PoisonError::into_inner) -= needs;
        Place { gate: self, needs }
    }
}

/// Room that is taken until this is dropped, also by a panic.
struct Place<'g> {
    gate: &'g Gate,
    needs: u64,
}

impl Drop for Place<'_> {
    fn drop(&mut self) {
        *self.gate.free.lock().unwrap_or_else(PoisonError::into_inner) += self.needs;
        self.gate.left.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    #[test]
    fn a_gate_never_lets_in_more_than_its_room_and_what_is_larger_goes_alone() {
        let gate = Gate::new(3);
        let (inside, most) = (AtomicU64::new(0), AtomicU64::new(0));
        std::thread::scope(|scope| {
            for needs in [1, 2, 3, 9, 1, 2, 9, 1] {
                let (gate, inside, most) = (&gate, &inside, &most);
                scope.spawn(move || {
                    gate.pass(needs, || {
                        let counted = needs.min(3);
                        let now = inside.fetch_add(counted, Ordering::SeqCst) + counted;
                        most.fetch_max(now, Ordering::SeqCst);
                        std::thread::sleep(std::time::Duration::from_millis(2));
                        inside.fetch_sub(counted, Ordering::SeqCst);
                    });
                });
            }
        });
        assert!(most.load(Ordering::SeqCst) <= 3);
        assert_eq!(*gate.free.lock().unwrap(), 3);
    }

    #[test]
    fn one_job_is_enough_for_everything() {
        let budget = Budget::new(0);
        assert_eq!((budget.jobs(), budget.steps(), budget.compressors()), (1, 1, 1));
        assert_eq!(budget.unpacking().pass(1, || budget.connections().pass(1, || 7)), 7);
        assert!(Budget::new(1000).fetches() <= MOST_FETCHES);
    }

    #[test]
    fn a_panic_gives_the_room_back() {
        let gate = Gate::new(1);
        let panicked =
            std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| gate.pass(1, || panic!("fog"))));
        assert!(panicked.is_err());
        assert_eq!(gate.pass(1, || 1), 1);
    }
}
