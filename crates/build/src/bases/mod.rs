//! Which base an app has, with its pins.

mod image;
mod new_pins;
mod suite;

pub use new_pins::NewPins;

use crate::addresses::{Addresses, Ecosystem};
use crate::base::Base;
use crate::base::debian::{SUITES, Suite};
use crate::base::host::HostBase;
use crate::error::{BuildError, Result};
use crate::pins::Pins;
use crate::pipeline::{App, Order, Pinning, own_platform};
use crate::worklist::needed_runtimes;
use content::store::Store;
use image::ImageWish;
use remote::Address;
use suite::Wishes;

/// What a base is made from.
enum Kind<'a> {
    /// The machine.
    Host,
    /// Packages of a suite.
    Debian(&'static Suite),
    /// Nothing but what is asked for, which comes from a suite.
    Empty(&'static Suite),
    /// An image of others, by its reference.
    Image(&'a str),
}

impl<'a> Kind<'a> {
    fn of(app: &'a App) -> Result<Self> {
        let base = app.survey.base.0.as_str();
        let unknown = || BuildError::UnknownBase { name: base.to_owned() };
        match base.split_once(':') {
            None if base == "host" => Ok(Self::Host),
            None if base == "empty" => Ok(Self::Empty(&SUITES[0])),
            Some(("debian", suite)) => Suite::named(suite).map(Self::Debian).ok_or_else(unknown),
            Some(("oci", reference)) => Ok(Self::Image(reference)),
            _ => Err(unknown()),
        }
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
    let old = Pins::read(&app.opened.root);
    let may_hold = order.pinning != Pinning::Update;
    let before_pinning = |old: Option<&Pins>| match order.pinning {
        Pinning::Locked => {
            let base = app.survey.base.0.clone();
            Err(BuildError::PinsMissing { base, file_is_there: old.is_some() })
        }
        Pinning::Keep | Pinning::Update => before_asking(),
    };
    let wishes = match Kind::of(app)? {
        Kind::Host => return Ok((host(order, store)?, None)),
        Kind::Debian(suite) => Wishes::of(app, suite, order.platform)?,
        Kind::Empty(suite) => Wishes::of_empty(app, suite, order.platform)?,
        Kind::Image(reference) => {
            let (wish, old) = (ImageWish::of(app, reference, order.platform)?, old?);
            if let Some(pin) = wish.pinned(old.as_ref()).filter(|_| may_hold) {
                return Ok((wish.base(order, store, &pin)?, None));
            }
            before_pinning(old.as_ref())?;
            let (pin, new) = wish.pin(app, order, store, old.as_ref())?;
            return Ok((wish.base(order, store, &pin)?, Some(new)));
        }
    };
    let old = old?;
    if let Some(pinned) = wishes.pinned(old.as_ref()).filter(|_| may_hold) {
        return Ok((wishes.base(app, order, pinned), None));
    }
    before_pinning(old.as_ref())?;
    let (pinned, new) = wishes.pin(app, order, store, old.as_ref())?;
    Ok((wishes.base(app, order, pinned), Some(new)))
}

/// The base of the app as far as it is known without asking anybody.
pub fn foreseen<'a>(app: &App, order: &Order<'a>, store: &'a Store) -> Result<Box<dyn Base + 'a>> {
    let pins = Pins::read(&app.opened.root)?;
    let wishes = match Kind::of(app)? {
        Kind::Host => return host(order, store),
        Kind::Debian(suite) => Wishes::of(app, suite, order.platform)?,
        Kind::Empty(suite) => Wishes::of_empty(app, suite, order.platform)?,
        Kind::Image(reference) => {
            let wish = ImageWish::of(app, reference, order.platform)?;
            return Ok(wish.foreseen(app, order, pins.as_ref()));
        }
    };
    Ok(wishes.foreseen(app, order, pins.as_ref()))
}

fn host<'a>(order: &Order<'a>, store: &'a Store) -> Result<Box<dyn Base + 'a>> {
    if order.platform != own_platform() {
        let platform = order.platform.to_owned();
        return Err(BuildError::PlatformNotInBase { base: "host".to_owned(), platform });
    }
    Ok(Box::new(HostBase::new(order.host, store, order.now)))
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
    /// What says the version, in an image of others.
    pub said: Option<String>,
    /// Whether `shtetl.lock` pins it.
    pub pinned: bool,
    /// The version that the suite has, when it is not taken because the constraint excludes it.
    pub instead_of: Option<String>,
}

/// How the runtimes of an app are going to be provided on this machine's platform, as far as it is
/// known without asking anybody.
pub fn provisions(app: &App) -> Result<Vec<Provision>> {
    let platform = own_platform();
    let pins = || Pins::read(&app.opened.root);
    match Kind::of(app)? {
        Kind::Host => {
            let of_host = |runtime| Provision {
                runtime,
                version: None,
                origin: "host".to_owned(),
                said: None,
                pinned: false,
                instead_of: None,
            };
            let needed = needed_runtimes(&app.survey, &app.config).into_iter();
            Ok(needed.map(|wish| of_host(wish.runtime)).collect())
        }
        Kind::Debian(suite) => Ok(Wishes::of(app, suite, &platform)?.provisions(app, pins()?.as_ref())),
        Kind::Empty(_) => Ok(Vec::new()),
        Kind::Image(reference) => {
            Ok(ImageWish::of(app, reference, &platform)?.provisions(app, pins()?.as_ref()))
        }
    }
}

fn address(app: &App, order: &Order<'_>, ecosystem: Ecosystem) -> Option<Address> {
    let addresses = Addresses::new(order.book, &app.config, &app.origins, &app.opened.near);
    addresses.in_force(ecosystem).ok().map(|known| known.address)
}
