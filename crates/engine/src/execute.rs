//! Works off a graph: what is ready is handed out, several steps at once, and what is done is taken in.

use crate::decide::{Finished, find, last_run};
use crate::event::{Event, PlannedStep};
use crate::queue::Queue;
use crate::reason::MissReason;
use crate::run_step::Running;
use crate::session::Session;
use crate::step_graph::StepGraph;
use content::StepKey;
use model::{Error, Result};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

/// What a step is expected to take that never ran, in milliseconds.
const UNKNOWN_COST: u64 = 1_000;

/// What a failed step means for those that do not need it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OnFailure {
    /// They are ended.
    End,
    /// They go on.
    GoOn,
}

/// Runs what has to run; gives every step that was looked up or ran, by key. The first failure ends the rest, and
/// is the one that is reported.
pub fn execute(
    graph: &StepGraph<'_>,
    wanted: &[StepKey],
    session: &Session<'_>,
) -> Result<BTreeMap<StepKey, Finished>> {
    let groups = [wanted.to_vec()];
    let mut results = execute_groups(graph, &groups, session, OnFailure::End, &|_, finished| Ok(finished));
    let only = results.pop().unwrap_or_else(|| Err(Arc::new(Error::Interrupted)));
    // With one group, there is no other reference to its failure.
    only.map_err(|failure| Arc::try_unwrap(failure).unwrap_or(Error::Interrupted))
}

/// The same for several groups of steps, which may share some: as soon as all steps of a group are finished, `ready` is called
/// with its number and with everything that led to them, by any thread. Returns the result of each group; the failure of a
/// step is that of all groups that need it.
pub fn execute_groups<T: Send>(
    graph: &StepGraph<'_>,
    groups: &[Vec<StepKey>],
    session: &Session<'_>,
    on_failure: OnFailure,
    ready: &(dyn Fn(usize, BTreeMap<StepKey, Finished>) -> Result<T> + Sync),
) -> Vec<Result<T, Arc<Error>>> {
    let wanted: Vec<StepKey> = groups.iter().flatten().copied().collect();
    let (finished, reasons) = find(graph, &wanted, session);
    announce(graph, &reasons, session);
    let cost = |key: StepKey| {
        let last = graph.graph.node(key).and_then(|node| last_run(session.store, node));
        last.map_or(UNKNOWN_COST, |last| last.milliseconds)
    };
    let queue = Queue::new(&graph.graph, &reasons.keys().copied().collect(), cost);
    let cancel = session.cancel.child();
    let running = Running {
        graph,
        reasons,
        session,
        cancel: &cancel,
        began: Instant::now(),
        finished: Mutex::new(finished),
    };
    Work { running: &running, groups, on_failure, ready }.work_off(queue)
}

/// Tells what has to run, if anything has to.
fn announce(graph: &StepGraph<'_>, reasons: &BTreeMap<StepKey, MissReason>, session: &Session<'_>) {
    let name = |key: &StepKey| graph.graph.node(*key).map(|node| node.step.name.clone());
    let steps: Vec<PlannedStep> = reasons
        .keys()
        .filter_map(|key| {
            let needs = graph.graph.needs(*key).iter().filter(|needed| reasons.contains_key(needed));
            Some(PlannedStep { step: name(key)?, after: needs.filter_map(name).collect() })
        })
        .collect();
    if !steps.is_empty() {
        (session.events)(Event::Planned { steps });
    }
}

/// What a worker is to do.
enum Job {
    Step(StepKey),
    /// All steps of a group are finished.
    Group(usize),
}

/// What a worker says of its job.
enum Report<T> {
    Step(StepKey, Result<Finished>),
    Group(usize, Result<T>),
}

/// Groups that are being worked off.
struct Work<'w, 'r, 's, T> {
    running: &'w Running<'r, 's>,
    groups: &'w [Vec<StepKey>],
    on_failure: OnFailure,
    ready: &'w (dyn Fn(usize, BTreeMap<StepKey, Finished>) -> Result<T> + Sync),
}

impl<T: Send> Work<'_, '_, '_, T> {
    /// The one loop: hands out what is ready, takes in what is done.
    fn work_off(self, mut queue: Queue<StepKey>) -> Vec<Result<T, Arc<Error>>> {
        let budget = self.running.session.budget;
        let most_steps = budget.steps().min(self.running.reasons.len());
        let workers = most_steps.max(budget.jobs().min(self.groups.len()).min(budget.steps().max(2)));
        let mut results: Vec<Option<Result<T, Arc<Error>>>> = self.groups.iter().map(|_| None).collect();
        let mut failures: Vec<(Error, BTreeSet<StepKey>)> = Vec::new();
        let mut waiting = Waiting::new(self.groups, &self.running.all_finished());
        let (jobs, taken) = channel::<Job>();
        let taken = Mutex::new(taken);
        let mut finishing = 0;
        std::thread::scope(|scope| {
            let (reports, reported) = channel::<Report<T>>();
            for _ in 0..workers {
                let reports = reports.clone();
                let (taken, work) = (&taken, &self);
                scope.spawn(move || work.worker(taken, &reports));
            }
            drop(reports);
            loop {
                // The workers live as long as this loop.
                for group in waiting.take_ready() {
                    finishing += 1;
                    let _ = jobs.send(Job::Group(group));
                }
                while queue.running() < most_steps
                    && let Some(key) = queue.take()
                {
                    let _ = jobs.send(Job::Step(key));
                }
                if queue.is_finished() && finishing == 0 {
                    break;
                }
                match reported.recv() {
                    Ok(Report::Step(key, Ok(done))) => {
                        self.running.all_finished().insert(key, done);
                        waiting.done(key);
                        queue.done(key);
                    }
                    Ok(Report::Step(key, Err(error))) => {
                        let mut lost = queue.failed(key);
                        lost.insert(key);
                        failures.push((error, lost));
                        if self.on_failure == OnFailure::End {
                            queue.stop();
                            self.running.cancel.cancel();
                        }
                    }
                    Ok(Report::Group(group, result)) => {
                        finishing -= 1;
                        if result.is_err() && self.on_failure == OnFailure::End {
                            queue.stop();
                            self.running.cancel.cancel();
                        }
                        results[group] = Some(result.map_err(Arc::new));
                    }
                    Err(_) => break,
                }
            }
            drop(jobs);
        });
        self.settle(results, failures)
    }

    /// Gives each group that has no result the failure that it met.
    fn settle(
        &self,
        results: Vec<Option<Result<T, Arc<Error>>>>,
        mut failures: Vec<(Error, BTreeSet<StepKey>)>,
    ) -> Vec<Result<T, Arc<Error>>> {
        // A step that ended because another failed says only "interrupted": the cause comes first.
        failures.sort_by_key(|(error, _)| matches!(error, Error::Interrupted));
        let failures: Vec<_> = failures.into_iter().map(|(error, lost)| (Arc::new(error), lost)).collect();
        let of = |group: &Vec<StepKey>| {
            let is_met = |lost: &BTreeSet<StepKey>| group.iter().any(|key| lost.contains(key));
            let met = failures.iter().find(|(_, lost)| is_met(lost));
            // Ended by the failure of another, it has none of its own.
            let ended = failures.first().filter(|_| self.groups.len() == 1);
            met.or(ended).map_or_else(|| Arc::new(Error::Interrupted), |(error, _)| Arc::clone(error))
        };
        let settled = results.into_iter().zip(self.groups);
        let mut settled: Vec<_> =
            settled.map(|(result, group)| result.unwrap_or_else(|| Err(of(group)))).collect();
        if let [Err(only)] = &mut settled[..] {
            let first = failures.into_iter().next().map(|(error, _)| error);
            *only = first.unwrap_or_else(|| Arc::clone(only));
        }
        settled
    }

    fn worker(&self, jobs: &Mutex<Receiver<Job>>, reports: &Sender<Report<T>>) {
        loop {
            let next = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
            let report = match next {
                Err(_) => return,
                Ok(Job::Step(key)) => Report::Step(key, self.running.step(key)),
                Ok(Job::Group(group)) => Report::Group(group, (self.ready)(group, self.finished_of(group))),
            };
            if reports.send(report).is_err() {
                return;
            }
        }
    }

    /// All that led to a group.
    fn finished_of(&self, group: usize) -> BTreeMap<StepKey, Finished> {
        let keys = self.running.graph.in_order(&self.groups[group]);
        let all = self.running.all_finished();
        keys.into_iter().filter_map(|key| Some((key, all.get(&key)?.clone()))).collect()
    }
}

/// Which groups wait for what.
struct Waiting {
    /// By step, the groups that wait for it.
    groups: BTreeMap<StepKey, Vec<usize>>,
    /// How many steps each group waits for.
    left: Vec<usize>,
    ready: Vec<usize>,
}

impl Waiting {
    fn new(groups: &[Vec<StepKey>], finished: &BTreeMap<StepKey, Finished>) -> Self {
        let mut waiting = Self { groups: BTreeMap::new(), left: Vec::new(), ready: Vec::new() };
        for (number, group) in groups.iter().enumerate() {
            let open: BTreeSet<StepKey> =
                group.iter().filter(|key| !finished.contains_key(key)).copied().collect();
            waiting.left.push(open.len());
            if open.is_empty() {
                waiting.ready.push(number);
            }
            for key in open {
                waiting.groups.entry(key).or_default().push(number);
            }
        }
        waiting
    }

    fn done(&mut self, key: StepKey) {
        for group in self.groups.remove(&key).unwrap_or_default() {
            self.left[group] -= 1;
            if self.left[group] == 0 {
                self.ready.push(group);
            }
        }
    }

    /// The groups that wait for nothing any more; each is given once.
    fn take_ready(&mut self) -> Vec<usize> {
        std::mem::take(&mut self.ready)
    }
}
