//! A token that ends work early: set once, seen by everything that was given it.
//!
//! Work that may take long looks at the token between pieces of at most a tenth of a second, and sleeps only
//! with [`Cancel::wait`].
#![forbid(unsafe_code)]

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long a wait may go on unaware of a parent that was cancelled.
const GLANCE: Duration = Duration::from_millis(50);

/// A token; its clones are the same token.
#[derive(Clone, Default)]
pub struct Cancel {
    own: Arc<Flag>,
    parent: Option<Arc<Cancel>>,
}

type Reaction = Box<dyn Fn() + Send>;

#[derive(Default)]
struct Flag {
    set: AtomicBool,
    reactions: Mutex<Vec<Reaction>>,
    changed: Condvar,
}

impl Cancel {
    /// A token that is not cancelled.
    pub fn new() -> Self {
        Self::default()
    }

    /// A token that is cancelled with this one, and can be cancelled alone.
    pub fn child(&self) -> Self {
        Self { own: Arc::default(), parent: Some(Arc::new(self.clone())) }
    }

    /// Ends everything that was given this token or a child of it.
    pub fn cancel(&self) {
        self.own.set.store(true, Ordering::SeqCst);
        // Held, so that no thread misses a change between checking the flag and waiting.
        let mut reactions = self.own.reactions.lock().unwrap_or_else(PoisonError::into_inner);
        let reactions = std::mem::take(&mut *reactions);
        self.own.changed.notify_all();
        reactions.iter().for_each(|react| react());
    }

    /// Calls `react` when this token itself is cancelled; at once, if it was.
    pub fn on_cancel(&self, react: impl Fn() + Send + 'static) {
        let mut reactions = self.own.reactions.lock().unwrap_or_else(PoisonError::into_inner);
        if self.own.set.load(Ordering::SeqCst) {
            drop(reactions);
            react();
        } else {
            reactions.push(Box::new(react));
        }
    }

    /// Whether the work should end.
    pub fn is_cancelled(&self) -> bool {
        self.own.set.load(Ordering::SeqCst)
            || self.parent.as_ref().is_some_and(|parent| parent.is_cancelled())
    }

    /// Sleeps for `duration`, or until the token is cancelled; whether it was.
    pub fn wait(&self, duration: Duration) -> bool {
        let end = Instant::now() + duration;
        let mut held = self.own.reactions.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            let left = end.saturating_duration_since(Instant::now());
            if self.is_cancelled() || left.is_zero() {
                return self.is_cancelled();
            }
            let woken = self.own.changed.wait_timeout(held, left.min(GLANCE));
            held = woken.unwrap_or_else(PoisonError::into_inner).0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_child_ends_with_its_parent_and_not_the_other_way_round() {
        let parent = Cancel::new();
        let (one, other) = (parent.child(), parent.child());
        one.cancel();
        assert!(one.is_cancelled() && !other.is_cancelled() && !parent.is_cancelled());
        parent.cancel();
        assert!(other.is_cancelled() && parent.clone().is_cancelled());
    }

    #[test]
    fn reactions_are_called_once_and_late_ones_at_once() {
        let (token, calls) = (Cancel::new(), Arc::new(std::sync::atomic::AtomicUsize::new(0)));
        let count = || {
            let calls = Arc::clone(&calls);
            move || {
                calls.fetch_add(1, Ordering::SeqCst);
            }
        };
        token.on_cancel(count());
        token.cancel();
        token.cancel();
        token.on_cancel(count());
        assert_eq!(calls.load(Ordering::SeqCst), 2);
    }

    #[test]
    fn a_wait_ends_when_the_token_is_cancelled() {
        let (token, started) = (Cancel::new(), Instant::now());
        assert!(!token.wait(Duration::from_millis(1)));
        let child = token.child();
        std::thread::scope(|scope| {
            let waiting = scope.spawn(|| child.wait(Duration::from_secs(60)));
            std::thread::sleep(Duration::from_millis(20));
            token.cancel();
            assert!(waiting.join().expect("it does not panic"));
        });
        assert!(started.elapsed() < Duration::from_secs(30));
    }
}
