//! A release of an app: written down, prepared, started, and made current or given up.

use super::{GRACE, LiveApp, Told, Wanted, patience, tag};
use crate::events::EventKind;
use crate::place::Settings;
use crate::protocol::Fault;
use crate::state::{Outcome, Release, ReleaseKind};
use cancel::Cancel;
use model::error::RunError;
use running::app::{Before, RunningApp, TaskEnd, check, kept_text, processes_of, run_tasks};
use std::fs;
use std::path::Path;
use std::sync::PoisonError;
use std::time::Duration;
use workshop::inspect::{OpenImage, open_index};

/// How long an instance without a port has to run to count as healthy.
const SETTLED: Duration = Duration::from_secs(1);
/// Of how many releases the logs are kept.
const LOGS_KEPT: u32 = 5;
/// How many of the last lines of an instance say why it failed.
const LAST_LINES: usize = 10;

impl LiveApp {
    /// Makes a release: tasks, new instances, and, as soon as these are healthy, the change. `told` hears what happens.
    pub fn release(&self, wanted: Wanted, cancel: &Cancel, told: Told) -> Result<(u32, Option<u16>), Fault> {
        let _changing = self.change()?;
        let number = self.state().next_number();
        *self.listener.lock().unwrap_or_else(PoisonError::into_inner) = Some((number, told));
        let released = self.release_alone(wanted, cancel);
        *self.listener.lock().unwrap_or_else(PoisonError::into_inner) = None;
        released
    }

    fn release_alone(&self, wanted: Wanted, cancel: &Cancel) -> Result<(u32, Option<u16>), Fault> {
        let image = open_index(&self.host.store, &wanted.label, wanted.image)?;
        if let Err(error) = check(&image, &wanted.way.with(&wanted.settings)) {
            return Err(match error {
                model::Error::Run(RunError::SettingsMissing { names }) => {
                    Fault::SettingsMissing { app: self.name.clone(), names }
                }
                model::Error::Run(RunError::ServiceNotBound { settings, .. }) => {
                    Fault::SettingsMissing { app: self.name.clone(), names: settings }
                }
                other => other.into(),
            });
        }
        if processes_of(&image).any(|process| process.port.is_some()) {
            let own = processes_of(&image).find_map(|process| process.port);
            self.serve(Some((wanted.port, own)))?;
        }
        let number = self.begin(&wanted, &image)?;
        match self.try_release(number, &image, wanted, cancel) {
            Ok(port) => {
                self.finish(number, Outcome::InForce)?;
                Ok((number, port))
            }
            Err((outcome, last_lines)) => {
                self.finish(number, outcome.clone())?;
                let still = self.state().current;
                if still.is_none() {
                    // There is nothing that could answer.
                    *self.served.lock().unwrap_or_else(PoisonError::into_inner) = None;
                }
                Err(Fault::NotReleased {
                    app: self.name.clone(),
                    release: number,
                    outcome,
                    last_lines,
                    still,
                })
            }
        }
    }

    /// Writes the release down, before anything of it happens.
    fn begin(&self, wanted: &Wanted, image: &OpenImage) -> Result<u32, Fault> {
        let changed = self.changed(image);
        let number = {
            let mut state = self.state();
            let number = state.next_number();
            state.releases.push(Release {
                number,
                kind: wanted.kind.clone(),
                image: wanted.image,
                label: wanted.label.clone(),
                commit: image.record.revision.as_ref().map(|revision| revision.commit.clone()),
                who: wanted.who.clone(),
                way: wanted.way.clone(),
                at: jiff::Timestamp::now().as_second(),
                changed,
                outcome: Outcome::Starting,
            });
            number
        };
        self.keep()?;
        self.yard.keep_settings(&self.name, Some(number), &wanted.settings)?;
        // As long as it has a name, the image stays in the store.
        let name = self.host.store.image_path(&self.name, &tag(number));
        self.host.store.write_document(&name, &wanted.image).map_err(model::Error::from)?;
        self.note(EventKind::ReleaseBegun { release: number, what: wanted.kind.clone() });
        Ok(number)
    }

    /// The steps whose layers differ from the current release.
    fn changed(&self, image: &OpenImage) -> Vec<String> {
        let in_force = self.state().release_in_force().cloned();
        let Some(before) = in_force.and_then(|release| self.image(&release).ok()) else { return Vec::new() };
        let old: Vec<_> = before.record.layers.iter().map(|layer| layer.digest).collect();
        let layers = image.record.layers.iter();
        layers.filter(|layer| !old.contains(&layer.digest)).map(|layer| layer.step.clone()).collect()
    }

    fn try_release(
        &self,
        number: u32,
        image: &OpenImage,
        wanted: Wanted,
        cancel: &Cancel,
    ) -> Result<Option<u16>, (Outcome, Vec<String>)> {
        let of_error = |error: model::Error| (Outcome::Refused { detail: error.to_string() }, Vec::new());
        running::data::fill(&self.host.store, image, &self.yard.data(&self.name)).map_err(of_error)?;
        // What was current before had the tasks of its release run then.
        let before = if wanted.kind == ReleaseKind::Image { Before::Release } else { Before::Start };
        self.prepare(number, image, before, &wanted.settings, cancel)?;
        let app = self.start_healthy(image, number, wanted.settings)?;
        self.put_in_force(number, image, app);
        Ok(self.state().port)
    }

    /// Runs the tasks before a start.
    pub(super) fn prepare(
        &self,
        number: u32,
        image: &OpenImage,
        before: Before,
        settings: &Settings,
        cancel: &Cancel,
    ) -> Result<(), (Outcome, Vec<String>)> {
        let how = self.how(number, settings);
        match run_tasks(&self.host.store, image, before, &how, cancel, &self.tell(number)) {
            Ok(None) => Ok(()),
            Ok(Some(TaskEnd { task, how })) => {
                let lines = self.last_lines(number, &task);
                Err((Outcome::TaskFailed { task, how }, lines))
            }
            Err(error) => Err((Outcome::Refused { detail: error.to_string() }, Vec::new())),
        }
    }

    fn finish(&self, number: u32, outcome: Outcome) -> Result<(), Fault> {
        {
            let mut state = self.state();
            if outcome == Outcome::InForce {
                state.current = Some(number);
            }
            if let Some(release) = state.releases.iter_mut().find(|release| release.number == number) {
                release.outcome = outcome.clone();
            }
        }
        self.keep()?;
        self.note(EventKind::ReleaseEnded { release: number, outcome });
        let too_old = self.yard.logs(&self.name, number.saturating_sub(LOGS_KEPT));
        // Logs that cannot be removed only take room.
        let _ = fs::remove_dir_all(too_old);
        Ok(())
    }

    /// The last lines that an instance or task of a release wrote.
    fn last_lines(&self, number: u32, instance: &str) -> Vec<String> {
        let file = self.yard.logs(&self.name, number).join(format!("{instance}.log"));
        last_lines(&file)
    }

    /// Starts instances, and waits until they are healthy; those that do not get there are ended.
    pub(super) fn start_healthy(
        &self,
        image: &OpenImage,
        number: u32,
        settings: Settings,
    ) -> Result<RunningApp, (Outcome, Vec<String>)> {
        let app = self
            .start(image, number, settings)
            .map_err(|error| (Outcome::Refused { detail: error.to_string() }, Vec::new()))?;
        let Some(status) = app.wait_until_healthy(SETTLED, patience(image)) else { return Ok(app) };
        app.stop(GRACE);
        let instance = status.name.to_string();
        let lines = self.last_lines(number, &instance);
        Err((Outcome::NotHealthy { instance, state: status.state }, lines))
    }
}

/// The last lines of a log, without their times; where it cannot be read, why.
fn last_lines(file: &Path) -> Vec<String> {
    let text = match kept_text(file) {
        Ok(text) => text,
        Err(error) => return vec![format!("{}: {error}", file.display())],
    };
    let all: Vec<&str> = text.lines().collect();
    let from = all.len().saturating_sub(LAST_LINES);
    let without_time = |line: &&str| line.split_once(' ').map_or("", |(_, text)| text).to_owned();
    all[from..].iter().map(without_time).collect()
}
