//! From a worklist to an image in the store, its exports and its entry in the ledger.

use crate::app::{App, BuildRequest};
use crate::image::Documents;
use crate::layer_contents::Layer;
use crate::ledger::Entry;
use crate::plan::Worklist;
use crate::prepare::prepare;
use crate::record::{BuiltSteps, Record};
use crate::recording::record;
use crate::shared_libraries;
use crate::{house, image, ledger, overwritten};
use content::image::{write_archive, write_layout};
use content::store::Store;
use content::{BlobDigest, ContentError, StepKey};
use engine::{Decision, Event, Session, StepGraph, StepOutcome, decide, execute};
use model::platform::own_platform;
use model::{Error, Result, Role};
use planning::Pinning;
use source::LeftOut;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

/// What a step would do.
pub struct Preview {
    /// Its name.
    pub step: String,
    /// What its layer is for.
    pub role: Role,
    /// Whether only other steps need it, and its layer is in no image.
    pub for_build: bool,
    /// The key of its result.
    pub key: StepKey,
    /// The result, or why there is none.
    pub decision: Decision,
}

/// What each step would do, in the order of the image's layers; steps that others need come before them. What is
/// only needed by steps whose results are there is left out.
pub fn preview(app: &App, worklist: &Worklist, store: &Store) -> Vec<Preview> {
    let mut graph = StepGraph::default();
    let wanted = graph.add(&worklist.build_steps(&app.survey.name));
    let mut decisions = decide(store, &graph, &wanted);
    let in_order = graph.in_order(&wanted);
    let preview = |key: StepKey| {
        let step = graph.graph.node(key)?.step;
        let (step, role, for_build) = (step.name.clone(), step.role, !wanted.contains(&key));
        Some(Preview { step, role, for_build, key, decision: decisions.remove(&key)? })
    };
    in_order.into_iter().filter_map(preview).collect()
}

/// Where a finished image is written to, besides the store.
#[derive(Debug, Clone, Copy, Default)]
pub struct Exports<'a> {
    /// A folder, as an OCI image layout.
    pub layout: Option<&'a Path>,
    /// A file, as a tar archive of such a layout.
    pub archive: Option<&'a Path>,
}

impl Exports<'_> {
    fn write(&self, store: &Store, image: BlobDigest) -> Result<()> {
        self.layout.map_or(Ok(()), |folder| write_layout(store, image, folder))?;
        Ok(self.archive.map_or(Ok(()), |file| write_archive(store, image, file))?)
    }
}

/// A finished build.
pub struct Built {
    /// The image's name.
    pub name: String,
    /// Its tag.
    pub tag: String,
    /// Digest of the index over all process types.
    pub digest: BlobDigest,
    /// The digest that the tag had before.
    pub before: Option<BlobDigest>,
    /// The number in the ledger.
    pub number: u32,
    /// How each step fared: those of the image's layers first, in their order, then those that only built.
    pub outcomes: Vec<StepOutcome>,
    /// The record in the image.
    pub record: Record,
    /// The same for the other platforms of the image.
    pub others: Vec<BuiltPlatform>,
    /// What was left out of the source and may be missed.
    pub left_out: Vec<LeftOut>,
    /// How long it took, in milliseconds.
    pub milliseconds: u64,
}

/// What was built for one platform.
pub struct BuiltPlatform {
    /// How each step fared: those of the image's layers first, in their order, then those that only built.
    pub outcomes: Vec<StepOutcome>,
    /// The record in the image.
    pub record: Record,
}

/// A platform that is built for, and what is going to be done for it.
#[derive(Clone, Copy)]
pub struct Planned<'a> {
    /// What will be done.
    pub worklist: &'a Worklist,
    /// How to build, for this platform.
    pub order: &'a BuildRequest<'a>,
}

/// Builds `app` for a platform and for others, writes its documents, and enters the build into the ledger. What turns out to
/// be damaged in the store meanwhile is recreated.
pub fn build(
    app: &App,
    first: Planned<'_>,
    others: &[Planned<'_>],
    exports: Exports<'_>,
    session: &Session<'_>,
) -> Result<Built> {
    let order = first.order;
    let store = session.store;
    let name = &app.survey.name;
    let _turn = store.lock(&format!("app-{name}"))?;
    let log = Mutex::new(Vec::new());
    let tell = |event: Event| {
        if !matches!(event, Event::Planned { .. } | Event::Progress { .. }) {
            log.lock().unwrap_or_else(PoisonError::into_inner).push(event.clone());
        }
        (session.events)(event);
    };
    let telling = Session { events: &tell, ..*session };
    write_pins(first.worklist, &tell);
    let mut again: Vec<Option<Worklist>> = Vec::new();
    for planned in others {
        // What was pinned just now for another platform is kept: this one is planned once more on top of it.
        let fresh =
            planned.worklist.new_pins.is_some().then(|| prepare(app, planned.order, store)).transpose()?;
        write_pins(fresh.as_ref().unwrap_or(planned.worklist), &tell);
        again.push(fresh);
    }
    let others = others.iter().zip(&again).map(|(planned, fresh)| {
        let worklist = fresh.as_ref().unwrap_or(planned.worklist);
        Planned { worklist, order: planned.order }
    });
    let all: Vec<Planned<'_>> = std::iter::once(first).chain(others).collect();
    let attempt = || write_all(app, &all, exports, &telling);
    let mut finished = attempt();
    tell_damage(&telling);
    if matches!(finished, Err(Error::Content(ContentError::Damaged { .. }))) {
        // Damaged content was removed from the store: this time it is recreated.
        finished = attempt();
        tell_damage(&telling);
    }
    let log = log.into_inner().unwrap_or_else(PoisonError::into_inner);
    match finished {
        Err(error) => {
            enter_failure(app, order, &error, log, store)?;
            Err(error)
        }
        Ok(written) => enter(app, order, written, log, store),
    }
}

/// Writes the image of an app whose steps are finished, for one platform, and enters the build into the ledger with what
/// happened.
pub fn finish(
    app: &App,
    planned: Planned<'_>,
    steps: &BuiltSteps<'_>,
    log: Vec<Event>,
    session: &Session<'_>,
) -> Result<Built> {
    let (store, name) = (session.store, &app.survey.name);
    let _turn = store.lock(&format!("app-{name}"))?;
    let (digest, first) = write_documents(app, planned, steps, session)?;
    let before = give_name(store, name, planned.order.tag, digest)?;
    enter(app, planned.order, Written { digest, before, first, others: Vec::new() }, log, store)
}

/// Writes new pins of an app, and gives what people should know of the plan.
pub fn settle_pins(worklist: &Worklist) -> Vec<String> {
    let notes = Mutex::new(Vec::new());
    write_pins(worklist, &|event| {
        if let Event::Note { text } = event {
            notes.lock().unwrap_or_else(PoisonError::into_inner).push(text);
        }
    });
    notes.into_inner().unwrap_or_else(PoisonError::into_inner)
}

fn entry(order: &BuildRequest<'_>, log: Vec<Event>) -> Entry {
    Entry {
        number: 0,
        tag: order.tag.to_owned(),
        started: order.now / 1_000_000_000,
        milliseconds: u64::try_from(order.started.elapsed().as_millis()).unwrap_or(u64::MAX),
        digest: None,
        failure: None,
        steps: Vec::new(),
        log,
    }
}

/// Enters a failed build into the ledger.
pub fn enter_failure(
    app: &App,
    order: &BuildRequest<'_>,
    error: &Error,
    log: Vec<Event>,
    store: &Store,
) -> Result<()> {
    let entry = Entry { failure: Some(error.to_string()), ..entry(order, log) };
    ledger::append(store, &app.survey.name, entry).map(drop)
}

/// Enters a build into the ledger.
fn enter(
    app: &App,
    order: &BuildRequest<'_>,
    Written { digest, before, first, others }: Written,
    log: Vec<Event>,
    store: &Store,
) -> Result<Built> {
    let BuiltPlatform { outcomes, record } = first;
    let of_others = others.iter().flat_map(|other| &other.outcomes);
    let steps = outcomes.iter().chain(of_others).cloned().collect();
    let entry = Entry { digest: Some(digest), steps, ..entry(order, log) };
    let (name, milliseconds) = (app.survey.name.clone(), entry.milliseconds);
    let number = ledger::append(store, &name, entry)?;
    Ok(Built {
        name,
        tag: order.tag.to_owned(),
        digest,
        before,
        number,
        outcomes,
        record,
        others,
        left_out: app.survey.left_out.clone(),
        milliseconds,
    })
}

/// Tells what was found damaged in the store.
fn tell_damage(session: &Session<'_>) {
    for path in session.store.take_damage() {
        let inside = path.strip_prefix(session.store.root()).unwrap_or(&path);
        (session.events)(Event::Damaged { path: inside.display().to_string() });
    }
}

/// Writes new pins, and reports them together with the notes of the plan.
fn write_pins(worklist: &Worklist, tell: &dyn Fn(Event)) {
    let notes = worklist.new_pins.as_ref().map(|pins| match pins.write() {
        Ok(()) => pins.notes(),
        // A source that cannot be written to can be built all the same.
        Err(error) => vec![format!("nothing is pinned, because the pins cannot be written: {error}")],
    });
    for text in notes.into_iter().flatten().chain(worklist.notes.iter().cloned()) {
        tell(Event::Note { text });
    }
}

/// An image in the store.
struct Written {
    digest: BlobDigest,
    before: Option<BlobDigest>,
    first: BuiltPlatform,
    others: Vec<BuiltPlatform>,
}

/// Writes the image for all platforms, and gives it its name.
fn write_all(app: &App, all: &[Planned<'_>], exports: Exports<'_>, session: &Session<'_>) -> Result<Written> {
    let store = session.store;
    let (mut indexes, mut built) = (Vec::new(), Vec::new());
    let mut has_recorded = false;
    for Planned { worklist, order } in all {
        // What was recorded for another platform is pinned by now, and not recorded once more.
        let fresh =
            has_recorded.then(|| prepare(app, &BuildRequest { pinning: Pinning::Keep, ..**order }, store));
        let fresh = fresh.transpose()?;
        let worklist = fresh.as_ref().unwrap_or(worklist);
        let recorded = record(app, worklist, order, session)?;
        has_recorded |= recorded.is_some();
        let list = recorded.as_ref().map_or(worklist, |recorded| &recorded.list);
        let (index, mut written) = write_image(app, list, order, session)?;
        recorded.iter().for_each(|recorded| recorded.correct(&mut written.outcomes));
        indexes.push(index);
        built.push(written);
    }
    let digest = match &indexes[..] {
        [only] => *only,
        all => image::join(store, all)?,
    };
    let before = give_name(store, &app.survey.name, all[0].order.tag, digest)?;
    exports.write(store, digest)?;
    let first = built.remove(0);
    Ok(Written { digest, before, first, others: built })
}

/// Gives an image its name; returns what had the name before.
fn give_name(store: &Store, name: &str, tag: &str, digest: BlobDigest) -> Result<Option<BlobDigest>> {
    let path = store.image_path(name, tag);
    let before = store.read_document(&path).whole();
    if before != Some(digest) {
        store.write_document(&path, &digest)?;
    }
    Ok(before)
}

fn write_image(
    app: &App,
    worklist: &Worklist,
    order: &BuildRequest<'_>,
    session: &Session<'_>,
) -> Result<(BlobDigest, BuiltPlatform)> {
    let mut graph = StepGraph::default();
    let wanted = graph.add(&worklist.build_steps(&app.survey.name));
    let finished = execute(&graph, &wanted, session)?;
    write_documents(
        app,
        Planned { worklist, order },
        &BuiltSteps { graph: &graph, wanted: &wanted, finished: &finished },
        session,
    )
}

/// Writes the documents of an image whose steps are finished.
fn write_documents(
    app: &App,
    Planned { worklist, order }: Planned<'_>,
    steps: &BuiltSteps<'_>,
    session: &Session<'_>,
) -> Result<(BlobDigest, BuiltPlatform)> {
    let (store, name) = (session.store, &app.survey.name);
    let BuiltSteps { graph, wanted, finished } = *steps;
    let layers = wanted.iter().filter_map(|key| {
        let done = finished.get(key)?;
        Some(Layer { role: done.outcome.role, written: &done.produced.layer })
    });
    let layers: Vec<_> = layers.collect();
    let needs = shared_libraries::needs(store, &layers, order.platform)?;
    if wanted.iter().any(|key| finished.get(key).is_some_and(|done| done.outcome.because.is_some())) {
        let missing = shared_libraries::missing(store, &layers, order.platform)?;
        if order.platform == own_platform() {
            shared_libraries::remember(store, name, &missing)?;
        }
        let overwritten = overwritten::find(store, &layers, order.platform)?;
        let foreign = shared_libraries::foreign(store, &layers, order.platform)?;
        let lacking = shared_libraries::told(&missing).map(|told| match shared_libraries::advice(&missing) {
            Some(advice) => format!("{told}: {advice}"),
            None => told,
        });
        let notes = lacking.into_iter().chain(overwritten::told(&overwritten));
        for text in notes.chain(foreign) {
            (session.events)(Event::Note { text });
        }
    }
    let record = Record::of(&app.survey, worklist, steps, needs);
    house::check(app, &record)?;
    let documents = Documents {
        record: &record,
        env: &worklist.env,
        entrypoints: &worklist.entrypoints,
        tag: order.tag,
        created: order.created,
    };
    let digest = image::write(store, &documents)?;
    let mut outcomes: Vec<StepOutcome> =
        wanted.iter().filter_map(|key| Some(finished.get(key)?.outcome.clone())).collect();
    let for_build = graph.in_order(wanted).into_iter().filter(|key| !wanted.contains(key));
    outcomes.extend(for_build.filter_map(|key| Some(finished.get(&key)?.outcome.clone())));
    Ok((digest, BuiltPlatform { outcomes, record }))
}
