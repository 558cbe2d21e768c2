//! From an app to the worklist of its build: base, packages and pins are settled.

use crate::app::{App, BuildRequest};
use crate::base_selection::{self, NewPins, ToolNames};
use crate::plan::{Resolutions, Sources, Worklist, plan};
use config::addresses::Addresses;
use config::pins::Pins;
use content::store::Store;
use engine::LayerTarget;
use model::error::PackageError;
use model::fetched::FetchedSets;
use model::{Error, Result, names};
use planning::{Base, Resolving};
use remote::Fetcher;

/// Plans the build of `app`: nothing is run, and only what has to be pinned is asked for.
pub fn prepare(app: &App, order: &BuildRequest<'_>, store: &Store) -> Result<Worklist> {
    prepare_after(app, order, &FetchedSets::new(), store)
}

/// The same, with what steps fetched just now.
pub(crate) fn prepare_after(
    app: &App,
    order: &BuildRequest<'_>,
    recorded: &FetchedSets,
    store: &Store,
) -> Result<Worklist> {
    // What is wrong in any case is reported before anybody is asked for anything.
    let check_offline = || match plan_offline(app, order, store) {
        // A package may bring what its script would make: only its archive tells.
        Err(Error::Package(PackageError::InstallScripts { .. })) => Ok(()),
        planned => planned.map(drop),
    };
    names::check_tag(order.tag)?;
    let select = |tools: &ToolNames, check: &dyn Fn() -> Result<()>| {
        base_selection::of(app, order, store, tools, check)
    };
    let (base, new_pins) = select(&ToolNames::new(), &check_offline)?;
    let resolutions = resolve(app, order, base.as_ref(), recorded, (Some(order.fetcher), store))?;
    // What has to be compiled is known only now: what that takes is pinned, too.
    let tools = resolutions.tools();
    let (base, new_pins) = match tools.iter().all(|tool| base.is_ready_for(tool)) {
        true => (base, new_pins),
        false => select(&tools, &|| Ok(()))?,
    };
    let mut list = plan_on(app, order, base.as_ref(), &resolutions)?;
    list.pack(&app.tree, &app.tree.digests(store, order.now)?);
    let (resolved, hashes) = resolutions.into_pins();
    list.new_pins = NewPins::with_resolved(app, new_pins, order.platform, resolved, hashes)?;
    Ok(list)
}

/// Plans everything but the packing of the app's own files, which are not read. Nobody is asked for anything:
/// where nothing is pinned yet, what is known of the base has to do.
pub fn plan_offline(app: &App, order: &BuildRequest<'_>, store: &Store) -> Result<Worklist> {
    names::check_tag(order.tag)?;
    let base = base_selection::known_offline(app, order, store)?;
    let resolutions = resolve(app, order, base.as_ref(), &FetchedSets::new(), (None, store))?;
    plan_on(app, order, base.as_ref(), &resolutions)
}

fn addresses(app: &App, order: &BuildRequest<'_>) -> Addresses {
    Addresses::new(order.book, &app.config, &app.origins, &app.opened.near)
}

fn resolve(
    app: &App,
    order: &BuildRequest<'_>,
    base: &dyn Base,
    recorded: &FetchedSets,
    (asking, store): (Option<&Fetcher>, &Store),
) -> Result<Resolutions> {
    let pins = Pins::read(&app.opened.config_folder())?.unwrap_or_default();
    let Pins { resolved: known, hashes, fetched, .. } = pins;
    let (recorded, pinning) = (recorded.clone(), order.pinning);
    let resolving = Resolving { known, hashes, fetched, recorded, pinning, asking, store };
    Resolutions::of(&sources(app, &addresses(app, order)), base, order.platform, &resolving)
}

fn sources<'a>(app: &'a App, addresses: &'a Addresses) -> Sources<'a> {
    let App { survey, tree, config, buildpacks, .. } = app;
    Sources { survey, tree, config, addresses, buildpacks }
}

fn plan_on(
    app: &App,
    order: &BuildRequest<'_>,
    base: &dyn Base,
    resolutions: &Resolutions,
) -> Result<Worklist> {
    let target = LayerTarget { codec: order.codec, platform: order.platform.to_owned() };
    plan(&sources(app, &addresses(app, order)), base, resolutions, target)
}
