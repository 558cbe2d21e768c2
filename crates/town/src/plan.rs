//! Looking at apps and planning their builds, several at once. One that cannot be looked at or built does not keep the
//! others.

use crate::apps::TownApp;
use bases::debian::SeenSuites;
use bases::host::Host;
use cancel::Cancel;
use config::Choice;
use config::addresses::AddressBook;
use content::layer::Codec;
use content::store::Store;
use engine::{Budget, StepContext, run_indexed};
use model::Error;
use model::error::TownError;
use planning::Pinning;
use remote::Fetcher;
use remote::oci::CredentialFiles;
use sandbox::Limits;
use source::{Asked, KnownHeads};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;
use workshop::app::{App, BuildRequest, look};
use workshop::buildpacks::Buildpacks;
use workshop::check::{PLAN_FAILS, Problem, Scope, Severity, check};
use workshop::plan::Worklist;
use workshop::prepare::{plan_offline, prepare};

/// What all apps of a town have in common on this machine.
pub struct Place<'a> {
    /// The store.
    pub store: &'a Store,
    /// The machine that the base `host` is captured from.
    pub host: &'a Host,
    /// The effective buildpacks.
    pub buildpacks: &'a Buildpacks,
    /// The platform of the images.
    pub platform: &'a str,
    /// How layers are compressed.
    pub codec: Codec,
    /// Creation time in documents (RFC 3339).
    pub created: &'a str,
    /// Credentials for registries of images.
    pub credentials: &'a Arc<CredentialFiles>,
    /// What was learned of archives already.
    pub seen: &'a SeenSuites,
    /// What is known of repositories, for this moment.
    pub heads: &'a KnownHeads,
    /// How pins are treated.
    pub pinning: Pinning,
    /// How much is done at once.
    pub budget: &'a Budget,
    /// How much the programs of a step may use.
    pub limits: Limits,
    /// The tag of images where the town says none.
    pub tag: &'a str,
    /// Whether problems that are known before do not matter.
    pub anyway: bool,
    /// Now, in nanoseconds since 1970.
    pub now: i64,
    /// Ends the work early.
    pub cancel: &'a Cancel,
    /// Gives what is known for one app.
    pub means: &'a (dyn Fn(&TownApp) -> Means + Sync),
}

/// What is known for one app: its folder may contain credentials, too.
pub struct Means {
    /// Where packages come from.
    pub book: Arc<AddressBook>,
    /// Gets them; most apps share one, with its connections.
    pub fetcher: Arc<Fetcher>,
    /// The same without the network.
    pub offline: Arc<Fetcher>,
    /// Its configuration from outside of it.
    pub choice: Choice,
}

/// An app that was looked at.
pub struct Looked {
    /// Which one.
    pub place: TownApp,
    /// What it is.
    pub app: App,
    /// What is known for it.
    pub means: Means,
}

/// What keeps an app from being built.
#[derive(Debug, Clone)]
pub enum Trouble {
    /// It failed.
    Failed(Arc<Error>),
    /// It is known before anything runs that it, or its start, will fail.
    WillFail(Vec<Problem>),
    /// An app whose image it needs was not built.
    Waits {
        /// The name of that app.
        after: String,
    },
}

impl From<Error> for Trouble {
    fn from(error: Error) -> Self {
        Self::Failed(Arc::new(error))
    }
}

/// An app with what will be done for it.
pub struct PlannedApp {
    /// The app.
    pub looked: Looked,
    /// What will be done.
    pub worklist: Worklist,
    /// What people should know of it.
    pub notes: Vec<String>,
    /// The tag of its image.
    pub tag: String,
    /// When it was begun.
    pub started: Instant,
}

impl PlannedApp {
    /// How it is built.
    pub fn request<'r>(&'r self, place: &Place<'r>) -> BuildRequest<'r> {
        place.request(&self.looked.means, &self.looked.means.fetcher, (&self.tag, self.started))
    }
}

impl<'a> Place<'a> {
    fn request<'r>(
        &self,
        means: &'r Means,
        fetcher: &'r Fetcher,
        (tag, started): (&'r str, Instant),
    ) -> BuildRequest<'r>
    where
        'a: 'r,
    {
        BuildRequest {
            tag,
            platform: self.platform,
            codec: self.codec,
            created: self.created,
            host: self.host,
            book: &means.book,
            seen: self.seen,
            fetcher,
            credentials: self.credentials,
            pinning: self.pinning,
            now: self.now,
            started,
        }
    }

    /// Does something for every app, several at once; returns the results in order.
    pub fn each<T: Sync, R: Send>(&self, items: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
        let done: Mutex<Vec<Option<R>>> = Mutex::new(items.iter().map(|_| None).collect());
        run_indexed(items.len(), self.budget.jobs(), |index| {
            let result = work(&items[index]);
            done.lock().unwrap_or_else(PoisonError::into_inner)[index] = Some(result);
        });
        done.into_inner().unwrap_or_else(PoisonError::into_inner).into_iter().flatten().collect()
    }

    /// Looks at an app.
    pub fn look(&self, app: &TownApp) -> Result<Looked, Trouble> {
        self.check_cancelled()?;
        let means = (self.means)(app);
        let asked = Asked {
            path: &app.path,
            revision: app.revision.as_deref(),
            search: &self.host.search,
            member: app.member.as_deref(),
            heads: Some(self.heads),
            fetcher: Some(&means.fetcher),
        };
        let looked = look(&asked, &means.choice, self.buildpacks, self.store, self.now)?;
        Ok(Looked { place: app.clone(), app: looked, means })
    }

    /// What would break the build or the start, and what may: as far as the source tells, or also what registries say.
    pub fn problems(&self, looked: &Looked, scope: Scope) -> Result<Vec<Problem>, Trouble> {
        self.check_cancelled()?;
        let request = self.request(&looked.means, &looked.means.offline, (self.tag, Instant::now()));
        let planned = plan_offline(&looked.app, &request, self.store);
        let app = &looked.app;
        let tools = StepContext {
            app: &app.survey.name,
            step: "check",
            root: &[],
            read: &[],
            note: &|_| {},
            fetcher: if scope == Scope::All { &looked.means.fetcher } else { &looked.means.offline },
            budget: self.budget,
            progress: &|_, _| (),
            limits: self.limits,
            app_limits: app.config.step_limits,
            gateway: None,
            failed_root: None,
            cancel: self.cancel,
        };
        let problems = check(app, &planned, &tools, scope)?;
        let Err(error) = planned else { return Ok(problems) };
        // What is not pinned, or not at hand, may still be found out.
        let is_certain =
            matches!(error, Error::Survey(_) | Error::Config(_) | Error::Base(_) | Error::Source(_));
        let others: Vec<Problem> =
            problems.into_iter().filter(|problem| problem.code != PLAN_FAILS).collect();
        let breaks = others.iter().any(|problem| problem.severity == Severity::Error);
        // The error itself says more than the rule.
        if is_certain && !breaks { Err(error.into()) } else { Ok(others) }
    }

    /// Plans the build of an app: what has to be pinned is asked for, and nothing runs.
    pub fn plan(&self, looked: Looked) -> Result<PlannedApp, Trouble> {
        let started = Instant::now();
        if !self.anyway {
            let mut problems = self.problems(&looked, Scope::Source)?;
            problems.retain(|problem| problem.severity == Severity::Error);
            if !problems.is_empty() {
                return Err(Trouble::WillFail(problems));
            }
        }
        self.check_cancelled()?;
        let tag = looked.place.tag.clone().unwrap_or_else(|| self.tag.to_owned());
        let request = self.request(&looked.means, &looked.means.fetcher, (&tag, started));
        let worklist = prepare(&looked.app, &request, self.store)?;
        let notes = workshop::build::settle_pins(&worklist);
        Ok(PlannedApp { looked, worklist, notes, tag, started })
    }

    fn check_cancelled(&self) -> Result<(), Error> {
        if self.cancel.is_cancelled() { Err(Error::Interrupted) } else { Ok(()) }
    }
}

/// Refuses apps of which two have images of one name.
pub fn check_names<'l>(all: impl Iterator<Item = &'l Looked>) -> Result<(), Error> {
    let mut names = BTreeMap::<&str, &PathBuf>::new();
    for looked in all {
        let (name, second) = (looked.app.survey.name.as_str(), &looked.place.path);
        if let Some(first) = names.insert(name, second) {
            let (name, first, second) = (name.to_owned(), first.clone(), second.clone());
            return Err(TownError::Twice { name, first, second }.into());
        }
    }
    Ok(())
}
