//! Bases from packages of a suite: what an app wants of it, and what of that is pinned.

use crate::app::{App, BuildRequest};
use crate::base_selection::node_version::{self, Choice, ExactWish, NODE};
use crate::base_selection::{BaseRequest, NewPins, Provision, ToolNames, address};
use crate::buildpacks::Buildpacks;
use crate::survey::{needed_runtimes, needed_tools};
use bases::debian;
use bases::debian::{
    Archives, BASE, BUILD_BASE, BuildRoot, DebianBase, EXTRA, LIBRARIES, SeenSuites, Suite, Wanted,
    WantedRuntime,
};
use bases::empty::EmptyBase;
use config::addresses::Addresses;
use config::pins::Pins;
use content::digest::Sha256;
use content::store::Store;
use model::OptionSpec;
use model::error::{BaseError, ConfigError};
use model::pins::{ExactRuntime, PinnedSet, Sets, SuitePin};
use model::platform::own_platform;
use model::{Ecosystem, EmptyPart, Error, PathFacts, Result, RuntimeWish};
use planning::Base;
use remote::Address;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// What is pinned: for the image's platform, packages and runtimes from a registry.
#[derive(Debug, Clone, Default)]
pub(super) struct Pinned {
    sets: Sets,
    exact: BTreeMap<String, ExactRuntime>,
    /// The root that things are built in, on this machine's platform.
    build: PinnedSet,
}

/// The packages that were chosen from a suite in a state.
#[derive(Serialize, Deserialize)]
struct ChosenPackages {
    suites: BTreeMap<String, SuitePin>,
    sets: Sets,
    build: PinnedSet,
}

/// How packages are chosen; a change of it makes what is kept of it void.
const CHOICE_FORMAT: u32 = 1;

/// What an app wants of a suite.
pub(super) struct SuiteRequest<'a> {
    base: String,
    platform: &'a str,
    wanted: Wanted<'a>,
    /// Runtimes whose constraint the suite's own version does not meet, with that constraint.
    exact: BTreeMap<String, ExactWish>,
    /// Packages of the root that things are built in; none when nothing is.
    build: Vec<String>,
    is_empty: bool,
    buildpacks: &'a Buildpacks,
}

impl<'a> SuiteRequest<'a> {
    /// What an app on a base of the suite wants.
    pub(super) fn of(
        app: &'a App,
        suite: &'static Suite,
        (platform, tools): (&'a str, &ToolNames),
        pins: Option<&Pins>,
    ) -> Result<Self> {
        let (mut runtimes, mut exact) = (Vec::new(), BTreeMap::new());
        for wish in needed_runtimes(&app.survey, &app.config) {
            if wish.runtime == NODE {
                match node_version::choose(app, suite, wish, (pins, platform)) {
                    Choice::Own(own) => runtimes.push(wanted_runtime(app, wish, own)),
                    Choice::Exact(wanted) => {
                        exact.insert(NODE.to_owned(), wanted);
                        runtimes.push(WantedRuntime::libraries(NODE, LIBRARIES));
                    }
                    Choice::None => {}
                }
                continue;
            }
            let constraint = wish.constraint.as_ref().map(|(text, _)| text.as_str());
            let accepts = |version: &str| {
                let accepted = |text| app.buildpacks.named(&wish.runtime)?.accepts(text, version);
                constraint.is_none_or(|text| accepted(text) != Some(false))
            };
            runtimes.extend(suite.runtime(&wish.runtime, accepts).map(|own| wanted_runtime(app, wish, own)));
        }
        if let Some(wish) = node_for_build(app).filter(|_| !exact.contains_key(NODE))
            && let Choice::Exact(wanted) = node_version::choose(app, suite, wish, (pins, platform))
        {
            exact.insert(NODE.to_owned(), wanted);
        }
        let mut wishes = Self::with_base(app, suite, (platform, tools), BASE.to_vec())?;
        wishes.wanted.runtimes = runtimes;
        let of_buildpacks = app.survey.chosen_findings().flat_map(|finding| &finding.system_packages);
        wishes.wanted.packages =
            app.config.base_packages.iter().chain(of_buildpacks).map(String::as_str).collect();
        wishes.build = build_packages(app, suite, tools, exact.keys().filter(|_| platform == own_platform()));
        wishes.exact = exact;
        Ok(wishes)
    }

    /// What an app on the empty base wants.
    pub(super) fn of_empty(
        app: &'a App,
        suite: &'static Suite,
        platform: &'a str,
        tools: &ToolNames,
    ) -> Result<Self> {
        let packages = app.base_with().into_iter().filter_map(EmptyPart::package).collect();
        let mut wishes = Self::with_base(app, suite, (platform, tools), packages)?;
        wishes.is_empty = true;
        wishes.wanted.only_base = true;
        Ok(wishes)
    }

    fn with_base(
        app: &'a App,
        suite: &'static Suite,
        (platform, tools): (&'a str, &ToolNames),
        base: Vec<&'static str>,
    ) -> Result<Self> {
        let name = app.survey.base.0.clone();
        let unknown = || {
            Error::Base(BaseError::PlatformNotInBase { base: name.clone(), platform: platform.to_owned() })
        };
        let wanted = Wanted {
            suite,
            architecture: debian::architecture(platform).ok_or_else(unknown)?,
            base,
            only_base: false,
            runtimes: Vec::new(),
            packages: Vec::new(),
        };
        let build = build_packages(app, suite, tools, std::iter::empty());
        let buildpacks = &app.buildpacks;
        Ok(Self { base: name, platform, wanted, exact: BTreeMap::new(), build, is_empty: false, buildpacks })
    }

    /// What is pinned, if it is all that is wanted.
    fn pins_in(&self, pins: Option<&Pins>) -> Option<Pinned> {
        if self.needs_no_pins() {
            return Some(Pinned::default());
        }
        let pins = pins?;
        let build = pins.build(&self.base, &own_platform()).cloned().unwrap_or_default();
        let known = pins.sets(&self.base, self.platform)?;
        let is_asked =
            |set: &str, names: Vec<&str>| known.get(set).is_some_and(|pinned| pinned.asked == names);
        let of_runtime =
            |wish: &WantedRuntime| is_asked(&wish.set, wish.packages.iter().map(String::as_str).collect());
        let exact = pins.runtimes.get(self.platform).cloned().unwrap_or_default();
        let meets = |(runtime, wish): (&String, &ExactWish)| {
            let version = &exact.get(runtime)?.version;
            let Some(constraint) = &wish.constraint else { return Some(true) };
            self.buildpacks.named(runtime)?.accepts(constraint, version)
        };
        let all = is_asked("base", self.wanted.base.clone())
            && (self.wanted.packages.is_empty() || is_asked(EXTRA, self.wanted.packages.clone()))
            && self.wanted.runtimes.iter().all(of_runtime)
            && self.build.iter().all(|name| build.asked.contains(name))
            && self.exact.iter().all(|wish| meets(wish) == Some(true))
            && exact.keys().all(|name| self.exact.contains_key(name));
        all.then(|| Pinned { sets: known.clone(), exact, build })
    }

    /// Chooses packages. What the same state of the suite came to before, for whatever app, it comes to again.
    fn choice(&self, archives: &Archives<'_>, seen: &SeenSuites) -> Result<ChosenPackages> {
        let (suite, own) = (self.wanted.suite, own_architecture(&self.base)?);
        let asked = (CHOICE_FORMAT, &self.wanted, &self.build, own, seen.state(archives, suite)?);
        let asked = Sha256::of(&serde_json::to_vec(&asked).map_err(std::io::Error::other)?);
        let place = archives.store.fragment_path("debian-choices", asked);
        if let Some(known) = archives.store.read_document(&place).whole() {
            return Ok(known);
        }
        let index = seen.index(archives, suite, self.wanted.architecture)?;
        let sets = debian::resolve(&self.wanted, &index)?;
        let mut build = PinnedSet::default();
        if !self.build.is_empty() {
            let index = seen.index(archives, suite, own)?;
            build = debian::resolve_build(suite, &self.build, &index)?;
        }
        let chosen = ChosenPackages { suites: seen.state(archives, suite)?, sets, build };
        archives.store.write_document(&place, &chosen)?;
        Ok(chosen)
    }

    /// Asks the registry for the runtimes that the suite does not have as they are wanted.
    fn find_exact(&self, app: &App, order: &BuildRequest<'_>) -> Result<BTreeMap<String, ExactRuntime>> {
        let mut found = BTreeMap::new();
        for (runtime, wanted) in &self.exact {
            let registry = address(app, order, Ecosystem::NPM)
                .ok_or(Error::Config(ConfigError::NoAddress { ecosystem: "npm" }))?;
            let exact = debian::find_exact(
                order.fetcher,
                &registry,
                self.wanted.architecture,
                &wanted.constraints(),
            )?;
            let wish = needed_runtimes(&app.survey, &app.config).into_iter().find(|w| w.runtime == *runtime);
            let exact = exact.ok_or_else(|| {
                Error::Base(BaseError::NoSuchVersion {
                    runtime: runtime.clone(),
                    wanted: wanted.constraints().join(" and "),
                    place: wish.and_then(|w| w.constraint.as_ref()).map(|(_, place)| place.clone()),
                    base: self.base.clone(),
                    registry: registry.to_string(),
                })
            })?;
            found.insert(runtime.clone(), exact);
        }
        Ok(found)
    }

    /// The base from what is pinned.
    fn base(
        &self,
        app: &App,
        order: &BuildRequest<'_>,
        Pinned { sets, exact, build }: Pinned,
    ) -> Box<dyn Base> {
        let npm = Addresses::new(order.book, &app.config, &app.origins, &app.opened.near);
        let base = DebianBase {
            suite: self.wanted.suite,
            sets,
            runtimes: self.wanted.runtimes.clone(),
            exact,
            archives: debian_addresses(app, order),
            npm,
            architecture: self.wanted.architecture,
            build: BuildRoot {
                architecture: own_architecture(&self.base).unwrap_or(self.wanted.architecture),
                packages: build,
            },
        };
        match self.is_empty {
            true => Box::new(EmptyBase { with: app.base_with(), packages: base }),
            false => Box::new(base),
        }
    }
}

impl BaseRequest for SuiteRequest<'_> {
    fn pinned(
        &self,
        app: &App,
        order: &BuildRequest<'_>,
        _store: &Store,
        pins: &Pins,
    ) -> Result<Option<Box<dyn Base>>> {
        Ok(self.pins_in(Some(pins)).map(|pinned| self.base(app, order, pinned)))
    }

    fn needs_no_pins(&self) -> bool {
        self.wanted.base.is_empty() && self.build.is_empty()
    }

    fn pin(
        &self,
        app: &App,
        order: &BuildRequest<'_>,
        store: &Store,
        old: Option<&Pins>,
    ) -> Result<(Box<dyn Base>, NewPins)> {
        let keyrings = keyrings(app)?;
        let archives = Archives {
            addresses: debian_addresses(app, order),
            keyrings: &keyrings,
            fetcher: order.fetcher,
            store,
            now: order.now / 1_000_000_000,
            outdated: app.config.outdated.unwrap_or_default(),
        };
        let exact = self.find_exact(app, order)?;
        let choice = self.choice(&archives, order.seen)?;
        let ChosenPackages { suites, sets, build } = choice;
        let mut new = Pins::with(old, &self.base, suites, self.platform, sets.clone(), exact.clone());
        new.set_build(&own_platform(), &build);
        let new = NewPins::new(app, old, &new, self.platform, archives.addresses[1].is_none());
        Ok((self.base(app, order, Pinned { sets, exact, build }), new))
    }

    fn known_offline(&self, app: &App, order: &BuildRequest<'_>, pins: Option<&Pins>) -> Box<dyn Base> {
        let mut pinned = self.pins_in(pins).unwrap_or_default();
        for (runtime, wanted) in &self.exact {
            // Whether there is such a version, only the registry knows.
            pinned.exact.entry(runtime.clone()).or_insert_with(|| wanted.unpinned());
        }
        self.base(app, order, pinned)
    }

    fn provisions(&self, app: &App, pins: Option<&Pins>) -> Vec<Provision> {
        let pinned = self.pins_in(pins);
        let build = pinned.as_ref().map(|pinned| pinned.build.clone());
        let Pinned { sets, exact, .. } = pinned.clone().unwrap_or_default();
        let provision = |wish: &RuntimeWish| {
            let name = wish.runtime.as_str();
            let wanted = self.wanted.runtimes.iter().find(|wanted| wanted.name == name)?;
            let (version, origin) = match (wanted.own, wanted.made_of) {
                (None, Some(whole)) => {
                    (Some(debian::version_of(whole, build.as_ref())), debian::made_of(&self.base))
                }
                (None, None) => (exact.get(name).map(|e| e.version.clone()), "the npm registry".to_owned()),
                (Some(own), _) => (Some(debian::version_of(own, sets.get(&wanted.set))), self.base.clone()),
            };
            let of_suite = self.wanted.suite.runtime(name, |_| true);
            let of_suite = of_suite.filter(|_| wanted.own.is_none() && wanted.made_of.is_none());
            let instead_of = of_suite.map(|own| format!("{} of {}", own.version, self.base));
            let pinned = pinned.is_some();
            Some(Provision { runtime: name.to_owned(), version, origin, said: None, pinned, instead_of })
        };
        needed_runtimes(&app.survey, &app.config).into_iter().filter_map(provision).collect()
    }
}

fn wanted_runtime(app: &App, wish: &RuntimeWish, own: &'static debian::SuiteRuntime) -> WantedRuntime {
    let is_set = |key| app.config.buildpacks.get(&wish.runtime).is_some_and(|options| options.is_set(key));
    if is_set(OptionSpec::SMALL_RUNTIME) && !own.small_needs.is_empty() {
        return WantedRuntime::small(&wish.runtime, own);
    }
    let slim = is_set(OptionSpec::SLIM) && !own.slim_without.is_empty();
    let mut packages: Vec<String> = own.packages.iter().map(|p| (*p).to_owned()).collect();
    for (part, _) in &wish.parts {
        let package = own.parts.map(|beginning| format!("{beginning}{part}"));
        packages.extend(package.filter(|p| !own.packages.contains(&p.as_str())));
    }
    WantedRuntime {
        name: wish.runtime.clone(),
        own: Some(own),
        made_of: None,
        set: if slim { format!("{}-slim", wish.runtime) } else { wish.runtime.to_owned() },
        packages,
        without: own.slim_without.iter().filter(|_| slim).map(|name| (*name).to_owned()).collect(),
    }
}

/// What is wanted of Node where only the build command needs it.
fn node_for_build(app: &App) -> Option<&RuntimeWish> {
    let build = app.survey.build.as_ref()?;
    let finding = app.survey.findings.iter().find(|finding| finding.buildpack == NODE)?;
    finding.runtime.as_ref().filter(|_| build.command.tools.iter().any(|tool| tool == NODE))
}

/// What the root is made of that things are built in: the base, tools, and what the configuration adds; `exact` are the
/// runtimes that come from a registry.
fn build_packages<'e>(
    app: &App,
    suite: &Suite,
    tools: &ToolNames,
    exact: impl Iterator<Item = &'e String> + Clone,
) -> Vec<String> {
    let mut tools: BTreeSet<String> = tools.iter().map(|name| (*name).to_owned()).collect();
    tools.extend(needed_tools(&app.survey, &app.config));
    let runs_programs = app.survey.chosen_findings().any(|finding| finding.runs_programs);
    if tools.is_empty() && app.survey.build.is_none() && !runs_programs {
        return Vec::new();
    }
    let packages = tools.iter().flat_map(|name| match exact.clone().any(|runtime| runtime == name) {
        true => LIBRARIES,
        false => suite.tool(name).map(|tool| tool.packages).unwrap_or_default(),
    });
    let mut all: Vec<String> =
        packages.chain(&BASE).chain(&BUILD_BASE).map(|name| (*name).to_owned()).collect();
    all.extend(app.config.build_packages.iter().cloned());
    all.extend(app.survey.chosen_findings().flat_map(|finding| finding.build_packages.iter().cloned()));
    all
}

fn own_architecture(base: &str) -> Result<&'static str> {
    let platform = own_platform();
    debian::architecture(&platform).ok_or_else(|| {
        Error::Base(BaseError::PlatformNotInBase { base: base.to_owned(), platform: platform.clone() })
    })
}

fn debian_addresses(app: &App, order: &BuildRequest<'_>) -> [Option<Address>; 2] {
    [Ecosystem::DEBIAN, Ecosystem::DEBIAN_SECURITY].map(|ecosystem| address(app, order, ecosystem))
}

fn keyrings(app: &App) -> Result<Vec<Vec<u8>>> {
    let file = app.config.keyring.as_ref().map(|file| app.opened.near.join(file));
    file.iter().map(|file| std::fs::read(file).facts(file)).collect()
}
