//! Lines of a terminal that are rewritten while steps run: one for each running step, and one for the total.

use crate::{BUSY, FAINT, styled, words};
use engine::{Event, PlannedStep};
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How often spinners move and times change.
const TICK: Duration = Duration::from_millis(120);
/// Names of steps are padded to the longest one, up to this width.
const WIDEST_NAME: usize = 28;

/// A line that never wraps: what does not fit is cut.
pub(crate) fn styled_bar(bar: ProgressBar, template: &str) -> ProgressBar {
    // Templates are constants and valid.
    let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
    bar.set_style(style.progress_chars("━╸─"));
    bar.enable_steady_tick(TICK);
    bar
}

/// A running step.
pub(crate) const RUNNING: &str = "  {spinner} {prefix}  {wide_msg} {elapsed:>4}";
/// A running step whose items are counted.
pub(crate) const COUNTED: &str = "  {spinner} {prefix}  {bar:10} {wide_msg} {elapsed:>4}";
/// All steps together.
pub(crate) const TOTAL: &str = "  {bar:12} {wide_msg} {elapsed:>4}";

/// The lines of a build.
pub(crate) struct Live {
    all: MultiProgress,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    running: BTreeMap<String, ProgressBar>,
    /// What has not begun, with what it waits for.
    waiting: BTreeMap<String, BTreeSet<String>>,
    total: Option<ProgressBar>,
    done: usize,
    planned: usize,
    width: usize,
}

impl Live {
    pub(crate) fn new() -> Self {
        Self { all: MultiProgress::new(), state: Mutex::default() }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn show(&self, event: &Event, line: Option<String>) {
        let mut state = self.state();
        match event {
            Event::Planned { steps, .. } => self.plan(&mut state, steps),
            Event::Started { step, because, .. } => {
                state.waiting.remove(step);
                let bar = match &state.total {
                    Some(total) => self.all.insert_before(total, ProgressBar::new_spinner()),
                    None => self.all.add(ProgressBar::new_spinner()),
                };
                let bar = styled_bar(bar, RUNNING);
                bar.set_prefix(styled(BUSY, format!("{step:<width$}", width = state.width)));
                bar.set_message(styled(FAINT, words::reason(because)));
                state.running.insert(step.clone(), bar);
            }
            Event::Progress { step, done, total, .. } => {
                if let Some(bar) = state.running.get(step) {
                    count(bar, *done, *total);
                }
            }
            Event::Finished { step, .. } => {
                if let Some(bar) = state.running.remove(step) {
                    bar.finish_and_clear();
                }
                state.done += 1;
                if state.done >= state.planned {
                    // The result may be printed before this is dropped.
                    state.total.take().inspect(ProgressBar::finish_and_clear);
                }
                for needs in state.waiting.values_mut() {
                    needs.remove(step);
                }
            }
            Event::Note { .. } | Event::Damaged { .. } => {
                // It cannot fail in a way that matters: the note is in the ledger too.
                let _ = self.all.println(line.unwrap_or_default());
            }
            Event::Found { .. } | Event::Shared { .. } => {}
        }
        state.show_total();
    }

    fn plan(&self, state: &mut State, steps: &[PlannedStep]) {
        state.planned += steps.len();
        let widest = steps.iter().map(|planned| planned.step.chars().count()).max().unwrap_or_default();
        state.width = state.width.max(widest.min(WIDEST_NAME));
        let waiting =
            steps.iter().map(|planned| (planned.step.clone(), planned.after.iter().cloned().collect()));
        state.waiting.extend(waiting);
        // With a single step, its own line says everything.
        if state.planned > 1 && state.total.is_none() {
            state.total = Some(styled_bar(self.all.add(ProgressBar::new(0)), TOTAL));
        }
    }
}

/// Shows how many items of a step are done.
pub(crate) fn count(bar: &ProgressBar, done: usize, total: usize) {
    if bar.length() != Some(total as u64) {
        bar.set_length(total as u64);
        let _ = styled_bar(bar.clone(), COUNTED);
    }
    bar.set_position(done as u64);
    bar.set_message(styled(FAINT, format!("{done} of {total}")));
}

impl State {
    fn show_total(&self) {
        let Some(total) = &self.total else { return };
        total.set_length(self.planned as u64);
        total.set_position(self.done as u64);
        let mut message = format!("{} of {} done", self.done, words::count(self.planned, "step"));
        if let Some((step, needs)) = self.waiting.iter().find(|(_, needs)| !needs.is_empty()) {
            let names: Vec<&str> = needs.iter().map(String::as_str).collect();
            let others = match self.waiting.len() {
                1 => String::new(),
                count => format!(", {} more wait", count - 1),
            };
            message.push_str(&styled(FAINT, format!("  {step} waits for {}{others}", names.join(", "))));
        }
        total.set_message(message);
    }
}

impl Drop for Live {
    fn drop(&mut self) {
        // The lines are only for the time of the build. A terminal that is gone needs no clearing.
        let _ = self.all.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn planned(step: &str, after: &[&str]) -> PlannedStep {
        PlannedStep { step: step.to_owned(), after: after.iter().map(|name| (*name).to_owned()).collect() }
    }

    #[test]
    fn the_total_says_what_waits_for_what() {
        let live = Live {
            all: MultiProgress::with_draw_target(indicatif::ProgressDrawTarget::hidden()),
            state: Mutex::default(),
        };
        let steps =
            vec![planned("base", &[]), planned("packages", &["base"]), planned("pages", &["packages"])];
        live.show(&Event::Planned { steps }, None);
        let message = || live.state().total.as_ref().map(ProgressBar::message).unwrap_or_default();
        let plain = |text: String| anstream::adapter::strip_str(&text).to_string();
        assert_eq!(plain(message()), "0 of 3 steps done  packages waits for base, 2 more wait");
        let app = "quay".to_owned();
        let finished = |step: &str| Event::Finished {
            app: app.clone(),
            step: step.to_owned(),
            role: model::Role::Base,
            size: 1,
            milliseconds: 1,
        };
        live.show(&finished("base"), None);
        assert_eq!(plain(message()), "1 of 3 steps done  pages waits for packages, 2 more wait");
    }
}
