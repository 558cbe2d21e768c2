//! What apps of a town have in common on this machine, and what each has for itself.

use crate::surroundings::Surroundings;
use arguments::SourceOptions;
use config::Choice;
use content::layer::Codec;
use engine::Budget;
use planning::Pinning;
use remote::{Fetcher, Network};
use source::{KnownHeads, is_url};
use std::sync::Arc;
use town::apps::TownApp;
use town::plan::{Means, Place};
use workshop::inspect::DEFAULT_TAG;

/// How apps of a town are planned.
pub struct Planning<'a> {
    pub tag: &'a str,
    pub pinning: Pinning,
    pub network: Network,
    pub anyway: bool,
}

impl Default for Planning<'_> {
    fn default() -> Self {
        Self { tag: DEFAULT_TAG, pinning: Pinning::Keep, network: Network::Allowed, anyway: false }
    }
}

/// The file in an app's folder that says who may come in where.
const LOGINS: &str = ".npmrc";

/// Does `work` at the place of a town.
pub fn at_place<R>(
    planning: &Planning<'_>,
    surroundings: &Surroundings,
    work: impl FnOnce(&Place<'_>, &Budget) -> R,
) -> R {
    let budget = Budget::new(surroundings.jobs);
    let [fetcher, offline] =
        [planning.network, Network::Forbidden].map(|network| Arc::new(surroundings.fetcher(network)));
    let means = |app: &TownApp| means(app, (&fetcher, &offline), surroundings);
    let place = Place {
        store: &surroundings.store,
        host: &surroundings.host,
        buildpacks: &surroundings.buildpacks,
        platform: &surroundings.platform,
        codec: Codec::default(),
        created: &surroundings.created,
        credentials: &surroundings.credentials,
        seen: &surroundings.seen,
        heads: &KnownHeads::default(),
        pinning: planning.pinning,
        budget: &budget,
        limits: surroundings.step_limits(),
        tag: planning.tag,
        anyway: planning.anyway,
        now: Surroundings::now(),
        cancel: &surroundings.cancel,
        means: &means,
    };
    work(&place, &budget)
}

fn means(
    app: &TownApp,
    (fetcher, offline): (&Arc<Fetcher>, &Arc<Fetcher>),
    surroundings: &Surroundings,
) -> Means {
    // What is elsewhere cannot be asked for its name: it has the one that the town gives it.
    let values = is_url(&app.path).then(|| format!("name={}", app.name)).into_iter().collect();
    let options = SourceOptions { variant: app.variant.clone(), values, ..SourceOptions::of(&app.path) };
    let plain = surroundings.choice(&options);
    // House rules that are named outside of the town are stronger than the town's.
    let choice = Choice { rules: plain.rules.clone().or_else(|| app.rules.clone()), ..plain };
    let (fetcher, offline) = (Arc::clone(fetcher), Arc::clone(offline));
    if !app.path.join(LOGINS).is_file() {
        return Means { book: Arc::clone(&surroundings.book), fetcher, offline, choice };
    }
    let (book, logins) = surroundings.said_for(&app.path);
    let network = if fetcher.may_use_network() { Network::Allowed } else { Network::Forbidden };
    let own = Arc::new(surroundings.fetcher(network).with_logins(logins));
    Means { book, fetcher: own, offline, choice }
}
