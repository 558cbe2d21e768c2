//! Runs the steps that have to find out what their programs fetch; what they fetched is pinned, and the build is planned
//! again with it. Their results are kept as those of the steps that have it pinned.

use crate::app::{App, BuildRequest};
use crate::base_selection::NewPins;
use crate::plan::Worklist;
use crate::prepare::prepare_after;
use content::StepKey;
use engine::{Event, Finished, Session, StepGraph, StepOutcome, execute, keep_as};
use model::Result;
use model::fetched::FetchedSets;
use planning::Pinning;
use std::collections::BTreeMap;

/// A build as it is planned with what was recorded.
pub(crate) struct Recorded {
    /// The plan.
    pub list: Worklist,
    /// How the steps fared that ran, those that recorded and those beside them.
    outcomes: BTreeMap<String, StepOutcome>,
}

impl Recorded {
    /// Says of these steps that they ran, although their results were there afterwards.
    pub fn correct(&self, outcomes: &mut [StepOutcome]) {
        for outcome in outcomes {
            if let Some(ran) = self.outcomes.get(&outcome.step) {
                *outcome = StepOutcome { key: outcome.key, ..ran.clone() };
            }
        }
    }
}

/// Records what is not pinned yet; nothing when all is.
pub(crate) fn record(
    app: &App,
    worklist: &Worklist,
    order: &BuildRequest<'_>,
    session: &Session<'_>,
) -> Result<Option<Recorded>> {
    let (store, name) = (session.store, &app.survey.name);
    let mut graph = StepGraph::default();
    let wanted = graph.add(&worklist.build_steps(name));
    let recording = that_record(&graph, &wanted);
    if recording.is_empty() {
        return Ok(None);
    }
    // What needs none of it is done meanwhile.
    let apart = wanted.iter().filter(|key| {
        let needed = graph.in_order(&[**key]);
        !needed.iter().any(|need| recording.contains(need))
    });
    let together: Vec<StepKey> = recording.iter().chain(apart).copied().collect();
    let mut finished = execute(&graph, &together, session)?;
    let ran = finished.values().filter(|done| done.outcome.because.is_some());
    let outcomes = ran.map(|done| (done.outcome.step.clone(), done.outcome.clone())).collect();
    let done: Vec<Finished> = recording.iter().filter_map(|key| finished.remove(key)).collect();
    let sets = done.iter().filter_map(|done| Some((done.outcome.step.clone(), done.fetched.clone()?)));
    let sets: FetchedSets = sets.collect();
    let pins = NewPins::with_fetched(app, worklist.new_pins.as_ref(), order.platform, &sets)?;
    let is_written = pins.write();
    let note = match &is_written {
        Ok(()) => {
            let told = worklist.new_pins.as_ref().map(NewPins::notes).unwrap_or_default();
            pins.notes().into_iter().filter(|note| !told.contains(note)).collect()
        }
        Err(error) => vec![format!("nothing is pinned, because the pins cannot be written: {error}")],
    };
    note.into_iter().for_each(|text| (session.events)(Event::Note { text }));
    // What was moved just now is not moved again.
    let pinning = if is_written.is_ok() { Pinning::Keep } else { order.pinning };
    let list = prepare_after(app, &BuildRequest { pinning, ..*order }, &sets, store)?;
    let mut graph = StepGraph::default();
    let wanted = graph.add(&list.build_steps(name));
    for key in graph.in_order(&wanted) {
        let step = graph.graph.node(key).map(|node| &node.step.name);
        if let Some(done) = done.iter().find(|done| Some(&done.outcome.step) == step) {
            keep_as(store, &graph, key, done)?;
        }
    }
    drop(graph);
    Ok(Some(Recorded { list, outcomes }))
}

/// The steps that record what they fetch.
fn that_record(graph: &StepGraph<'_>, wanted: &[StepKey]) -> Vec<StepKey> {
    let is_one = |key: &StepKey| {
        let fetches = graph.graph.node(*key).and_then(|node| node.step.fetches.as_ref());
        fetches.is_some_and(|fetches| fetches.records)
    };
    graph.in_order(wanted).into_iter().filter(is_one).collect()
}
