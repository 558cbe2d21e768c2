//! Runs the steps whose results are not in the store, several at once, and tells what happens.

use crate::{LastInputs, LayerTarget, MissReason, Produced, Step, StepContext, compare};
use content::StepKey;
use content::layer::{Codec, LayerWriter};
use content::store::Store;
use model::platform::own_platform;
use model::{Error, Result, Role};
use remote::Fetcher;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// What happens during a build, for whoever renders it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "event")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Event {
    /// A step's result is in the store.
    Found { step: String, role: Role, size: u64 },
    /// A step begins.
    Started { step: String, role: Role, because: MissReason },
    /// A step has done a part of its work.
    Progress { step: String, done: usize, total: usize },
    /// A step is finished.
    Finished { step: String, role: Role, size: u64, milliseconds: u64 },
    /// Something that people should know.
    Note { text: String },
}

/// How a step fared.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepOutcome {
    /// Its name.
    pub step: String,
    /// What its layer is for.
    pub role: Role,
    /// The key of its result.
    pub key: StepKey,
    /// Why it ran; `None` when its result was found.
    pub because: Option<MissReason>,
    /// How long it ran, in milliseconds.
    pub milliseconds: u64,
}

/// A step whose result was looked up.
pub struct Decision {
    /// The key of its result.
    pub key: StepKey,
    /// The result, or why there is none.
    pub found: Result<Produced, MissReason>,
}

/// Looks a step of `app` up in the store.
pub fn decide(store: &Store, app: &str, step: &Step, form: &LayerTarget) -> Decision {
    let key = step.key(form);
    let result = store.read_json::<Produced>(&store.step_path(key));
    let whole = result.filter(|r| store.blob_size(r.layer.digest) == Some(r.layer.size));
    let found = whole.ok_or_else(|| {
        let last: Option<LastInputs> = store.read_json(&last_path(store, app, &step.name));
        compare(last.as_ref(), key, &step.inputs, form)
    });
    Decision { key, found }
}

fn last_path(store: &Store, app: &str, step: &str) -> std::path::PathBuf {
    store.ledger_path(app).join("inputs").join(format!("{}.json", step.replace(' ', "-")))
}

/// What execution has to work with.
pub struct Surroundings<'a> {
    /// The store.
    pub store: &'a Store,
    /// Gets packages.
    pub fetcher: &'a Fetcher,
    /// How many things to do at once.
    pub jobs: usize,
    /// Told of everything that happens, from any thread.
    pub events: &'a (dyn Fn(Event) + Sync),
    /// Whether the user wants the build to end.
    pub interrupted: &'a (dyn Fn() -> bool + Sync),
}

/// Of so many jobs, one may compress what a step writes.
const COMPRESS_SHARE: usize = 4;

/// Runs what has to run of the steps of `app`; results in the order of the steps.
pub fn execute(
    app: &str,
    steps: &[Step],
    form: &LayerTarget,
    around: &Surroundings<'_>,
) -> Result<Vec<(StepOutcome, Produced)>> {
    let failed = AtomicBool::new(false);
    let results = Mutex::new((0..steps.len()).map(|_| None).collect::<Vec<_>>());
    run_indexed(steps.len(), around.jobs.min(2), |index| {
        if failed.load(Ordering::Relaxed) {
            return;
        }
        let result = one_step(app, &steps[index], form, around, &failed);
        failed.fetch_or(result.is_err(), Ordering::Relaxed);
        if let Ok(mut all) = results.lock() {
            all[index] = Some(result);
        }
    });
    let results = results.into_inner().unwrap_or_else(PoisonError::into_inner);
    let results: Vec<_> = results.into_iter().flatten().collect();
    // A step that ended because another failed says only "interrupted": the cause comes first.
    let (interrupted, others): (Vec<_>, Vec<_>) =
        results.into_iter().partition(|r| matches!(r, Err(Error::Interrupted)));
    others.into_iter().chain(interrupted).collect()
}

fn one_step(
    app: &str,
    step: &Step,
    form: &LayerTarget,
    around: &Surroundings<'_>,
    failed: &AtomicBool,
) -> Result<(StepOutcome, Produced)> {
    let store = around.store;
    let decision = decide(store, app, step, form);
    let key = decision.key;
    let (name, role) = (step.name.clone(), step.role);
    let found = |result: Produced| {
        (around.events)(Event::Found { step: step.name.clone(), role, size: result.layer.size });
        (StepOutcome { step: step.name.clone(), role, key, because: None, milliseconds: 0 }, result)
    };
    let because = match decision.found {
        Ok(result) => return Ok(found(result)),
        Err(because) => because,
    };
    let root_form = LayerTarget { codec: Codec::default(), platform: own_platform() };
    let root = step.root.iter().map(|step| one_step(app, step, &root_form, around, failed));
    let root = root.map(|done| done.map(|(_, result)| result)).collect::<Result<Vec<_>>>()?;
    // One of 64 locks by key: another process that runs the same step is waited for.
    let _turn = store.lock(&format!("step-{}", &key.hex()[..2]))?;
    if let Ok(result) = decide(store, app, step, form).found {
        return Ok(found(result));
    }
    (around.events)(Event::Started { step: name.clone(), role, because: because.clone() });
    let started = Instant::now();
    let last_told = Mutex::new(Instant::now());
    let progress = |done: usize, total: usize| {
        if let Ok(mut last) = last_told.lock()
            && (last.elapsed() > Duration::from_millis(100) || done == total)
        {
            *last = Instant::now();
            (around.events)(Event::Progress { step: step.name.clone(), done, total });
        }
    };
    let interrupted = || failed.load(Ordering::Relaxed) || (around.interrupted)();
    let tools = StepContext {
        fetcher: around.fetcher,
        jobs: around.jobs,
        root: &root,
        note: &|text| (around.events)(Event::Note { text: format!("{}: {text}", step.name) }),
        progress: &progress,
        interrupted: &interrupted,
    };
    let mut layer = LayerWriter::new(store, form.codec, around.jobs.div_ceil(COMPRESS_SHARE))?;
    let packages = step.work.write(&mut layer, &tools)?;
    let result = Produced { layer: layer.finish()?, packages };
    store.write_json(&store.step_path(key), &result)?;
    store.write_json(&last_path(store, app, &step.name), &LastInputs::of(key, &step.inputs, form))?;
    let milliseconds = u64::try_from(started.elapsed().as_millis()).unwrap_or(u64::MAX);
    (around.events)(Event::Finished { step: name.clone(), role, size: result.layer.size, milliseconds });
    Ok((StepOutcome { step: name, role, key, because: Some(because), milliseconds }, result))
}

/// Does `work` for every item on several threads; the first error ends it.
pub fn each_in_parallel<T: Sync>(
    items: &[T],
    tools: &StepContext<'_>,
    work: impl Fn(&T) -> Result<()> + Sync,
) -> Result<()> {
    on_threads(items, tools, tools.jobs, work)
}

/// As [`each_in_parallel`], for work that mostly waits for answers: on more threads. What it does with an
/// answer has to go through a [`Gate`].
pub fn each_fetched<T: Sync>(
    items: &[T],
    tools: &StepContext<'_>,
    work: impl Fn(&T) -> Result<()> + Sync,
) -> Result<()> {
    on_threads(items, tools, (tools.jobs * WAITING).min(MOST_WAITING), work)
}

/// So many threads may wait for answers while one could work, and so many at most: with a registry far away,
/// waiting is all that there is to do.
const WAITING: usize = 16;
const MOST_WAITING: usize = 48;

fn on_threads<T: Sync>(
    items: &[T],
    tools: &StepContext<'_>,
    threads: usize,
    work: impl Fn(&T) -> Result<()> + Sync,
) -> Result<()> {
    let (done, failed) = (AtomicUsize::new(0), AtomicBool::new(false));
    let errors = Mutex::new(Vec::new());
    run_indexed(items.len(), threads, |index| {
        if failed.load(Ordering::Relaxed) {
            return;
        }
        let result = if (tools.interrupted)() { Err(Error::Interrupted) } else { work(&items[index]) };
        match result {
            Ok(()) => (tools.progress)(done.fetch_add(1, Ordering::Relaxed) + 1, items.len()),
            Err(error) => {
                failed.store(true, Ordering::Relaxed);
                if let Ok(mut all) = errors.lock() {
                    all.push((index, error));
                }
            }
        }
    });
    let mut errors = errors.into_inner().unwrap_or_else(PoisonError::into_inner);
    errors.sort_by_key(|(index, _)| *index);
    errors.into_iter().next().map_or(Ok(()), |(_, error)| Err(error))
}

/// Lets only so much in at once: fetching waits, unpacking takes memory.
pub struct Gate {
    room: u64,
    free: Mutex<u64>,
    left: Condvar,
}

impl Gate {
    /// A gate with this much room, in any unit.
    pub fn new(room: u64) -> Self {
        Self { room: room.max(1), free: Mutex::new(room.max(1)), left: Condvar::new() }
    }

    /// Does `work` when there is room for it; what needs more than all of it goes alone.
    pub fn pass<T>(&self, needs: u64, work: impl FnOnce() -> T) -> T {
        let needs = needs.min(self.room);
        let lock = || self.free.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = self.left.wait_while(lock(), |free| *free < needs);
        let mut free = waited.unwrap_or_else(PoisonError::into_inner);
        *free -= needs;
        drop(free);
        let done = work();
        *lock() += needs;
        self.left.notify_all();
        done
    }
}

/// What `find` finds for the items, on several threads, in order; nothing when it was interrupted.
pub fn find_in_parallel<T: Sync, F: Ord + Send>(
    items: &[T],
    tools: &StepContext<'_>,
    find: impl Fn(&T) -> Option<F> + Sync,
) -> Vec<F> {
    let found = Mutex::new(BTreeSet::new());
    let done = each_in_parallel(items, tools, |item| {
        if let (Some(one), Ok(mut found)) = (find(item), found.lock()) {
            found.insert(one);
        }
        Ok(())
    });
    let found = found.into_inner().unwrap_or_default();
    if done.is_ok() { found.into_iter().collect() } else { Vec::new() }
}

/// Calls `work` with 0 to `count` − 1, from up to `threads` threads. A panic goes on in the caller.
pub fn run_indexed(count: usize, threads: usize, work: impl Fn(usize) + Sync) {
    let next = AtomicUsize::new(0);
    let take = || {
        loop {
            let index = next.fetch_add(1, Ordering::Relaxed);
            if index >= count {
                break;
            }
            work(index);
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..threads.clamp(1, count.max(1)) {
            scope.spawn(take);
        }
        take();
    });
}
