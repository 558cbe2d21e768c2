//! What is shown while a town is worked on: hundreds of apps on one screen.

use crate::events::line;
use crate::live::{self, RUNNING, TOTAL, styled_bar};
use crate::{BAD, BUSY, FAINT, GOOD, Output, STRONG, styled, words};
use engine::Event;
use indicatif::{MultiProgress, ProgressBar};
use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use town::build::{Outcome, Progress};

/// Shows a build of a town.
pub struct TownView<'o> {
    output: &'o Output,
    count: usize,
    state: Mutex<State>,
    live: Option<(MultiProgress, ProgressBar)>,
}

#[derive(Default)]
struct State {
    planned: usize,
    built: usize,
    failed: usize,
    steps: usize,
    running: BTreeMap<String, ProgressBar>,
}

impl<'o> TownView<'o> {
    /// Shows the build of so many apps on an output.
    pub fn new(count: usize, output: &'o Output) -> Self {
        let live = output.is_live().then(|| {
            let all = MultiProgress::new();
            let total = styled_bar(all.add(ProgressBar::new(count as u64)), TOTAL);
            (all, total)
        });
        Self { output, count, state: Mutex::default(), live }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// An event of a step.
    pub fn event(&self, event: &Event) {
        if self.output.is_json() {
            if !matches!(event, Event::Planned { .. } | Event::Found { .. }) {
                self.output.json_aside(event);
            }
            return;
        }
        match event {
            Event::Started { app, step, because, .. } => {
                if let Some((all, total)) = &self.live {
                    let bar = styled_bar(all.insert_before(total, ProgressBar::new_spinner()), RUNNING);
                    bar.set_prefix(format!("{} {}", styled(STRONG, app), styled(BUSY, step)));
                    bar.set_message(styled(FAINT, words::reason(because)));
                    self.state().running.insert(format!("{app} {step}"), bar);
                }
            }
            Event::Progress { app, step, done, total } => {
                if let Some(bar) = self.state().running.get(&format!("{app} {step}")) {
                    live::count(bar, *done, *total);
                }
            }
            Event::Finished { app, step, .. } => {
                let mut state = self.state();
                state.steps += 1;
                if let Some(bar) = state.running.remove(&format!("{app} {step}")) {
                    bar.finish_and_clear();
                }
            }
            Event::Damaged { .. } => self.say(line(event).unwrap_or_default()),
            // Notes are counted with their app.
            Event::Planned { .. } | Event::Note { .. } | Event::Found { .. } | Event::Shared { .. } => {}
        }
        self.show_total();
    }

    /// An app is planned, or done.
    pub fn progress(&self, progress: &Progress<'_>) {
        match progress {
            Progress::Planned(_) => self.state().planned += 1,
            Progress::Done(outcome) => {
                {
                    let mut state = self.state();
                    match outcome.result {
                        Ok(_) => state.built += 1,
                        Err(_) => state.failed += 1,
                    }
                }
                self.done(outcome);
            }
        }
        self.show_total();
    }

    /// One line for an app whose image is new. Failures are reported with their causes, at the end.
    fn done(&self, outcome: &Outcome) {
        let Ok(built) = &outcome.result else { return };
        if self.output.is_json() || built.before == Some(built.digest) {
            return;
        }
        let ran = built.outcomes.iter().filter(|step| step.because.is_some()).count();
        self.say(format!(
            "{}  {}, {} ran, {}",
            styled(STRONG, &outcome.app.name),
            styled(GOOD, "built"),
            words::count(ran, "step"),
            words::duration(built.milliseconds)
        ));
    }

    fn say(&self, text: String) {
        match &self.live {
            // It cannot fail in a way that matters: the summary says it again.
            Some((all, _)) => drop(all.println(text)),
            None => self.output.aside(text),
        }
    }

    fn show_total(&self) {
        let Some((_, total)) = &self.live else { return };
        let state = self.state();
        total.set_position((state.built + state.failed) as u64);
        let mut parts = vec![match state.built + state.failed {
            0 => format!("{} of {} planned", state.planned, words::count(self.count, "app")),
            done => format!("{done} of {} done", words::count(self.count, "app")),
        }];
        parts.push(format!("{} ran", words::count(state.steps, "step")));
        if state.failed > 0 {
            parts.push(styled(BAD, format!("{} failed", state.failed)));
        }
        total.set_message(parts.join(", "));
    }
}

impl Drop for TownView<'_> {
    fn drop(&mut self) {
        if let Some((all, total)) = &self.live {
            total.finish_and_clear();
            // A terminal that is gone needs no clearing.
            let _ = all.clear();
        }
    }
}
