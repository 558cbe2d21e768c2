//! What the program takes from its surroundings: folders, variables, the clock.

use crate::addresses;
use crate::folders::{user_file, user_folder};
use arguments::{Global, SourceOptions};
use bases::debian::SeenSuites;
use bases::host::Host;
use cancel::Cancel;
use config::addresses::{AddressBook, KnownAddress};
use config::{AppConfig, Choice, ConfigPlace, Effective, Layer, RunValues, UserConfig};
use content::store::Store;
use ecosystems::Withheld;
use engine::{Budget, Event, Session};
use images::push::Transfer;
use model::platform::own_platform;
use remote::oci::CredentialFiles;
use remote::{Fetcher, Login, Network, Witness};
use sandbox::Limits;
use source::Asked;
use std::collections::BTreeSet;
use std::env;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use wording::Failure;
use workshop::app::{App, Taken, look, take};
use workshop::buildpacks::Buildpacks;

/// The variable with keys of `shtetl.toml` for this run.
const VALUES: &str = "SHTETL_VALUES";

/// The variable with servers that files of apps may send variables to.
const TRUST: &str = "SHTETL_TRUST";

/// Everything that commands need besides their own options.
pub struct Surroundings {
    pub store: Arc<Store>,
    pub host: Host,
    pub book: Arc<AddressBook>,
    /// Who may come in at registries of packages.
    pub logins: Vec<Login>,
    /// Variables that files of the app name, and that were not filled in.
    pub withheld: Vec<Withheld>,
    /// Where credentials for registries of images are looked for.
    pub credentials: Arc<CredentialFiles>,
    pub jobs: usize,
    /// The platform of this machine, as in `linux/amd64`.
    pub platform: String,
    /// Creation time for images (RFC 3339).
    pub created: String,
    /// The effective buildpacks.
    pub buildpacks: Buildpacks,
    /// What this process has learned of archives already.
    pub seen: Arc<SeenSuites>,
    /// Ends the work early.
    pub cancel: Cancel,
    /// Where the user says that packages come from.
    pub of_user: Vec<KnownAddress>,
    /// Servers that files of apps may send variables to.
    pub trusted: BTreeSet<String>,
    /// What the user says for all apps.
    pub user: UserConfig,
    /// Shows requests to servers.
    pub witness: Option<Witness>,
    /// House rules that were named outside of the app.
    pub rules: Option<PathBuf>,
}

impl Surroundings {
    /// Reads them; `app` is the folder of the app, where the command has one.
    pub fn gather(global: &Global, app: Option<&Path>) -> Result<Self, Failure> {
        let folder = match &global.store {
            Some(folder) => folder.clone(),
            None => user_folder("XDG_CACHE_HOME", ".cache").ok_or(Failure::NoHome)?,
        };
        let path = env::var_os("PATH").unwrap_or_default();
        let buildpacks = Buildpacks::built_in();
        let app = app.and_then(|app| app.canonicalize().ok());
        let whole = app.iter().find_map(|app| buildpacks.iter().find_map(|b| b.workspace_above(app)));
        let names = buildpacks.known_names();
        let user = user_file().map(|file| UserConfig::read(&file, &names)).transpose()?.unwrap_or_default();
        let of_user = addresses::of_user(&global.addresses, &user, &names)?;
        let trusted = env::var(TRUST).unwrap_or_default();
        let trusted = trusted.split([',', ' ']).filter(|server| !server.is_empty()).map(str::to_owned);
        let trusted: BTreeSet<String> = user.trusted.iter().cloned().chain(trusted).collect();
        let said =
            ecosystems::gather(&app.into_iter().chain(whole).collect::<Vec<_>>(), &of_user, trusted.clone());
        Ok(Self {
            store: Arc::new(Store::open(&folder)?),
            credentials: Arc::new(credentials(env::split_paths(&path).collect())),
            host: Host { root: global.host_root.clone(), search: env::split_paths(&path).collect() },
            book: Arc::new(addresses::book(of_user.clone(), &said, &global.host_root)),
            logins: said.logins,
            withheld: said.withheld,
            jobs: global.jobs.unwrap_or_else(default_jobs).max(1),
            platform: own_platform(),
            created: creation_time()?,
            seen: Arc::default(),
            cancel: Cancel::new(),
            buildpacks,
            of_user,
            trusted,
            user,
            witness: global.verbose.then(|| render::events::requests(global.format)),
            rules: global.house_rules.clone(),
        })
    }

    /// Where packages come from for an app in a folder, and who may come in there.
    pub fn said_for(&self, app: &Path) -> (Arc<AddressBook>, Vec<Login>) {
        let app = app.canonicalize().unwrap_or_else(|_| app.to_owned());
        let whole = self.buildpacks.iter().find_map(|buildpack| buildpack.workspace_above(&app));
        let folders: Vec<PathBuf> = std::iter::once(app).chain(whole).collect();
        let said = ecosystems::gather(&folders, &self.of_user, self.trusted.clone());
        (Arc::new(addresses::book(self.of_user.clone(), &said, &self.host.root)), said.logins)
    }

    /// The same with another store.
    pub fn with_store(&self, store: Store) -> Self {
        Self {
            store: Arc::new(store),
            host: self.host.clone(),
            book: Arc::clone(&self.book),
            logins: self.logins.clone(),
            withheld: Vec::new(),
            credentials: Arc::clone(&self.credentials),
            jobs: self.jobs,
            platform: self.platform.clone(),
            created: self.created.clone(),
            buildpacks: self.buildpacks.clone(),
            seen: Arc::clone(&self.seen),
            cancel: self.cancel.clone(),
            of_user: self.of_user.clone(),
            trusted: self.trusted.clone(),
            user: self.user.clone(),
            witness: self.witness.clone(),
            rules: self.rules.clone(),
        }
    }

    /// Gets packages, with what is known of who may come in where.
    pub fn fetcher(&self, network: Network) -> Fetcher {
        let git = self.host.search.iter().map(|folder| folder.join("git")).find(|file| file.is_file());
        Fetcher::new(network)
            .with_witness(self.witness.clone())
            .with_cancel(self.cancel.clone())
            .with_logins(self.logins.clone())
            .with_git(git)
    }

    fn asked<'a>(&'a self, options: &'a SourceOptions, fetcher: &'a Fetcher) -> Asked<'a> {
        Asked {
            fetcher: Some(fetcher),
            revision: options.rev.as_deref(),
            search: &self.host.search,
            member: options.member.as_deref(),
            ..Asked::of(&options.path)
        }
    }

    /// Looks at an app, with the configuration from outside of it; `fetcher` gets buildpacks and sources that are
    /// elsewhere. `now` is in nanoseconds since 1970.
    pub fn look(&self, options: &SourceOptions, fetcher: &Fetcher, now: i64) -> Result<App, Failure> {
        Ok(look(&self.asked(options, fetcher), &self.choice(options), &self.buildpacks, &self.store, now)?)
    }

    /// Takes in the files of an app, without looking into them. `now` is in nanoseconds since 1970.
    pub fn take(&self, options: &SourceOptions, now: i64) -> Result<Taken, Failure> {
        let fetcher = self.fetcher(Network::Allowed);
        Ok(take(&self.asked(options, &fetcher), &self.choice(options), &self.buildpacks, &self.store, now)?)
    }

    /// The house rules that are named outside of apps.
    pub fn house_rules(&self) -> Result<Option<AppConfig>, Failure> {
        let names = self.buildpacks.known_names();
        let read = self.rules.iter().map(|file| Effective::of_house_rules(file, &names));
        Ok(read.collect::<model::Result<Vec<_>>>()?.pop())
    }

    /// The keys that a configuration of this folder trusts besides a distribution's.
    pub fn keyrings(config: &AppConfig) -> Result<Vec<Vec<u8>>, Failure> {
        let read = |file: &String| {
            std::fs::read(file).map_err(|source| Failure::File { path: PathBuf::from(file), source })
        };
        config.keyring.iter().map(read).collect()
    }

    /// What `shtetl.toml` of this folder and house rules say, for commands that are about images.
    pub fn config_here(&self) -> Result<Effective, Failure> {
        let here = Path::new(".");
        let place = ConfigPlace { folder: here, shown: here, near: here };
        let choice = Choice { rules: self.rules.clone(), ..Choice::default() };
        Ok(Effective::load(&place, &choice, &self.buildpacks.known_names())?)
    }

    /// The effective buildpacks of an app. `now` is in nanoseconds since 1970.
    pub fn buildpacks_of(&self, options: &SourceOptions, now: i64) -> Result<Buildpacks, Failure> {
        let fetcher = self.fetcher(Network::Allowed);
        Ok(workshop::app::buildpacks_of(
            &self.asked(options, &fetcher),
            &self.choice(options),
            &self.buildpacks,
            &self.store,
            now,
        )?)
    }

    /// Configuration of an app from outside of it.
    pub fn choice(&self, options: &SourceOptions) -> Choice {
        let by_variable = env::var(VALUES).ok().map(|text| (Layer::Variable, VALUES, text));
        let by_option = options.values.iter().map(|text| (Layer::Option, "--value", text.clone()));
        let values = by_variable.into_iter().chain(by_option);
        let values = values.map(|(layer, label, text)| RunValues { layer, label: label.to_owned(), text });
        Choice { rules: self.rules.clone(), variant: options.variant.clone(), values: values.collect() }
    }

    /// For steps, without a shared store, keeping nothing of a failure.
    pub fn session<'a>(
        &'a self,
        fetcher: &'a Fetcher,
        budget: &'a Budget,
        events: &'a (dyn Fn(Event) + Sync),
    ) -> Session<'a> {
        Session {
            store: &self.store,
            fetcher,
            budget,
            events,
            limits: self.step_limits(),
            failed_root: None,
            shared: None,
            cancel: &self.cancel,
        }
    }

    /// For images on their way to and from registries; `progress` is given the bytes done and all bytes.
    pub fn transfer<'a>(
        &'a self,
        fetcher: &'a Fetcher,
        progress: &'a (dyn Fn(u64, u64) + Sync),
    ) -> Transfer<'a> {
        Transfer {
            store: &self.store,
            fetcher,
            credentials: &self.credentials,
            progress,
            cancel: &self.cancel,
        }
    }

    /// How much a step may use.
    pub fn step_limits(&self) -> Limits {
        let minutes = self.user.limits.minutes.map(|minutes| Duration::from_secs(minutes * 60));
        let plain = self.process_limits();
        Limits {
            written: plain.written.or(Limits::STEP.written),
            time: minutes.or(Limits::STEP.time),
            ..plain
        }
    }

    /// How much a process of `run` may use.
    pub fn process_limits(&self) -> Limits {
        let (said, plain) = (self.user.limits, Limits::PROCESS);
        Limits {
            processes: said.processes.unwrap_or(plain.processes),
            memory: said.memory.or(plain.memory),
            open_files: said.open_files.unwrap_or(plain.open_files),
            written: said.written.or(plain.written),
            time: plain.time,
        }
    }

    /// Nanoseconds since 1970.
    pub fn now() -> i64 {
        let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
    }
}

/// The files in which several programs keep credentials for registries, the strongest first.
fn credentials(search: Vec<PathBuf>) -> CredentialFiles {
    let named = |variable: &str| env::var_os(variable).map(PathBuf::from);
    let below = |variable: &str, rest: &str| Some(named(variable)?.join(rest));
    let auth = "containers/auth.json";
    let files = [
        named("REGISTRY_AUTH_FILE"),
        below("XDG_RUNTIME_DIR", auth),
        below("XDG_CONFIG_HOME", auth).or_else(|| below("HOME", ".config/containers/auth.json")),
        below("DOCKER_CONFIG", "config.json").or_else(|| below("HOME", ".docker/config.json")),
    ];
    CredentialFiles { files: files.into_iter().flatten().collect(), search }
}

/// Fetching waits more than it computes, so a few more than there are processors.
fn default_jobs() -> usize {
    std::thread::available_parallelism().map_or(8, |n| n.get().max(8))
}

/// `SOURCE_DATE_EPOCH` where it is set; otherwise the time that all files in layers have.
fn creation_time() -> Result<String, Failure> {
    let seconds = match env::var("SOURCE_DATE_EPOCH") {
        Ok(text) => text.parse().map_err(|_| Failure::Usage {
            message: format!("SOURCE_DATE_EPOCH is {text:?}"),
            hint: "set it to a number of seconds since 1970, or unset it".to_owned(),
        })?,
        Err(_) => i64::try_from(content::layer::FILE_TIME).unwrap_or_default(),
    };
    let time = jiff::Timestamp::from_second(seconds).map_err(|_| Failure::Usage {
        message: format!("SOURCE_DATE_EPOCH is {seconds}, which is out of range"),
        hint: "set it to a number of seconds since 1970, or unset it".to_owned(),
    })?;
    Ok(time.to_string())
}
