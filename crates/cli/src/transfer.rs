//! What pushing and pulling show while they work.

use crate::surroundings::Surroundings;
use images::push::Transfer;
use indicatif::{ProgressBar, ProgressStyle};
use remote::Fetcher;
use render::{FAINT, Output, styled, words};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The interval between progress events for programs.
const TELL_EVERY: Duration = Duration::from_millis(500);

/// Does `work` with a transfer whose progress is shown.
pub fn shown<T>(
    what: &str,
    fetcher: &Fetcher,
    surroundings: &Surroundings,
    output: &Output,
    work: impl FnOnce(&Transfer<'_>) -> T,
) -> T {
    let bar = output.is_live().then(ProgressBar::new_spinner);
    if let Some(bar) = &bar {
        // The template is a constant and valid.
        if let Ok(style) = ProgressStyle::with_template("  {spinner} {prefix}  {msg}  {elapsed}") {
            bar.set_style(style);
        }
        bar.set_prefix(what.to_owned());
        bar.enable_steady_tick(Duration::from_millis(100));
    }
    let told = Mutex::new(None::<Instant>);
    let progress = |done: u64, total: u64| {
        if let Some(bar) = &bar {
            bar.set_message(styled(FAINT, format!("{} of {}", words::size(done), words::size(total))));
        } else if output.is_json() {
            let mut told = told.lock().unwrap_or_else(PoisonError::into_inner);
            if done == total || told.is_none_or(|told| told.elapsed() > TELL_EVERY) {
                *told = Some(Instant::now());
                output.json_aside(&serde_json::json!({ "event": "transfer", "done": done, "total": total }));
            }
        }
    };
    let transfer = Transfer {
        store: &surroundings.store,
        fetcher,
        credentials: &surroundings.credentials,
        progress: &progress,
        cancel: &surroundings.cancel,
    };
    let done = work(&transfer);
    if let Some(bar) = bar {
        bar.finish_and_clear();
    }
    done
}
