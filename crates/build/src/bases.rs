//! Which base an app has, with its pins.

use crate::addresses::{Addresses, Ecosystem};
use crate::base::Base;
use crate::base::debian::{self, Archives, DebianBase, EXTRA, Sets, Suite, Wanted};
use crate::base::host::HostBase;
use crate::error::{BuildError, PathFacts, Result};
use crate::pins::{self, Pins};
use crate::pipeline::{App, Order, Pinning, platform};
use crate::worklist::needed_runtimes;
use content::store::Store;
use remote::Address;
use std::path::PathBuf;

/// Pins that are to be written when the build begins.
pub struct NewPins {
    path: Option<PathBuf>,
    text: String,
    moved: Vec<String>,
    /// The base that was pinned before, if it was another one.
    other: Option<String>,
    first: bool,
}

impl NewPins {
    /// What people should know of them.
    pub fn notes(&self) -> Vec<String> {
        let file = pins::FILE_NAME;
        vec![match (&self.path, &self.other) {
            (None, _) => format!("what is taken from outside is not pinned: this source can keep no {file}"),
            (Some(_), _) if self.first => format!("pinned in {file}, which should be committed"),
            (Some(_), Some(other)) => format!("pinned anew in {file}, which was for {other}"),
            (Some(_), None) if self.moved.is_empty() => format!("nothing to move in {file}"),
            (Some(_), None) => return self.moved.iter().map(|m| format!("moved in {file}: {m}")).collect(),
        }]
    }

    /// Writes the file.
    pub fn write(&self) -> Result<()> {
        self.path.as_ref().map_or(Ok(()), |path| std::fs::write(path, &self.text).facts(path))
    }
}

type Found<'a> = (Box<dyn Base + 'a>, Option<NewPins>);

/// The base of the app, pinned as `order` says.
pub fn of<'a>(app: &App, order: &Order<'a>, store: &'a Store) -> Result<Found<'a>> {
    let Some(suite) = suite_of(app)? else {
        return Ok((Box::new(HostBase::new(order.host, store, order.now)), None));
    };
    let wishes = Wishes::of(app, suite)?;
    let old = Pins::read(&app.opened.root)?;
    if order.pinning != Pinning::Update
        && let Some(sets) = old.as_ref().and_then(|pins| wishes.pinned(pins))
    {
        return Ok((Box::new(wishes.base(app, order, sets)), None));
    }
    if order.pinning == Pinning::Locked {
        return Err(BuildError::PinsMissing { base: wishes.base.clone(), file_is_there: old.is_some() });
    }
    let keyrings = keyrings(app)?;
    let archives = Archives {
        addresses: addresses(app, order),
        keyrings: &keyrings,
        fetcher: order.fetcher,
        store,
        now: order.now / 1_000_000_000,
    };
    let (suites, sets) = debian::resolve(&wishes.wanted, &archives)?;
    let new = Pins::with(old.as_ref(), &wishes.base, suites, &platform(), sets.clone());
    let pins = NewPins {
        path: app.opened.pins_path(),
        text: new.text(),
        moved: new.moved(old.as_ref()),
        other: old.as_ref().map(|pins| pins.base.clone()).filter(|base| *base != wishes.base),
        first: old.is_none(),
    };
    Ok((Box::new(wishes.base(app, order, sets)), Some(pins)))
}

/// The base of the app as far as it is known without asking anybody.
pub fn foreseen<'a>(app: &App, order: &Order<'a>, store: &'a Store) -> Result<Box<dyn Base + 'a>> {
    let Some(suite) = suite_of(app)? else {
        return Ok(Box::new(HostBase::new(order.host, store, order.now)));
    };
    let wishes = Wishes::of(app, suite)?;
    let sets = Pins::read(&app.opened.root)?.and_then(|pins| wishes.pinned(&pins)).unwrap_or_default();
    Ok(Box::new(wishes.base(app, order, sets)))
}

/// The suite that the app's base is composed from; `None` for the host.
fn suite_of(app: &App) -> Result<Option<&'static Suite>> {
    let base = app.survey.base.0.as_str();
    let unknown = || BuildError::UnknownBase { name: base.to_owned() };
    match base.split_once(':') {
        None if base == "host" => Ok(None),
        Some(("debian", suite)) => Suite::named(suite).map(Some).ok_or_else(unknown),
        _ => Err(unknown()),
    }
}

/// What an app wants of a suite.
struct Wishes<'a> {
    base: String,
    wanted: Wanted<'a>,
}

impl<'a> Wishes<'a> {
    fn of(app: &'a App, suite: &'static Suite) -> Result<Self> {
        let base = app.survey.base.0.clone();
        let architecture = debian::architecture(&platform());
        let wanted = Wanted {
            suite,
            architecture: architecture.ok_or_else(|| BuildError::UnknownBase { name: base.clone() })?,
            runtimes: needed_runtimes(&app.survey, &app.config),
            packages: app.config.base_packages.iter().map(String::as_str).collect(),
            outdated: app.config.outdated.unwrap_or_default(),
        };
        Ok(Self { base, wanted })
    }

    /// The pinned packages, if they are all that is wanted.
    fn pinned(&self, pins: &Pins) -> Option<Sets> {
        let extra = (!self.wanted.packages.is_empty()).then_some(EXTRA);
        let sets: Vec<&str> = self.wanted.runtimes.iter().copied().chain(["base"]).chain(extra).collect();
        let known = pins.sets(&self.base, &platform(), &sets)?;
        let has = |name: &&str| known.values().flatten().any(|p| p.name == *name);
        self.wanted.packages.iter().all(|name| has(name)).then(|| known.clone())
    }

    fn base(&self, app: &App, order: &Order<'_>, sets: Sets) -> DebianBase {
        let architecture = self.wanted.architecture;
        DebianBase { suite: self.wanted.suite, sets, archives: addresses(app, order), architecture }
    }
}

fn addresses(app: &App, order: &Order<'_>) -> [Option<Address>; 2] {
    let addresses = Addresses::new(order.book, &app.config, &app.origins, &app.opened.near);
    [Ecosystem::Debian, Ecosystem::DebianSecurity]
        .map(|e| addresses.in_force(e).ok().map(|known| known.address))
}

fn keyrings(app: &App) -> Result<Vec<Vec<u8>>> {
    let file = app.config.keyring.as_ref().map(|file| app.opened.near.join(file));
    file.iter().map(|file| std::fs::read(file).facts(file)).collect()
}
