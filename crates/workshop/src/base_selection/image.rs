//! Bases that are foreign images: which one, and what of it is pinned.

use crate::app::{App, BuildRequest};
use crate::base_selection::{BaseRequest, NewPins, Provision};
use crate::survey::needed_runtimes;
use bases::image::{Getting, ImageBase, Location};
use config::pins::Pins;
use content::store::Store;
use model::pins::{Carried, ExactRuntime, ImagePin};
use model::{Result, RuntimeWish};
use planning::Base;
use remote::oci::{ForeignConfig, ForeignManifest};
use std::collections::BTreeMap;
use std::sync::Arc;

/// What an app wants of a foreign image.
pub(super) struct ImageRequest<'a> {
    name: String,
    location: Location,
    platform: &'a str,
}

impl<'a> ImageRequest<'a> {
    /// The image that the app's configuration names as `oci:REFERENCE`.
    pub(super) fn of(app: &App, reference: &str, platform: &'a str) -> Result<Self> {
        let location = Location::parse(reference, &app.opened.near)?;
        Ok(Self { name: app.survey.base.0.clone(), location, platform })
    }

    /// What is pinned of it.
    fn pin_in(&self, pins: Option<&Pins>) -> Option<ImagePin> {
        pins.filter(|pins| pins.base == self.name)?.images.get(self.platform).cloned()
    }

    /// The base from what is pinned.
    fn base(&self, order: &BuildRequest<'_>, store: &Store, pin: &ImagePin) -> Result<Box<dyn Base>> {
        let documents = Some(self.getting(order, store).documents(pin)?);
        Ok(self.with(order, documents, pin.runtimes.clone()))
    }

    fn getting<'g>(&'g self, order: &'g BuildRequest<'_>, store: &'g Store) -> Getting<'g> {
        Getting { location: &self.location, fetcher: order.fetcher, credentials: order.credentials, store }
    }

    fn with(
        &self,
        order: &BuildRequest<'_>,
        documents: Option<(ForeignManifest, ForeignConfig)>,
        runtimes: BTreeMap<String, Carried>,
    ) -> Box<dyn Base> {
        Box::new(ImageBase {
            name: self.name.clone(),
            location: self.location.clone(),
            credentials: Arc::clone(order.credentials),
            documents,
            runtimes,
        })
    }
}

impl BaseRequest for ImageRequest<'_> {
    fn pinned(
        &self,
        _app: &App,
        order: &BuildRequest<'_>,
        store: &Store,
        pins: &Pins,
    ) -> Result<Option<Box<dyn Base>>> {
        self.pin_in(Some(pins)).map(|pin| self.base(order, store, &pin)).transpose()
    }

    fn pin(
        &self,
        app: &App,
        order: &BuildRequest<'_>,
        store: &Store,
        old: Option<&Pins>,
    ) -> Result<(Box<dyn Base>, NewPins)> {
        let pin = self.getting(order, store).pin(self.platform)?;
        let new = Pins::with_image(old, &self.name, self.platform, pin.clone());
        let new = NewPins::new(app, old, &new, self.platform, false);
        Ok((self.base(order, store, &pin)?, new))
    }

    /// Before it is pinned, it may have anything.
    fn known_offline(&self, app: &App, order: &BuildRequest<'_>, pins: Option<&Pins>) -> Box<dyn Base> {
        let of_wish = |wish: &RuntimeWish| {
            let constraint = wish.constraint.as_ref().map_or("", |(text, _)| text.as_str());
            let carried = Carried {
                version: ExactRuntime::unpinned(constraint).version,
                program: String::new(),
                said: String::new(),
            };
            (wish.runtime.to_owned(), carried)
        };
        let shell = || {
            let carried = Carried { version: String::new(), program: String::new(), said: String::new() };
            ("sh".to_owned(), carried)
        };
        let unknown = || {
            let needed = needed_runtimes(&app.survey, &app.config).into_iter().map(of_wish);
            needed.chain(std::iter::once(shell())).collect()
        };
        let runtimes = self.pin_in(pins).map_or_else(unknown, |pin| pin.runtimes);
        self.with(order, None, runtimes)
    }

    fn provisions(&self, app: &App, pins: Option<&Pins>) -> Vec<Provision> {
        let pin = self.pin_in(pins);
        let of_wish = |wish: &RuntimeWish| {
            let carried = pin.as_ref().and_then(|pin| pin.runtimes.get(&wish.runtime));
            Provision {
                runtime: wish.runtime.clone(),
                version: carried.map(|carried| carried.version.clone()),
                origin: self.name.clone(),
                said: carried.map(|carried| carried.said.clone()),
                pinned: pin.is_some(),
                instead_of: None,
            }
        };
        needed_runtimes(&app.survey, &app.config).into_iter().map(of_wish).collect()
    }
}
