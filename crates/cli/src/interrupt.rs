//! Ctrl-C and SIGTERM.

use cancel::Cancel;
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use wording::{Failure, INTERRUPTED};

/// How long work may take to end by itself.
const PATIENCE: Duration = Duration::from_millis(400);

/// Cancels `token` at the first signal. Work that does not end by itself soon after, or a second signal, ends the
/// program: nothing that it writes is visible before it is whole, and what runs in the sandbox ends with it.
pub fn cancels(token: &Cancel) -> Result<(), Failure> {
    let mut signals = Signals::new([SIGINT, SIGTERM])?;
    let (tell, told) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for _ in signals.forever() {
            if tell.send(()).is_err() {
                break;
            }
        }
    });
    let token = token.clone();
    std::thread::spawn(move || {
        if told.recv().is_ok() {
            token.cancel();
            // A second signal and the end of patience mean the same.
            let _ = told.recv_timeout(PATIENCE);
            std::process::exit(i32::from(INTERRUPTED));
        }
    });
    Ok(())
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
