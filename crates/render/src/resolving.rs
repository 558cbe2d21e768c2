//! What is shown while versions are chosen, which can mean hundreds of requests to registries.

use crate::live::styled_bar;
use crate::{BUSY, FAINT, Output, styled, words};
use indicatif::ProgressBar;
use remote::{Exchange, Witness};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

const LINE: &str = "  {spinner} {prefix}  {wide_msg} {elapsed:>4}";

/// One line on a terminal, from the first request until this is dropped.
pub struct Resolving {
    live: Option<Arc<Line>>,
}

#[derive(Default)]
struct Line {
    bar: OnceLock<ProgressBar>,
    requests: AtomicUsize,
    is_over: AtomicBool,
}

impl Resolving {
    /// Shows nothing where lines cannot be rewritten.
    pub fn new(output: &Output) -> Self {
        Self { live: output.is_live().then(Arc::default) }
    }

    /// What has to be told of each request; otherwise `other` is.
    pub fn witness(&self, other: Option<Witness>) -> Option<Witness> {
        let Some(line) = self.live.clone() else { return other };
        Some(Arc::new(move |exchange: &Exchange| line.asked(exchange)))
    }
}

impl Line {
    fn asked(&self, _: &Exchange) {
        if self.is_over.load(Ordering::SeqCst) {
            return;
        }
        let bar = self.bar.get_or_init(|| {
            let bar = styled_bar(ProgressBar::new_spinner(), LINE);
            bar.set_prefix(styled(BUSY, "choosing versions"));
            bar
        });
        let requests = self.requests.fetch_add(1, Ordering::SeqCst) + 1;
        bar.set_message(styled(FAINT, words::count(requests, "request")));
    }
}

impl Drop for Resolving {
    fn drop(&mut self) {
        let Some(line) = &self.live else { return };
        line.is_over.store(true, Ordering::SeqCst);
        if let Some(bar) = line.bar.get() {
            bar.finish_and_clear();
        }
    }
}
