//! Ctrl-C and SIGTERM.

use crate::error::Failure;
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A flag that the first signal sets; the second ends the program at once.
pub fn flag() -> Result<Arc<AtomicBool>, Failure> {
    let flag = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM] {
        signal_hook::flag::register_conditional_shutdown(signal, 130, Arc::clone(&flag))?;
        signal_hook::flag::register(signal, Arc::clone(&flag))?;
    }
    Ok(flag)
}

/// Calls `react` for every signal, on a thread of its own, with the flag set before.
pub fn on_signal(react: impl Fn(u8) + Send + 'static) -> Result<Arc<AtomicBool>, Failure> {
    let flag = Arc::new(AtomicBool::new(false));
    let mut signals = Signals::new([SIGINT, SIGTERM])?;
    let set = Arc::clone(&flag);
    std::thread::spawn(move || {
        for signal in signals.forever() {
            set.store(true, Ordering::SeqCst);
            react(u8::try_from(signal).unwrap_or_default());
        }
    });
    Ok(flag)
}
