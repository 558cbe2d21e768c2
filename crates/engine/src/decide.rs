//! What the store has of the step results, and why there is none where it has none.

use crate::event::{Event, StepOutcome};
use crate::parallel::run_indexed;
use crate::reason::{LastRun, MadeFrom, MissReason, compare};
use crate::session::Session;
use crate::step::Produced;
use crate::step_graph::{Node, StepGraph};
use content::StepKey;
use content::store::{Store, Stored};
use model::Result;
use model::fetched::FetchedSet;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

/// A step whose result was looked up: the result, or why there is none.
pub type Decision = Result<Produced, MissReason>;

/// What was found out of a graph before anything runs, by key. Steps that only such steps need whose results are
/// there were not looked at.
pub type Decisions = BTreeMap<StepKey, Decision>;

/// A finished step.
#[derive(Clone)]
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

/// What is known of the steps that lead to what is wanted: those that are finished, and why the others have to run.
pub(crate) type Known = (BTreeMap<StepKey, Finished>, BTreeMap<StepKey, MissReason>);

/// Looks up results like [`decide`], but also in the shared store, and sends an event for each that is found. Results from the
/// shared store are copied into the local one.
pub(crate) fn find(graph: &StepGraph<'_>, wanted: &[StepKey], session: &Session<'_>) -> Known {
    let (mut finished, mut reasons) = (BTreeMap::new(), BTreeMap::new());
    let (mut seen, mut frontier) = (BTreeSet::new(), wanted.to_vec());
    while !frontier.is_empty() {
        frontier.retain(|key| seen.insert(*key));
        let shared = Mutex::new(BTreeMap::new());
        let mut missing = Vec::new();
        for key in frontier {
            let Some(node) = graph.graph.node(key) else { continue };
            match decide_one(session.store, graph, key, node) {
                Ok(produced) => {
                    finished.insert(key, found(key, node, produced, session));
                }
                Err(because) => missing.push((key, node, because)),
            }
        }
        if session.shared.is_some() {
            // What cannot be had from there is made here.
            run_indexed(missing.len(), session.budget.fetches(), |index| {
                let (key, node, _) = &missing[index];
                if let Some(done) = fetch_shared(graph, *key, node, session) {
                    shared.lock().unwrap_or_else(PoisonError::into_inner).insert(*key, done);
                }
            });
        }
        finished.append(&mut shared.into_inner().unwrap_or_else(PoisonError::into_inner));
        frontier = Vec::new();
        for (key, _, because) in missing.into_iter().filter(|(key, ..)| !finished.contains_key(key)) {
            frontier.extend(graph.graph.needs(key));
            reasons.insert(key, because);
        }
    }
    (finished, reasons)
}

/// Gets what the shared store has of what leads to `wanted`, without running anything; gives the names of steps that would have
/// to run.
pub fn fetch_results(graph: &StepGraph<'_>, wanted: &[StepKey], session: &Session<'_>) -> Vec<String> {
    let (_, reasons) = find(graph, wanted, session);
    let name = |key: &StepKey| graph.graph.node(*key).map(|node| node.step.name.clone());
    reasons.keys().filter_map(name).collect()
}

/// The result of a step from the shared store, kept in the own one.
fn fetch_shared(
    graph: &StepGraph<'_>,
    key: StepKey,
    node: &Node<'_>,
    session: &Session<'_>,
) -> Option<Finished> {
    if node.step.fetches.as_ref().is_some_and(|fetches| fetches.records) {
        return None;
    }
    let started = Instant::now();
    let (produced, took) = session.shared?.fetch(key, session.store)?;
    keep(session.store, graph, (key, node), &produced, took).ok()?;
    let milliseconds = u64::try_from(started.elapsed().as_millis()).unwrap_or(u64::MAX);
    let (app, step, role) = (node.app.to_owned(), node.step.name.clone(), node.step.role);
    let size = produced.layer.size;
    (session.events)(Event::Shared { app, step: step.clone(), role, size, milliseconds });
    let outcome = StepOutcome { step, role, key, because: None, began: 0, milliseconds, shared: true };
    Some(Finished { outcome, produced, fetched: None })
}

pub(crate) fn decide_one(store: &Store, graph: &StepGraph<'_>, key: StepKey, node: &Node<'_>) -> Decision {
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

pub(crate) fn last_run(store: &Store, node: &Node<'_>) -> Option<LastRun> {
    store.read_document(&last_path(store, node)).whole()
}

fn last_path(store: &Store, node: &Node<'_>) -> PathBuf {
    let name = format!("{}.json", node.step.name.replace(['/', ' '], "-"));
    store.ledger_path(node.app).join("inputs").join(name)
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

pub(crate) fn keep(
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

pub(crate) fn found(key: StepKey, node: &Node<'_>, produced: Produced, session: &Session<'_>) -> Finished {
    let (app, step, role) = (node.app.to_owned(), node.step.name.clone(), node.step.role);
    (session.events)(Event::Found { app, step: step.clone(), role, size: produced.layer.size });
    let outcome = StepOutcome { step, role, key, because: None, began: 0, milliseconds: 0, shared: false };
    Finished { outcome, produced, fetched: None }
}
