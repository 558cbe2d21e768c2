//! One step: its result is found after all, or its action runs and writes a layer.

use crate::decide::{Finished, decide_one, found, keep};
use crate::event::{Event, StepOutcome};
use crate::reason::MissReason;
use crate::session::Session;
use crate::step::{Fetches, Produced, StepContext};
use crate::step_graph::{Node, StepGraph};
use cancel::Cancel;
use content::StepKey;
use content::layer::LayerWriter;
use gateway::Gateway;
use model::{Error, Result};
use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The shortest interval between progress events.
const PROGRESS_EVERY: Duration = Duration::from_millis(100);

/// A graph that is being worked off.
pub(crate) struct Running<'r, 's> {
    pub graph: &'r StepGraph<'s>,
    /// Why each step runs.
    pub reasons: BTreeMap<StepKey, MissReason>,
    pub session: &'r Session<'r>,
    pub cancel: &'r Cancel,
    pub began: Instant,
    pub finished: Mutex<BTreeMap<StepKey, Finished>>,
}

impl Running<'_, '_> {
    pub(crate) fn all_finished(&self) -> std::sync::MutexGuard<'_, BTreeMap<StepKey, Finished>> {
        self.finished.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Finds or makes the result of a step; what it needs is finished.
    pub(crate) fn step(&self, key: StepKey) -> Result<Finished> {
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
        let app_limits = node.limits;
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
            app_limits,
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
            if let Some(shared) = self.session.shared {
                shared.offer(key, &produced, milliseconds);
            }
        }
        events(Event::Finished { app, step: step.clone(), role, size: produced.layer.size, milliseconds });
        let outcome = StepOutcome {
            step,
            role,
            key,
            because: Some(because.clone()),
            began,
            milliseconds,
            shared: false,
        };
        Ok(Finished { outcome, produced, fetched })
    }
}
