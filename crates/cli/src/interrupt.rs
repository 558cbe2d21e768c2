//! Ctrl-C and SIGTERM.

use crate::error::Failure;
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// A flag that the first signal sets; the second ends the program at once.
pub fn flag() -> Result<Arc<AtomicBool>, Failure> {
    let flag = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM] {
        signal_hook::flag::register_conditional_shutdown(signal, 130, Arc::clone(&flag))?;
        signal_hook::flag::register(signal, Arc::clone(&flag))?;
    }
    Ok(flag)
}

/// What happens to a process when this program is told to end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// It is asked to end.
    Asked,
    /// It is ended: it was asked before, and is asked again or did not end in time.
    Forced,
}

/// Calls `react` when this program is told to end, on a thread of its own: first with
/// [`Ending::Asked`], then, after a second signal or after `patience`, with [`Ending::Forced`].
/// The flag is set before the first call.
pub fn on_signal(
    patience: Duration,
    react: impl Fn(Ending) + Send + 'static,
) -> Result<Arc<AtomicBool>, Failure> {
    let flag = Arc::new(AtomicBool::new(false));
    let mut signals = Signals::new([SIGINT, SIGTERM])?;
    let set = Arc::clone(&flag);
    let (tell, told) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for _ in signals.forever() {
            set.store(true, Ordering::SeqCst);
            if tell.send(()).is_err() {
                break;
            }
        }
    });
    std::thread::spawn(move || {
        if told.recv().is_ok() {
            react(Ending::Asked);
            // A second signal and the end of patience mean the same.
            let _ = told.recv_timeout(patience);
            react(Ending::Forced);
        }
    });
    Ok(flag)
}
