//! Runs the steps whose results are not in the store, several at once, and tells what happens.

use crate::event::{Event, StepOutcome};
use crate::queue::Queue;
use crate::reason::{LastRun, MadeFrom, MissReason, compare};
use crate::session::Session;
use crate::step::{Fetches, Produced, StepContext};
use crate::step_graph::{Node, StepGraph};
use cancel::Cancel;
use content::StepKey;
use content::layer::LayerWriter;
use content::store::{Store, Stored};
use gateway::Gateway;
use model::fetched::FetchedSet;
use model::{Error, Result};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How often progress is told at most.
const PROGRESS_EVERY: Duration = Duration::from_millis(100);
/// What a step is expected to take that never ran, in milliseconds.
const UNKNOWN_COST: u64 = 1_000;

/// A step whose result was looked up: the result, or why there is none.
pub type Decision = Result<Produced, MissReason>;

/// What was found out of a graph before anything runs, by key. Steps that only such steps need whose results are
/// there were not looked at.
pub type Decisions = BTreeMap<StepKey, Decision>;

/// A finished step.
pub struct Finished {
    /// How it fared.
    pub outcome: StepOutcome,
    /// What it left behind.
    pub produced: Produced,
    /// What its programs fetched, where that was recorded.
    pub fetched: Option<FetchedSet>,
}

/// Looks up what is in the store of all that `wanted` needs.
pub fn decide(store: &Store, graph: &StepGraph<'_>, wanted: &[StepKey]) -> Decisions {
    let mut decisions = Decisions::new();
    graph.graph.missing(wanted, |key| {
        let Some(node) = graph.graph.node(key) else { return true };
        let decision = decide_one(store, graph, key, node);
        let is_there = decision.is_ok();
        decisions.insert(key, decision);
        is_there
    });
    decisions
}

fn decide_one(store: &Store, graph: &StepGraph<'_>, key: StepKey, node: &Node<'_>) -> Decision {
    if node.step.fetches.as_ref().is_some_and(|fetches| fetches.records) {
        return Err(MissReason::NothingPinned);
    }
    let is_damaged = match store.read_document::<Produced>(&store.step_path(key)) {
        Stored::Whole(result) => {
            let there = store.blob_size(result.layer.digest).is_some();
            if there && store.has_verified(result.layer.digest, result.layer.size) {
                return Ok(result);
            }
            there
        }
        Stored::Missing => false,
        Stored::Damaged => true,
    };
    if is_damaged {
        return Err(MissReason::ResultDamaged);
    }
    Err(compare(last_run(store, node).as_ref(), &made_from(graph, key, node)))
}

fn last_run(store: &Store, node: &Node<'_>) -> Option<LastRun> {
    store.read_document(&last_path(store, node)).whole()
}

fn last_path(store: &Store, node: &Node<'_>) -> PathBuf {
    let name = format!("{}.json", node.step.name.replace(['/', ' '], "-"));
    store.ledger_path(node.app).join("inputs").join(name)
}

/// Runs what has to run; gives every step that was looked up or ran, by key. The first failure ends the rest, and
/// is the one that is reported.
pub fn execute(
    graph: &StepGraph<'_>,
    wanted: &[StepKey],
    session: &Session<'_>,
) -> Result<BTreeMap<StepKey, Finished>> {
    let mut finished = BTreeMap::new();
    let mut reasons = BTreeMap::new();
    let mut decisions = decide(session.store, graph, wanted);
    for key in graph.in_order(wanted) {
        let (Some(node), Some(decision)) = (graph.graph.node(key), decisions.remove(&key)) else { continue };
        match decision {
            Ok(produced) => {
                finished.insert(key, found(key, node, produced, session));
            }
            Err(because) => {
                reasons.insert(key, because);
            }
        }
    }
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
    running.work_off(queue)
}

/// Keeps the result of a step that recorded what its programs fetch as that of the step `key`, which has the record
/// pinned.
pub fn keep_as(store: &Store, graph: &StepGraph<'_>, key: StepKey, recorded: &Finished) -> Result<()> {
    match graph.graph.node(key) {
        Some(node) => keep(store, graph, (key, node), &recorded.produced, recorded.outcome.milliseconds),
        None => Ok(()),
    }
}

/// What a step is made from.
fn made_from<'n>(graph: &StepGraph<'_>, key: StepKey, node: &'n Node<'_>) -> MadeFrom<'n> {
    let named = |need: &StepKey| Some((graph.graph.node(*need)?.step.name.clone(), *need));
    let needs = graph.graph.needs(key).iter().filter_map(named).collect();
    MadeFrom { key, inputs: &node.inputs, target: node.target, needs }
}

fn keep(
    store: &Store,
    graph: &StepGraph<'_>,
    (key, node): (StepKey, &Node<'_>),
    produced: &Produced,
    milliseconds: u64,
) -> Result<()> {
    store.write_document(&store.step_path(key), produced)?;
    let made_from = made_from(graph, key, node);
    Ok(store.write_document(&last_path(store, node), &LastRun::of(&made_from, milliseconds))?)
}

/// A graph that is being worked off.
struct Running<'r, 's> {
    graph: &'r StepGraph<'s>,
    reasons: BTreeMap<StepKey, MissReason>,
    session: &'r Session<'r>,
    cancel: &'r Cancel,
    began: Instant,
    finished: Mutex<BTreeMap<StepKey, Finished>>,
}

/// What a worker says of the step that it was given.
type Report = (StepKey, Result<Finished>);

impl Running<'_, '_> {
    /// The one loop: hands out what is ready, takes in what is done.
    fn work_off(self, mut queue: Queue<StepKey>) -> Result<BTreeMap<StepKey, Finished>> {
        let workers = self.session.budget.steps().min(self.reasons.len());
        let mut failures = Vec::new();
        let (jobs, taken) = channel::<StepKey>();
        let taken = Mutex::new(taken);
        std::thread::scope(|scope| {
            let (reports, reported) = channel::<Report>();
            for _ in 0..workers {
                let reports = reports.clone();
                let (taken, running) = (&taken, &self);
                scope.spawn(move || running.worker(taken, &reports));
            }
            drop(reports);
            while !queue.is_finished() {
                while queue.running() < workers
                    && let Some(key) = queue.take()
                {
                    // The workers live as long as this loop.
                    let _ = jobs.send(key);
                }
                let Ok((key, result)) = reported.recv() else { break };
                match result {
                    Ok(done) => {
                        self.all_finished().insert(key, done);
                        queue.done(key);
                    }
                    Err(error) => {
                        failures.push(error);
                        queue.failed(key);
                        queue.stop();
                        self.cancel.cancel();
                    }
                }
            }
            drop(jobs);
        });
        // A step that ended because another failed says only "interrupted": the cause comes first.
        failures.sort_by_key(|error| matches!(error, Error::Interrupted));
        match failures.into_iter().next() {
            Some(first) => Err(first),
            None => Ok(self.finished.into_inner().unwrap_or_else(PoisonError::into_inner)),
        }
    }

    fn all_finished(&self) -> std::sync::MutexGuard<'_, BTreeMap<StepKey, Finished>> {
        self.finished.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn worker(&self, jobs: &Mutex<Receiver<StepKey>>, reports: &Sender<Report>) {
        loop {
            let next = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
            let Ok(key) = next else { return };
            if reports.send((key, self.step(key))).is_err() {
                return;
            }
        }
    }

    fn step(&self, key: StepKey) -> Result<Finished> {
        let (Some(node), Some(because)) = (self.graph.graph.node(key), self.reasons.get(&key)) else {
            return Err(Error::Interrupted);
        };
        if self.cancel.is_cancelled() {
            return Err(Error::Interrupted);
        }
        let needed = {
            let all = self.all_finished();
            let produced = |need| all.get(need).map(|done: &Finished| done.produced.clone());
            self.graph.graph.needs(key).iter().filter_map(produced).collect::<Vec<_>>()
        };
        // One of 256 locks by key: another process that runs the same step is waited for.
        let _turn = self.session.store.lock(&format!("step-{}", &key.hex()[..2]))?;
        match decide_one(self.session.store, self.graph, key, node) {
            Ok(produced) => Ok(found(key, node, produced, self.session)),
            Err(_) => self.run(key, node, because, &needed),
        }
    }

    fn run(
        &self,
        key: StepKey,
        node: &Node<'_>,
        because: &MissReason,
        needed: &[Produced],
    ) -> Result<Finished> {
        let (root, read) = needed.split_at(node.step.root.len().min(needed.len()));
        let Session { store, fetcher, budget, events, limits, failed_root, .. } = *self.session;
        let (app, step, role) = (node.app.to_owned(), node.step.name.clone(), node.step.role);
        events(Event::Started { app: app.clone(), step: step.clone(), role, because: because.clone() });
        let started = Instant::now();
        let began = u64::try_from(started.duration_since(self.began).as_millis()).unwrap_or(u64::MAX);
        let last_told = Mutex::new(started);
        let progress = |done: usize, total: usize| {
            let mut last = last_told.lock().unwrap_or_else(PoisonError::into_inner);
            if last.elapsed() > PROGRESS_EVERY || done == total {
                *last = Instant::now();
                events(Event::Progress { app: app.clone(), step: step.clone(), done, total });
            }
        };
        let fetches = node.step.fetches.as_ref();
        let gateway = fetches.map(|fetches| {
            let Fetches { sources, pinned, records, .. } = fetches;
            Gateway::new(fetcher, store, sources.clone(), pinned, *records, limits.written)
        });
        let cx = StepContext {
            app: node.app,
            step: &node.step.name,
            fetcher,
            budget,
            root,
            read,
            note: &|text| events(Event::Note { text: format!("{}: {text}", node.step.name) }),
            progress: &progress,
            limits,
            gateway: gateway.as_ref(),
            failed_root,
            cancel: self.cancel,
        };
        let mut layer = LayerWriter::new(store, node.target.codec, budget.compressors())?;
        let packages = node.step.action.run(&mut layer, &cx)?;
        cx.check_cancelled()?;
        let produced = Produced { layer: layer.finish()?, packages };
        let milliseconds = u64::try_from(started.elapsed().as_millis()).unwrap_or(u64::MAX);
        let recording = fetches.filter(|fetches| fetches.records);
        let fetched =
            recording.zip(gateway.as_ref()).map(|(fetches, gateway)| gateway.recorded(&fetches.asked));
        if fetched.is_none() {
            keep(store, self.graph, (key, node), &produced, milliseconds)?;
        }
        events(Event::Finished { app, step: step.clone(), role, size: produced.layer.size, milliseconds });
        let outcome = StepOutcome { step, role, key, because: Some(because.clone()), began, milliseconds };
        Ok(Finished { outcome, produced, fetched })
    }
}

fn found(key: StepKey, node: &Node<'_>, produced: Produced, session: &Session<'_>) -> Finished {
    let (app, step, role) = (node.app.to_owned(), node.step.name.clone(), node.step.role);
    (session.events)(Event::Found { app, step: step.clone(), role, size: produced.layer.size });
    let outcome = StepOutcome { step, role, key, because: None, began: 0, milliseconds: 0 };
    Finished { outcome, produced, fetched: None }
}
