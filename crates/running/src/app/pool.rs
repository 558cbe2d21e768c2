//! The running instances of a process type, as one target of connections.

use crate::ports::Target;
use std::io;
use std::net::TcpStream;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long a connection is held while no instance can take it.
const PATIENCE: Duration = Duration::from_secs(30);

/// How long to wait after none of them took one.
const PAUSE: Duration = Duration::from_millis(20);

/// Instances that take connections in turn. A connection that comes while none is ready is held until one is.
#[derive(Default)]
pub struct Pool {
    ready: Mutex<Vec<(u32, Target)>>,
    grown: Condvar,
    next: AtomicUsize,
}

impl Pool {
    /// Lets the instance take connections until what is given is dropped.
    pub(crate) fn add(self: &Arc<Self>, instance: u32, target: Target) -> Member {
        let mut ready = self.ready.lock().unwrap_or_else(PoisonError::into_inner);
        ready.push((instance, Arc::clone(&target)));
        self.grown.notify_all();
        Member { pool: Arc::clone(self), target }
    }

    /// The next instance in turn, if one is ready.
    pub fn pick(&self) -> Option<(u32, Target)> {
        let ready = self.ready.lock().unwrap_or_else(PoisonError::into_inner);
        let turn = self.next.fetch_add(1, Ordering::Relaxed);
        ready.get(turn.checked_rem(ready.len())?).cloned()
    }

    /// A connection to the next instance that takes it.
    pub fn connect(&self) -> io::Result<TcpStream> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            let count = self.wait_until_ready(deadline)?;
            // One that has just ended is asked at most once.
            let picked = (0..count).filter_map(|_| self.pick());
            if let Some(stream) = picked.filter_map(|(_, target)| target().ok()).next() {
                return Ok(stream);
            }
            std::thread::sleep(PAUSE);
        }
    }

    /// How many are ready, as soon as one is.
    fn wait_until_ready(&self, deadline: Instant) -> io::Result<usize> {
        let mut ready = self.ready.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            let left = deadline.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Err(io::ErrorKind::TimedOut.into());
            }
            if !ready.is_empty() {
                return Ok(ready.len());
            }
            let waited = self.grown.wait_timeout(ready, left).unwrap_or_else(PoisonError::into_inner);
            ready = waited.0;
        }
    }

    /// The pool as a target.
    pub fn target(self: &Arc<Self>) -> Target {
        let pool = Arc::clone(self);
        Arc::new(move || pool.connect())
    }
}

/// An instance that takes connections.
pub(crate) struct Member {
    pool: Arc<Pool>,
    target: Target,
}

impl Drop for Member {
    fn drop(&mut self) {
        let mut ready = self.pool.ready.lock().unwrap_or_else(PoisonError::into_inner);
        ready.retain(|(_, other)| !Arc::ptr_eq(other, &self.target));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ports::to_address;
    use std::net::TcpListener;

    #[test]
    fn connections_go_to_the_instances_in_turn_and_wait_for_the_first() {
        let pool = Arc::new(Pool::default());
        let listeners = [0, 1].map(|_| TcpListener::bind("127.0.0.1:0").unwrap());
        let waiting = std::thread::spawn({
            let pool = Arc::clone(&pool);
            move || pool.connect().map(drop)
        });
        let mut members: Vec<Member> = (1..)
            .zip(&listeners)
            .map(|(number, listener)| pool.add(number, to_address(listener.local_addr().unwrap())))
            .collect();
        waiting.join().unwrap().unwrap();
        let picked: Vec<u32> = (0..4).map(|_| pool.pick().unwrap().0).collect();
        assert!(picked == [1, 2, 1, 2] || picked == [2, 1, 2, 1], "{picked:?}");
        members.remove(0);
        assert_eq!((0..3).map(|_| pool.pick().unwrap().0).collect::<Vec<_>>(), [2; 3]);
        members.clear();
        assert!(pool.pick().is_none());
    }
}
