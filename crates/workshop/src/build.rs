//! The whole way from a folder to an image, in order.

use crate::base_selection::NewPins;
use crate::image::Documents;
use crate::ledger::Entry;
use crate::plan::{Sources, Worklist, plan};
use crate::record::Record;
use crate::survey::{Observed, Survey, find_or_remember, survey};
use crate::{base_selection, buildpacks, image, ledger};
use bases::host::Host;
use config::addresses::{AddressBook, Addresses};
use config::pins::{Pins, ResolvedSets};
use config::{AppConfig, Choice, ConfigPlace, Effective, Origin};
use content::BlobDigest;
use content::layer::Codec;
use content::store::Store;
use engine::{Decision, Event, LayerTarget, StepOutcome, Surroundings, decide, execute};
use model::error::PackageError;
use model::{Error, Result, names};
use planning::Pinning;
use planning::{Base, NewlyResolved, Resolving};
use remote::Fetcher;
use remote::oci::CredentialFiles;
use source::{Asked, LeftOut, Opened, SourceRules, SourceTree, take_in};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Instant;

/// An app that was looked at; nothing was run or fetched for it.
pub struct App {
    /// Its source.
    pub opened: Opened,
    /// Its configuration.
    pub config: AppConfig,
    /// Who said each key of it.
    pub origins: BTreeMap<String, Origin>,
    /// Its files.
    pub tree: Arc<SourceTree>,
    /// What was concluded.
    pub survey: Survey,
}

/// Looks at an app. `now` is in nanoseconds since 1970.
pub fn look(asked: &Asked<'_>, choice: &Choice, store: &Store, now: i64) -> Result<App> {
    let opened = Opened::open(asked, store, now)?;
    let place = ConfigPlace { folder: &opened.root, shown: &opened.shown, near: &opened.near };
    let effective = Effective::load(&place, choice, &buildpacks::known_names())?;
    let config = &effective.config;
    let rules = SourceRules { exclude: config.exclude.clone(), include: config.include.clone() };
    let source = take_in(&opened, &rules)?;
    let reads = find_or_remember(&source.tree, store, now)?;
    let revision = opened.revision(&source.tree, store, now)?;
    let survey = survey(&opened.name, &source, &effective, Observed { reads, revision })?;
    let Effective { config, origins } = effective;
    Ok(App { opened, config, origins, tree: Arc::new(source.tree), survey })
}

/// How to build, apart from what the source says.
pub struct Order<'a> {
    /// The tag of the default process type.
    pub tag: &'a str,
    /// The platform of the image, as in `linux/amd64`.
    pub platform: &'a str,
    /// How layers are compressed.
    pub codec: Codec,
    /// Creation time in the image's documents (RFC 3339).
    pub created: &'a str,
    /// The machine that the base `host` is captured from.
    pub host: &'a Host,
    /// Where packages come from.
    pub book: &'a Arc<AddressBook>,
    /// Gets what has to be known before the build; without the network, only what is in folders.
    pub fetcher: &'a Fetcher,
    /// Credentials for registries of images.
    pub credentials: &'a Arc<CredentialFiles>,
    /// How pins are treated.
    pub pinning: Pinning,
    /// Now, in nanoseconds since 1970.
    pub now: i64,
    /// The same moment, for measuring how long the build takes.
    pub started: Instant,
}

/// Plans the build of `app`: nothing is run, and only what has to be pinned is asked for.
pub fn prepare(app: &App, order: &Order<'_>, store: &Store) -> Result<Worklist> {
    // What is wrong in any case is told before anybody is asked for anything.
    let foretell = || match foresee(app, order, store) {
        // A package may bring what its script would make: only its archive tells.
        Err(Error::Package(PackageError::InstallScripts { .. })) => Ok(()),
        foreseen => foreseen.map(drop),
    };
    let mut tools = base_selection::ToolNames::new();
    let mut just = ResolvedSets::new();
    let (mut list, new_pins) = loop {
        let (mut base, new_pins) = base_selection::of(app, order, store, &tools, &foretell)?;
        let list = plan_on(app, order, base.as_mut(), (Some(order.fetcher), store), just)?;
        // What has to be compiled is known only now: what that takes is pinned, too.
        if list.lacking.iter().all(|tool| !tools.insert(tool)) {
            break (list, new_pins);
        }
        just = NewlyResolved::sets(list.resolved);
    };
    list.pack(&app.tree, &app.tree.digests(store, order.now)?);
    let resolved = std::mem::take(&mut list.resolved);
    list.new_pins = NewPins::with_resolved(app, new_pins, order.platform, resolved)?;
    Ok(list)
}

/// Plans everything but the packing of the app's own files, which are not read. Nothing is asked for:
/// where nothing is pinned yet, what is known of the base has to do.
pub fn foresee(app: &App, order: &Order<'_>, store: &Store) -> Result<Worklist> {
    plan_on(
        app,
        order,
        base_selection::foreseen(app, order, store)?.as_mut(),
        (None, store),
        ResolvedSets::new(),
    )
}

fn plan_on(
    app: &App,
    order: &Order<'_>,
    base: &mut dyn Base,
    (asking, store): (Option<&Fetcher>, &Store),
    just: ResolvedSets,
) -> Result<Worklist> {
    names::check_tag(order.tag)?;
    let addresses = Addresses::new(order.book, &app.config, &app.origins, &app.opened.near);
    let form = LayerTarget { codec: order.codec, platform: order.platform.to_owned() };
    let known = Pins::read(&app.opened.root)?.unwrap_or_default().resolved;
    let resolving = Resolving { known, just, pinning: order.pinning, asking, store };
    let sources = Sources {
        survey: &app.survey,
        tree: &app.tree,
        config: &app.config,
        addresses: &addresses,
        resolving: &resolving,
    };
    plan(&sources, base, form)
}

/// What each step would do, in order.
pub fn preview(app: &App, worklist: &Worklist, store: &Store) -> Vec<Decision> {
    worklist.steps.iter().map(|step| decide(store, &app.survey.name, step, &worklist.form)).collect()
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
    /// How each step fared.
    pub outcomes: Vec<StepOutcome>,
    /// The record in the image.
    pub record: Record,
    /// What was left out of the source and may be missed.
    pub left_out: Vec<LeftOut>,
    /// How long it took, in milliseconds.
    pub milliseconds: u64,
}

/// Builds `app` after `worklist`, writes its documents, and enters the build into the ledger.
pub fn build(app: &App, worklist: &Worklist, order: &Order<'_>, around: &Surroundings<'_>) -> Result<Built> {
    let store = around.store;
    let name = &app.survey.name;
    let _turn = store.lock(&format!("app-{name}"))?;
    let log = Mutex::new(Vec::new());
    let tell = |event: Event| {
        if let Ok(mut log) = log.lock()
            && !matches!(event, Event::Progress { .. })
        {
            log.push(event.clone());
        }
        (around.events)(event);
    };
    let pin_notes = worklist.new_pins.as_ref().map(|pins| match pins.write() {
        Ok(()) => pins.notes(),
        // A source that cannot be written to can be built all the same.
        Err(error) => vec![format!("nothing is pinned, since the pins cannot be written: {error}")],
    });
    for note in pin_notes.iter().flatten().chain(&worklist.notes) {
        tell(Event::Note { text: note.clone() });
    }
    let telling = Surroundings { events: &tell, ..*around };
    let finished = execute(name, &worklist.steps, &worklist.form, &telling)
        .and_then(|results| write_image(app, worklist, order, store, results));
    let milliseconds = u64::try_from(order.started.elapsed().as_millis()).unwrap_or(u64::MAX);
    let mut entry = Entry {
        number: 0,
        tag: order.tag.to_owned(),
        started: order.now / 1_000_000_000,
        milliseconds,
        digest: None,
        failure: None,
        steps: Vec::new(),
        log: log.into_inner().unwrap_or_default(),
    };
    match finished {
        Err(error) => {
            entry.failure = Some(error.to_string());
            ledger::append(store, name, entry)?;
            Err(error)
        }
        Ok((digest, before, record, outcomes)) => {
            entry.digest = Some(digest);
            entry.steps.clone_from(&outcomes);
            let number = ledger::append(store, name, entry)?;
            Ok(Built {
                name: name.clone(),
                tag: order.tag.to_owned(),
                digest,
                before,
                number,
                outcomes,
                record,
                left_out: app.survey.left_out.clone(),
                milliseconds,
            })
        }
    }
}

type Written = (BlobDigest, Option<BlobDigest>, Record, Vec<StepOutcome>);

fn write_image(
    app: &App,
    worklist: &Worklist,
    order: &Order<'_>,
    store: &Store,
    results: Vec<(StepOutcome, engine::Produced)>,
) -> Result<Written> {
    let record = Record::of(&app.survey, worklist, &results);
    let documents = Documents { record: &record, env: &worklist.env, tag: order.tag, created: order.created };
    let digest = image::write(store, &documents)?;
    let path = store.image_path(&app.survey.name, order.tag);
    let before = store.read_json(&path);
    if before != Some(digest) {
        store.write_json(&path, &digest)?;
    }
    Ok((digest, before, record, results.into_iter().map(|(outcome, _)| outcome).collect()))
}

/// The codec of this name, for options.
pub fn codec_named(name: &str) -> Option<Codec> {
    [Codec::Zstd, Codec::Gzip].into_iter().find(|c| c.name() == name)
}
