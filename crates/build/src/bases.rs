//! Which base an app has, with its pins.

use crate::addresses::{Addresses, Ecosystem};
use crate::base::Base;
use crate::base::debian::{self, Archives, DebianBase, EXTRA, ExactRuntime, LIBRARIES, Sets, Suite, Wanted};
use crate::base::host::HostBase;
use crate::error::{BuildError, PathFacts, Result};
use crate::lang;
use crate::pins::{self, Pins};
use crate::pipeline::{App, Order, Pinning, platform};
use crate::worklist::needed_runtimes;
use content::store::Store;
use remote::Address;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Pins that are to be written when the build begins.
pub struct NewPins {
    path: Option<PathBuf>,
    text: String,
    moved: Vec<String>,
    /// The base that was pinned before, if it was another one.
    other: Option<String>,
    first: bool,
    /// Whether nobody knows an archive of security updates.
    without_security: bool,
}

impl NewPins {
    /// What people should know of them.
    pub fn notes(&self) -> Vec<String> {
        let mut notes = self.pinned();
        if self.without_security {
            let lacks = "nothing says where debian-security is: the base has no security updates";
            notes.push(lacks.to_owned());
        }
        notes
    }

    fn pinned(&self) -> Vec<String> {
        let file = pins::FILE_NAME;
        vec![match (&self.path, &self.other) {
            (None, _) => format!("what is taken from outside is not pinned: this source can keep no {file}"),
            (Some(_), _) if self.first => format!("pinned in {file}, which should be committed"),
            (Some(_), Some(other)) => format!("pinned anew in {file}, which was for {other}"),
            (Some(_), None) if self.moved.is_empty() => format!("nothing to move in {file}"),
            (Some(_), None) => return self.moved.iter().map(|m| format!("moved in {file}: {m}")).collect(),
        }]
    }

    /// Writes the file, whole or not at all.
    pub fn write(&self) -> Result<()> {
        let Some(path) = &self.path else { return Ok(()) };
        let fresh = path.with_file_name(pins::FRESH_NAME);
        std::fs::write(&fresh, &self.text).facts(&fresh)?;
        std::fs::rename(&fresh, path).facts(path)
    }
}

type Found<'a> = (Box<dyn Base + 'a>, Option<NewPins>);

/// The base of the app, pinned as `order` says; `before_asking` is called when something has to be
/// asked for.
pub fn of<'a>(
    app: &App,
    order: &Order<'a>,
    store: &'a Store,
    before_asking: &dyn Fn() -> Result<()>,
) -> Result<Found<'a>> {
    let Some(suite) = suite_of(app)? else {
        return Ok((Box::new(HostBase::new(order.host, store, order.now)), None));
    };
    let wishes = Wishes::of(app, suite)?;
    let old = Pins::read(&app.opened.root)?;
    if order.pinning != Pinning::Update
        && let Some(pinned) = old.as_ref().and_then(|pins| wishes.pinned(pins))
    {
        return Ok((Box::new(wishes.base(app, order, pinned)), None));
    }
    if order.pinning == Pinning::Locked {
        return Err(BuildError::PinsMissing { base: wishes.base.clone(), file_is_there: old.is_some() });
    }
    before_asking()?;
    let keyrings = keyrings(app)?;
    let archives = Archives {
        addresses: debian_addresses(app, order),
        keyrings: &keyrings,
        fetcher: order.fetcher,
        store,
        now: order.now / 1_000_000_000,
    };
    let exact = wishes.find_exact(app, order)?;
    let (suites, sets) = debian::resolve(&wishes.wanted, &archives)?;
    let new = Pins::with(old.as_ref(), &wishes.base, suites, &platform(), sets.clone(), exact.clone());
    let pins = NewPins {
        path: app.opened.pins_path(),
        text: new.text(),
        moved: new.moved(old.as_ref()),
        other: old.as_ref().map(|pins| pins.base.clone()).filter(|base| *base != wishes.base),
        first: old.is_none(),
        without_security: archives.addresses[1].is_none(),
    };
    Ok((Box::new(wishes.base(app, order, (sets, exact))), Some(pins)))
}

/// The base of the app as far as it is known without asking anybody.
pub fn foreseen<'a>(app: &App, order: &Order<'a>, store: &'a Store) -> Result<Box<dyn Base + 'a>> {
    let Some(suite) = suite_of(app)? else {
        return Ok(Box::new(HostBase::new(order.host, store, order.now)));
    };
    let wishes = Wishes::of(app, suite)?;
    let pinned = Pins::read(&app.opened.root)?.and_then(|pins| wishes.pinned(&pins));
    let mut base = wishes.base(app, order, pinned.unwrap_or_default());
    for (runtime, constraint) in &wishes.exact {
        // Whether there is such a version, only the registry knows.
        let unknown = || ExactRuntime::unpinned(constraint);
        base.exact.entry((*runtime).to_owned()).or_insert_with(unknown);
    }
    Ok(Box::new(base))
}

/// How a runtime is going to be provided.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct Provision {
    /// The runtime.
    pub runtime: &'static str,
    /// Its version; without, it is known when the registry or the machine was asked.
    pub version: Option<String>,
    /// Where it comes from.
    pub origin: String,
    /// Whether `shtetl.lock` pins it.
    pub pinned: bool,
    /// The version that the suite has, when it is not taken because the constraint excludes it.
    pub instead_of: Option<String>,
}

/// How the runtimes of an app are going to be provided, as far as it is known without asking anybody.
pub fn provisions(app: &App) -> Result<Vec<Provision>> {
    let runtimes = needed_runtimes(&app.survey, &app.config).into_iter().map(|wish| wish.runtime);
    let Some(suite) = suite_of(app)? else {
        let of_host = |runtime| Provision {
            runtime,
            version: None,
            origin: "host".to_owned(),
            pinned: false,
            instead_of: None,
        };
        return Ok(runtimes.map(of_host).collect());
    };
    let wishes = Wishes::of(app, suite)?;
    let pinned = Pins::read(&app.opened.root)?.and_then(|pins| wishes.pinned(&pins));
    let (sets, exact) = pinned.clone().unwrap_or_default();
    let provision = |runtime: &'static str| {
        let own = suite.runtime(runtime)?;
        let is_exact = wishes.exact.iter().any(|(name, _)| *name == runtime);
        let (version, origin) = if is_exact {
            (exact.get(runtime).map(|e| e.version.clone()), "the npm registry".to_owned())
        } else {
            (Some(debian::version_of(own, &sets)), wishes.base.clone())
        };
        let instead_of = is_exact.then(|| format!("{} of {}", own.version, wishes.base));
        Some(Provision { runtime, version, origin, pinned: pinned.is_some(), instead_of })
    };
    Ok(runtimes.filter_map(provision).collect())
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

/// What is pinned for one platform: packages, and runtimes from a registry.
type Pinned = (Sets, BTreeMap<String, ExactRuntime>);

/// What an app wants of a suite.
struct Wishes<'a> {
    base: String,
    wanted: Wanted<'a>,
    /// Runtimes whose constraint the suite's own version does not meet, with that constraint.
    exact: Vec<(&'static str, &'a str)>,
}

impl<'a> Wishes<'a> {
    fn of(app: &'a App, suite: &'static Suite) -> Result<Self> {
        let base = app.survey.base.0.clone();
        let architecture = debian::architecture(&platform());
        let (mut runtimes, mut exact) = (Vec::new(), Vec::new());
        for wish in needed_runtimes(&app.survey, &app.config) {
            let own = suite.runtime(wish.runtime);
            let constraint = wish.constraint.as_ref().map(|(text, _)| text.as_str());
            let unmet = constraint.filter(|text| {
                let accepts = |version| lang::named(wish.runtime)?.accepts(text, version);
                own.is_none_or(|own| accepts(own.version) == Some(false))
            });
            match unmet {
                Some(constraint) if wish.runtime == "node" => {
                    exact.push((wish.runtime, constraint));
                    runtimes.push((wish.runtime, LIBRARIES));
                }
                _ => runtimes.extend(own.map(|own| (wish.runtime, own.packages))),
            }
        }
        let wanted = Wanted {
            suite,
            architecture: architecture.ok_or_else(|| BuildError::UnknownBase { name: base.clone() })?,
            runtimes,
            packages: app.config.base_packages.iter().map(String::as_str).collect(),
            outdated: app.config.outdated.unwrap_or_default(),
        };
        Ok(Self { base, wanted, exact })
    }

    /// What is pinned, if it is all that is wanted.
    fn pinned(&self, pins: &Pins) -> Option<Pinned> {
        let extra = (!self.wanted.packages.is_empty()).then_some(EXTRA);
        let runtimes = self.wanted.runtimes.iter().map(|(name, _)| *name);
        let sets: Vec<&str> = runtimes.chain(["base"]).chain(extra).collect();
        let known = pins.sets(&self.base, &platform(), &sets)?;
        let has = |name: &&str| known.values().flatten().any(|p| p.name == *name);
        let exact = pins.runtimes.get(&platform()).cloned().unwrap_or_default();
        let meets = |(runtime, constraint): &(&str, &str)| {
            let version = &exact.get(*runtime)?.version;
            lang::named(runtime)?.accepts(constraint, version)
        };
        let wanted = self.wanted.packages.iter().all(has)
            && self.exact.iter().all(|wish| meets(wish) == Some(true))
            && exact.keys().all(|name| self.exact.iter().any(|(runtime, _)| runtime == name));
        wanted.then(|| (known.clone(), exact))
    }

    /// Asks the registry for the runtimes that the suite does not have as they are wanted.
    fn find_exact(&self, app: &App, order: &Order<'_>) -> Result<BTreeMap<String, ExactRuntime>> {
        let mut found = BTreeMap::new();
        for (runtime, constraint) in &self.exact {
            let registry =
                address(app, order, Ecosystem::Npm).ok_or(BuildError::NoAddress { ecosystem: "npm" })?;
            let exact = debian::find_exact(order.fetcher, &registry, self.wanted.architecture, constraint)?;
            let wish = needed_runtimes(&app.survey, &app.config).into_iter().find(|w| w.runtime == *runtime);
            let exact = exact.ok_or_else(|| BuildError::NoSuchVersion {
                runtime,
                wanted: (*constraint).to_owned(),
                place: wish.and_then(|w| w.constraint.as_ref()).map(|(_, place)| place.clone()),
                base: self.base.clone(),
                registry: registry.to_string(),
            })?;
            found.insert((*runtime).to_owned(), exact);
        }
        Ok(found)
    }

    fn base(&self, app: &App, order: &Order<'_>, (sets, exact): Pinned) -> DebianBase {
        // Looking for an address can mean to ask a tool, so only where one is needed.
        let npm = if exact.is_empty() { None } else { address(app, order, Ecosystem::Npm) };
        DebianBase {
            suite: self.wanted.suite,
            sets,
            exact,
            archives: debian_addresses(app, order),
            npm,
            architecture: self.wanted.architecture,
        }
    }
}

fn address(app: &App, order: &Order<'_>, ecosystem: Ecosystem) -> Option<Address> {
    let addresses = Addresses::new(order.book, &app.config, &app.origins, &app.opened.near);
    addresses.in_force(ecosystem).ok().map(|known| known.address)
}

fn debian_addresses(app: &App, order: &Order<'_>) -> [Option<Address>; 2] {
    [Ecosystem::Debian, Ecosystem::DebianSecurity].map(|ecosystem| address(app, order, ecosystem))
}

fn keyrings(app: &App) -> Result<Vec<Vec<u8>>> {
    let file = app.config.keyring.as_ref().map(|file| app.opened.near.join(file));
    file.iter().map(|file| std::fs::read(file).facts(file)).collect()
}
