//! Bases that are images of others: which one, and what of it is pinned.

use super::{NewPins, Provision};
use crate::base::Base;
use crate::base::debian::ExactRuntime;
use crate::base::image::{Carried, Getting, ImageBase, ImagePin, Location};
use crate::error::Result;
use crate::pins::Pins;
use crate::pipeline::{App, Order};
use crate::worklist::needed_runtimes;
use content::store::Store;
use std::collections::BTreeMap;
use std::sync::Arc;

/// What an app wants of an image of others.
pub(super) struct ImageWish<'a> {
    name: String,
    location: Location,
    platform: &'a str,
}

impl<'a> ImageWish<'a> {
    /// The image that the app's configuration names as `oci:REFERENCE`.
    pub(super) fn of(app: &App, reference: &str, platform: &'a str) -> Result<Self> {
        let location = Location::parse(reference, &app.opened.near)?;
        Ok(Self { name: app.survey.base.0.clone(), location, platform })
    }

    /// What is pinned of it.
    pub(super) fn pinned(&self, pins: Option<&Pins>) -> Option<ImagePin> {
        pins.filter(|pins| pins.base == self.name)?.images.get(self.platform).cloned()
    }

    /// Pins what the name stands for now.
    pub(super) fn pin(
        &self,
        app: &App,
        order: &Order<'_>,
        store: &Store,
        old: Option<&Pins>,
    ) -> Result<(ImagePin, NewPins)> {
        let pin = self.getting(order, store).pin(self.platform)?;
        let new = Pins::with_image(old, &self.name, self.platform, pin.clone());
        let pins = NewPins::new(app, old, &new, self.platform, false);
        Ok((pin, pins))
    }

    /// The base from what is pinned.
    pub(super) fn base(&self, order: &Order<'_>, store: &Store, pin: &ImagePin) -> Result<Box<dyn Base>> {
        let documents = Some(self.getting(order, store).documents(pin)?);
        Ok(self.with(order, documents, pin.runtimes.clone()))
    }

    /// The base as far as it is known without asking anybody: before it is pinned, it may have anything.
    pub(super) fn foreseen(&self, app: &App, order: &Order<'_>, pins: Option<&Pins>) -> Box<dyn Base> {
        let of_wish = |wish: &crate::survey::RuntimeWish| {
            let constraint = wish.constraint.as_ref().map_or("", |(text, _)| text.as_str());
            let carried = Carried {
                version: ExactRuntime::unpinned(constraint).version,
                program: String::new(),
                said: String::new(),
            };
            (wish.runtime.to_owned(), carried)
        };
        let unknown = || needed_runtimes(&app.survey, &app.config).into_iter().map(of_wish).collect();
        let runtimes = self.pinned(pins).map_or_else(unknown, |pin| pin.runtimes);
        self.with(order, None, runtimes)
    }

    /// How the runtimes are going to be provided.
    pub(super) fn provisions(&self, app: &App, pins: Option<&Pins>) -> Vec<Provision> {
        let pin = self.pinned(pins);
        let of_wish = |wish: &crate::survey::RuntimeWish| {
            let carried = pin.as_ref().and_then(|pin| pin.runtimes.get(wish.runtime));
            Provision {
                runtime: wish.runtime,
                version: carried.map(|carried| carried.version.clone()),
                origin: self.name.clone(),
                said: carried.map(|carried| carried.said.clone()),
                pinned: pin.is_some(),
                instead_of: None,
            }
        };
        needed_runtimes(&app.survey, &app.config).into_iter().map(of_wish).collect()
    }

    fn getting<'g>(&'g self, order: &'g Order<'_>, store: &'g Store) -> Getting<'g> {
        Getting { location: &self.location, fetcher: order.fetcher, credentials: order.credentials, store }
    }

    fn with(
        &self,
        order: &Order<'_>,
        documents: Option<(remote::oci::ForeignManifest, remote::oci::ForeignConfig)>,
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
