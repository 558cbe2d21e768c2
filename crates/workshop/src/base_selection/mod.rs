//! Which base an app has, with its pins.

mod image;
mod new_pins;
mod node_version;
mod suite;

pub use new_pins::NewPins;

use crate::app::{App, BuildRequest};
use crate::survey::needed_runtimes;
use bases::debian::{SUITES, Suite};
use bases::host::HostBase;
use config::addresses::Addresses;
use config::pins::Pins;
use content::store::Store;
use image::ImageRequest;
use model::error::{BaseError, ConfigError, PinError};
use model::platform::own_platform;
use model::{Ecosystem, Error, Result};
use planning::{Base, Pinning};
use remote::Address;
use std::collections::BTreeSet;
use suite::SuiteRequest;

/// What an app wants of a base that is pinned.
trait BaseRequest {
    /// The base as it is pinned; `None` when the pins do not hold all that is wanted.
    fn pinned(
        &self,
        app: &App,
        order: &BuildRequest<'_>,
        store: &Store,
        pins: &Pins,
    ) -> Result<Option<Box<dyn Base>>>;

    /// The base with new pins in place of `old`.
    fn pin(
        &self,
        app: &App,
        order: &BuildRequest<'_>,
        store: &Store,
        old: Option<&Pins>,
    ) -> Result<(Box<dyn Base>, NewPins)>;

    /// Whether nothing has to be pinned at all.
    fn needs_no_pins(&self) -> bool {
        false
    }

    /// The base as far as it is known without asking anybody.
    fn known_offline(&self, app: &App, order: &BuildRequest<'_>, pins: Option<&Pins>) -> Box<dyn Base>;

    /// How the runtimes are going to be provided.
    fn provisions(&self, app: &App, pins: Option<&Pins>) -> Vec<Provision>;
}

/// What the app wants of its base on a platform; `None` for the host, which cannot be pinned.
fn request<'a>(
    app: &'a App,
    platform: &'a str,
    tools: &ToolNames,
    pins: Option<&Pins>,
) -> Result<Option<Box<dyn BaseRequest + 'a>>> {
    let base = app.survey.base.0.as_str();
    let unknown = || Error::Config(ConfigError::UnknownBase { name: base.to_owned() });
    Ok(Some(match base.split_once(':') {
        None if base == "host" => return Ok(None),
        None if base == "empty" => Box::new(SuiteRequest::of_empty(app, &SUITES[0], platform, tools)?),
        Some(("debian", suite)) => {
            let suite = Suite::named(suite).ok_or_else(unknown)?;
            Box::new(SuiteRequest::of(app, suite, (platform, tools), pins)?)
        }
        Some(("oci", reference)) => Box::new(ImageRequest::of(app, reference, platform)?),
        _ => return Err(unknown()),
    }))
}

/// What steps run, by the names of the catalogue.
pub(crate) type ToolNames = BTreeSet<&'static str>;

type Found = (Box<dyn Base>, Option<NewPins>);

/// The base of the app, pinned as `order` says, with `tools` besides what the source itself says;
/// `before_asking` is called when something has to be asked for.
pub fn of(
    app: &App,
    order: &BuildRequest<'_>,
    store: &Store,
    tools: &ToolNames,
    before_asking: &dyn Fn() -> Result<()>,
) -> Result<Found> {
    let old = Pins::read(&app.opened.config_folder())?;
    let standing = old.as_ref().filter(|_| order.pinning != Pinning::Update);
    let Some(wish) = request(app, order.platform, tools, standing)? else {
        return Ok((host(app, order, store)?, None));
    };
    let none = Pins::default();
    let pins = old.as_ref().or_else(|| wish.needs_no_pins().then_some(&none));
    if let Some(pins) = pins.filter(|_| order.pinning != Pinning::Update || wish.needs_no_pins())
        && let Some(base) = wish.pinned(app, order, store, pins)?
    {
        return Ok((base, None));
    }
    if order.pinning == Pinning::Locked {
        let base = app.survey.base.0.clone();
        return Err(Error::Pins(PinError::Missing { base, file_is_there: old.is_some() }));
    }
    before_asking()?;
    let (base, new) = wish.pin(app, order, store, old.as_ref())?;
    Ok((base, Some(new)))
}

/// The base of the app as far as it is known without asking anybody.
pub(crate) fn known_offline(app: &App, order: &BuildRequest<'_>, store: &Store) -> Result<Box<dyn Base>> {
    let pins = Pins::read(&app.opened.config_folder())?;
    let Some(wish) = request(app, order.platform, &ToolNames::new(), pins.as_ref())? else {
        return host(app, order, store);
    };
    Ok(wish.known_offline(app, order, pins.as_ref()))
}

fn host(app: &App, order: &BuildRequest<'_>, store: &Store) -> Result<Box<dyn Base>> {
    if order.platform != own_platform() {
        let platform = order.platform.to_owned();
        return Err(Error::Base(BaseError::PlatformNotInBase { base: "host".to_owned(), platform }));
    }
    let needed: Vec<&str> =
        needed_runtimes(&app.survey, &app.config).into_iter().map(|wish| wish.runtime.as_str()).collect();
    Ok(Box::new(HostBase::capture(order.host, &needed, store, order.now)?))
}

/// How a runtime is going to be provided.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct Provision {
    /// The runtime.
    pub runtime: String,
    /// Its version; without, it is known when the registry or the machine was asked.
    pub version: Option<String>,
    /// Where it comes from.
    pub origin: String,
    /// What says the version, in a foreign image.
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
    let pins = Pins::read(&app.opened.config_folder())?;
    if let Some(wish) = request(app, &platform, &ToolNames::new(), pins.as_ref())? {
        return Ok(wish.provisions(app, pins.as_ref()));
    }
    let of_host = |runtime: &str| Provision {
        runtime: runtime.to_owned(),
        version: None,
        origin: "host".to_owned(),
        said: None,
        pinned: false,
        instead_of: None,
    };
    let needed = needed_runtimes(&app.survey, &app.config).into_iter();
    Ok(needed.map(|wish| of_host(&wish.runtime)).collect())
}

fn address(app: &App, order: &BuildRequest<'_>, ecosystem: Ecosystem) -> Option<Address> {
    let addresses = Addresses::new(order.book, &app.config, &app.origins, &app.opened.near);
    addresses.in_force(ecosystem).ok().map(|known| known.address)
}
