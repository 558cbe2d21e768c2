//! Work on many items at once, inside one step.

use crate::StepContext;
use model::{Error, Result};
use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// Does `work` for every item on several threads; the first error ends it.
pub fn each_in_parallel<T: Sync>(
    items: &[T],
    cx: &StepContext<'_>,
    work: impl Fn(&T) -> Result<()> + Sync,
) -> Result<()> {
    on_threads(items, cx, cx.budget.jobs(), work)
}

/// As [`each_in_parallel`], for work that mostly waits for answers: on more threads. What it does with an
/// answer has to go through a gate of the budget.
pub fn each_fetched<T: Sync>(
    items: &[T],
    cx: &StepContext<'_>,
    work: impl Fn(&T) -> Result<()> + Sync,
) -> Result<()> {
    on_threads(items, cx, cx.budget.fetches(), work)
}

fn on_threads<T: Sync>(
    items: &[T],
    cx: &StepContext<'_>,
    threads: usize,
    work: impl Fn(&T) -> Result<()> + Sync,
) -> Result<()> {
    let (done, failed) = (AtomicUsize::new(0), AtomicBool::new(false));
    let errors = Mutex::new(Vec::new());
    run_indexed(items.len(), threads, |index| {
        if failed.load(Ordering::Relaxed) {
            return;
        }
        match cx.check_cancelled().and_then(|()| work(&items[index])) {
            Ok(()) => (cx.progress)(done.fetch_add(1, Ordering::Relaxed) + 1, items.len()),
            Err(error) => {
                failed.store(true, Ordering::Relaxed);
                errors.lock().unwrap_or_else(PoisonError::into_inner).push((index, error));
            }
        }
    });
    let mut errors = errors.into_inner().unwrap_or_else(PoisonError::into_inner);
    // An item that ended because of another's failure says only "interrupted": the cause comes first.
    errors.sort_by_key(|(index, error)| (matches!(error, Error::Interrupted), *index));
    errors.into_iter().next().map_or(Ok(()), |(_, error)| Err(error))
}

/// What `find` finds for the items, on several threads, in order; nothing when it was interrupted.
pub fn find_in_parallel<T: Sync, F: Ord + Send>(
    items: &[T],
    cx: &StepContext<'_>,
    find: impl Fn(&T) -> Option<F> + Sync,
) -> Vec<F> {
    let found = Mutex::new(BTreeSet::new());
    let done = each_in_parallel(items, cx, |item| {
        if let Some(one) = find(item) {
            found.lock().unwrap_or_else(PoisonError::into_inner).insert(one);
        }
        Ok(())
    });
    let found = found.into_inner().unwrap_or_else(PoisonError::into_inner);
    if done.is_ok() { found.into_iter().collect() } else { Vec::new() }
}

/// Calls `work` with 0 to `count` − 1, from up to `threads` threads. A panic goes on in the caller.
pub fn run_indexed(count: usize, threads: usize, work: impl Fn(usize) + Sync) {
    let next = AtomicUsize::new(0);
    let take = || {
        loop {
            let index = next.fetch_add(1, Ordering::Relaxed);
            if index >= count {
                break;
            }
            work(index);
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..threads.clamp(1, count.max(1)) {
            scope.spawn(take);
        }
        take();
    });
}
