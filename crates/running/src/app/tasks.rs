//! Tasks that run before an app is started.

use super::output::{pass_on, pipes};
use super::state::{End, InstanceName, Tell, What};
use super::{AppStart, State};
use crate::image::{self, Data, PortUse, Start};
use cancel::Cancel;
use content::store::Store;
use model::process::moments;
use model::{PathFacts, ProcessKind, Result};
use std::fs;
use std::time::Duration;
use workshop::inspect::OpenImage;

/// How often it is looked whether a task is to be ended.
const GLANCE: Duration = Duration::from_millis(50);

/// How a task ended that did not do its work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TaskEnd {
    /// The task.
    pub task: String,
    /// How it ended.
    pub how: End,
}

/// What tasks come before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Before {
    /// The first start of a release.
    Release,
    /// Another start of it.
    Start,
}

/// Runs the tasks that come before a start, one after the other; gives the first that fails. A cancelled task is killed.
pub fn run_tasks(
    store: &Store,
    image: &OpenImage,
    before: Before,
    how: &AppStart,
    cancel: &Cancel,
    tell: &Tell,
) -> Result<Option<TaskEnd>> {
    fs::create_dir_all(&how.logs).facts(&how.logs)?;
    let at = |moment: &'static str| {
        let tasks = image.record.processes.iter().filter(|process| process.kind == ProcessKind::Task);
        tasks.filter(move |task| task.before.as_deref() == Some(moment))
    };
    let of_release = at(moments::RELEASE).filter(|_| before == Before::Release);
    for task in of_release.chain(at(moments::START)) {
        let end = run_task(store, image, &task.name, how, cancel, tell)?;
        if end != (End::Exit { status: 0 }) {
            return Ok(Some(TaskEnd { task: task.name.clone(), how: end }));
        }
    }
    Ok(None)
}

fn run_task(
    store: &Store,
    image: &OpenImage,
    task: &str,
    how: &AppStart,
    cancel: &Cancel,
    tell: &Tell,
) -> Result<End> {
    let name = InstanceName::of_task(task);
    tell(&name, &What::State(State::Starting));
    let start = Start {
        settings: how.settings.clone(),
        port: PortUse::Kept(None),
        on_host_network: how.on_host_network,
        ways: how.ways.clone(),
        data: Data::Shared(how.data.clone()),
        ..Start::within(how.limits)
    };
    let (written, io) = pipes()?;
    let mut launched = image::start(store, image, Some(task), start, io)?;
    let log = how.logs.join(format!("{task}.log"));
    let ended = std::thread::scope(|scope| {
        scope.spawn(|| pass_on(written, &log, &name, tell));
        while !launched.process().ends_within(GLANCE) {
            if cancel.is_cancelled() {
                launched.process().kill();
            }
        }
        launched.process().wait()
    });
    let end = End::from(ended?);
    if end == (End::Exit { status: 0 }) {
        tell(&name, &What::State(State::Stopped));
    }
    Ok(end)
}
