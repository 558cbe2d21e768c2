//! One configuration out of several layers, each value with its origin.
//!
//! Lowest first: built-in defaults, house rules, `shtetl.toml`, the chosen variant, values for
//! one run in a variable or an option. (What the survey finds lies between house rules and
//! `shtetl.toml`; it is not configuration, and is merged there.)

use crate::reader::{Document, Leaf};
use crate::{AppConfig, HouseLimits, ProcessConfig, values};
use model::error::ConfigError;
use model::files::CONFIG;
use model::{Complaint, Error, Fault, KnownNames, Place, Result, SettingRule};
use sandbox::AppLimits;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The layer that set a value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "layer", content = "name")]
pub enum Layer {
    /// The rules of an organisation.
    HouseRules,
    /// `shtetl.toml`.
    App,
    /// A variant in `shtetl.toml`.
    Variant(String),
    /// An environment variable, for one run.
    Variable,
    /// An option of the command line, for one run.
    Option,
}

/// The origin of an effective value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Origin {
    /// By which layer.
    #[serde(flatten)]
    pub layer: Layer,
    /// In which file and line.
    pub place: Place,
    /// The value as it is written there.
    #[serde(skip)]
    pub text: String,
    /// Whether the house rules do not let apps change it.
    pub locked: bool,
}

/// Configuration from outside the app's folder.
#[derive(Debug, Clone, Default)]
pub struct Choice {
    /// A file of house rules, stronger than the one that the app names.
    pub rules: Option<PathBuf>,
    /// The variant.
    pub variant: Option<String>,
    /// Values for this run, weakest first.
    pub values: Vec<RunValues>,
}

/// Keys of `shtetl.toml` for one run.
#[derive(Debug, Clone)]
pub struct RunValues {
    /// Who says them.
    pub layer: Layer,
    /// The name of the variable or option.
    pub label: String,
    /// As in the file, or one `key=value` whose value need not be quoted.
    pub text: String,
}

/// Where the configuration of an app is.
#[derive(Debug, Clone, Copy)]
pub struct ConfigPlace<'a> {
    /// The folder with the file.
    pub folder: &'a Path,
    /// The same folder as people know it.
    pub shown: &'a Path,
    /// The folder that relative paths are taken from.
    pub near: &'a Path,
}

/// The effective configuration.
#[derive(Debug, Clone, Default)]
pub struct Effective {
    /// All layers together.
    pub config: AppConfig,
    /// The origin of each key (dotted, as in the file).
    pub origins: BTreeMap<String, Origin>,
}

/// One layer as it was read.
struct Read {
    layer: Layer,
    config: AppConfig,
    leaves: BTreeMap<String, Leaf>,
    /// The file, variable or option, for people.
    shown: String,
}

struct HouseRules {
    read: Read,
    locked: Vec<String>,
}

impl Effective {
    /// Reads the configuration of an app with its layers.
    pub fn load(place: &ConfigPlace<'_>, choice: &Choice, names: &KnownNames) -> Result<Self> {
        let path = place.folder.join(CONFIG);
        let shown = place.shown.join(CONFIG);
        let text = if path.exists() { super::read_text(&path, &shown)? } else { String::new() };
        let fail = |complaints| {
            Error::Config(ConfigError::Faults { path: shown.clone(), text: text.clone(), complaints })
        };
        let document = Document::parse(&text).map_err(fail)?;
        let mut app = AppConfig::default();
        let mut variants = values::read(&document, &mut app, names);
        let (mut complaints, leaves) = document.done();

        let named = app.rules.as_ref().map(|rules| remote::without_steps_back(&place.near.join(rules)));
        let house = choice.rules.clone().or(named).map(|file| HouseRules::load(&file, names)).transpose()?;
        complaints.extend(broken_locks(house.as_ref(), &leaves));
        if !complaints.is_empty() {
            complaints.sort_by_key(|c| c.span.start);
            return Err(fail(complaints));
        }

        let own = leaves.iter().filter(|(key, _)| !key.starts_with("variant."));
        let own = own.map(|(k, l)| (k.clone(), l.clone())).collect();
        let mut layers = vec![Read { layer: Layer::App, config: app, leaves: own, shown: CONFIG.to_owned() }];
        if let Some(name) = &choice.variant {
            let Some(config) = variants.remove(name) else {
                return Err(Error::Config(ConfigError::UnknownVariant {
                    name: name.clone(),
                    known: variants.into_keys().collect(),
                }));
            };
            let prefix = format!("variant.{name}.");
            let own = leaves.into_iter().filter_map(|(k, l)| Some((k.strip_prefix(&prefix)?.to_owned(), l)));
            let layer = Layer::Variant(name.clone());
            layers.push(Read { layer, config, leaves: own.collect(), shown: CONFIG.to_owned() });
        }
        for values in &choice.values {
            layers.push(values.read(house.as_ref(), names)?);
        }

        let mut effective = Self::default();
        let locked = house.as_ref().map(|h| h.locked.clone()).unwrap_or_default();
        if let Some(house) = house {
            effective.lay(house.read, &locked);
        }
        layers.into_iter().for_each(|layer| effective.lay(layer, &[]));
        Ok(effective)
    }

    /// What house rules say by themselves, without an app.
    pub fn of_house_rules(file: &Path, names: &KnownNames) -> Result<AppConfig> {
        Ok(HouseRules::load(file, names)?.read.config)
    }

    /// The origin of `key` (dotted, as in the file).
    pub fn place(&self, key: &str) -> Option<Place> {
        self.origins.get(key).map(|origin| origin.place.clone())
    }

    /// Puts a layer on top.
    fn lay(&mut self, upper: Read, locked: &[String]) {
        self.config = over(std::mem::take(&mut self.config), upper.config);
        for (key, leaf) in upper.leaves {
            let origin = Origin {
                layer: upper.layer.clone(),
                place: Place::new(upper.shown.as_str(), leaf.line),
                text: leaf.text,
                locked: locked.iter().any(|l| covers(l, &key)),
            };
            // `NAME = "value"` is short for `NAME = { value = "value" }`.
            let is_short = key.strip_prefix("settings.").is_some_and(|name| !name.contains('.'));
            self.origins.insert(if is_short { format!("{key}.value") } else { key }, origin);
        }
    }
}

impl RunValues {
    fn read(&self, house: Option<&HouseRules>, names: &KnownNames) -> Result<Read> {
        let quoted = self.text.split_once('=').map(|(key, value)| {
            let value = value.trim().replace('\\', "\\\\").replace('"', "\\\"");
            format!("{} = \"{value}\"", key.trim())
        });
        let first = self.read_as(&self.text, house, names);
        let second =
            quoted.filter(|_| !self.text.contains('\n')).map(|text| self.read_as(&text, house, names));
        match (first, second) {
            (Err(_), Some(Ok(read))) => Ok(read),
            (first, _) => first,
        }
    }

    fn read_as(&self, text: &str, house: Option<&HouseRules>, names: &KnownNames) -> Result<Read> {
        let fail = |complaints| {
            Error::Config(ConfigError::Faults {
                path: PathBuf::from(&self.label),
                text: text.to_owned(),
                complaints,
            })
        };
        let document = Document::parse(text).map_err(fail)?;
        let mut config = AppConfig::default();
        values::read_values(&document, &mut config, names);
        let (mut complaints, mut leaves) = document.done();
        complaints.extend(broken_locks(house, &leaves));
        if !complaints.is_empty() {
            return Err(fail(complaints));
        }
        if text.trim().lines().count() < 2 {
            leaves.values_mut().for_each(|leaf| leaf.line = None);
        }
        config.name_versions(&self.label);
        Ok(Read { layer: self.layer.clone(), config, leaves, shown: self.label.clone() })
    }
}

impl HouseRules {
    fn load(path: &Path, names: &KnownNames) -> Result<Self> {
        let text = super::read_text(path, path)?;
        let fail = |complaints| {
            Error::Config(ConfigError::Faults { path: path.to_owned(), text: text.clone(), complaints })
        };
        let document = Document::parse(&text).map_err(fail)?;
        let mut config = AppConfig::default();
        let locked = values::read_house(&document, &mut config, names);
        let (complaints, mut leaves) = document.done();
        if !complaints.is_empty() {
            return Err(fail(complaints));
        }
        // Which keys are locked shows at those keys.
        leaves.remove("locked");
        let folder = path.parent().unwrap_or(Path::new("."));
        for address in config.addresses.values_mut() {
            // As for the keyring: a folder is taken from where the house rules lie, not from the app.
            *address = match remote::Address::parse(address, folder) {
                remote::Address::Folder(folder) => folder.display().to_string(),
                remote::Address::Url(url) => url,
            };
        }
        config.keyring = config.keyring.map(|keyring| folder.join(keyring).display().to_string());
        for key in &mut config.trusted_keys {
            *key = folder.join(&*key).display().to_string();
        }
        let shown = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        config.name_versions(&shown);
        Ok(Self { read: Read { layer: Layer::HouseRules, config, leaves, shown }, locked })
    }
}

/// Whether the locked key is `key` or a table that it lies in.
fn covers(locked: &str, key: &str) -> bool {
    key.strip_prefix(locked).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

/// Keys of the app, its variants included, that the house rules do not let it change.
fn broken_locks(house: Option<&HouseRules>, leaves: &BTreeMap<String, Leaf>) -> Vec<Complaint> {
    let Some(HouseRules { read, locked }) = house else { return Vec::new() };
    let plain = |key: &str| match key.strip_prefix("variant.").and_then(|rest| rest.split_once('.')) {
        Some((_, inside)) => inside.to_owned(),
        None => key.to_owned(),
    };
    // Saying the same is allowed.
    let same = |key: &str, leaf: &Leaf| read.leaves.get(key).is_some_and(|l| l.text == leaf.text);
    let broken = leaves.iter().filter(|(key, leaf)| {
        let key = plain(key);
        locked.iter().any(|l| covers(l, &key)) && !same(&key, leaf)
    });
    broken
        .map(|(key, leaf)| Complaint {
            span: leaf.span.clone(),
            fault: Fault::Locked { key: key.clone(), by: read.shown.clone() },
        })
        .collect()
}

/// `upper` on top of `lower`: single values are replaced, lists and tables are put together.
fn over(lower: AppConfig, upper: AppConfig) -> AppConfig {
    let mut buildpacks = lower.buildpacks;
    for (name, options) in upper.buildpacks {
        let under = buildpacks.remove(&name).unwrap_or_default();
        buildpacks.insert(name, options.over(under));
    }
    AppConfig {
        name: upper.name.or(lower.name),
        rules: upper.rules.or(lower.rules),
        exclude: joined(lower.exclude, upper.exclude),
        include: joined(lower.include, upper.include),
        base: upper.base.or(lower.base),
        base_packages: joined(lower.base_packages, upper.base_packages),
        build_packages: joined(lower.build_packages, upper.build_packages),
        base_with: joined(lower.base_with, upper.base_with),
        outdated: upper.outdated.or(lower.outdated),
        keyring: upper.keyring.or(lower.keyring),
        add: joined(lower.add, upper.add),
        order: upper.order.or(lower.order),
        forbid: joined(lower.forbid, upper.forbid),
        buildpacks,
        build: upper.build.or(lower.build),
        leave_out: joined(lower.leave_out, upper.leave_out),
        fetch: joined(lower.fetch, upper.fetch),
        step_limits: AppLimits {
            memory: upper.step_limits.memory.or(lower.step_limits.memory),
            minutes: upper.step_limits.minutes.or(lower.step_limits.minutes),
        },
        ecosystems: upper.ecosystems,
        addresses: lower.addresses.into_iter().chain(upper.addresses).collect(),
        processes: processes_over(lower.processes, upper.processes),
        tasks: processes_over(lower.tasks, upper.tasks),
        services: lower.services.into_iter().chain(upper.services).collect(),
        settings: settings_over(lower.settings, upper.settings),
        accepted: lower.accepted.into_iter().chain(upper.accepted).collect(),
        // Only house rules say these.
        limits: if upper.limits == HouseLimits::default() { lower.limits } else { upper.limits },
        trusted_keys: lower.trusted_keys,
    }
}

fn joined<T>(mut lower: Vec<T>, upper: Vec<T>) -> Vec<T> {
    lower.extend(upper);
    lower
}

type Processes = BTreeMap<String, ProcessConfig>;

fn processes_over(mut lower: Processes, upper: Processes) -> Processes {
    for (name, process) in upper {
        let merged = match lower.remove(&name) {
            None => process,
            Some(under) => ProcessConfig {
                run: process.run.or(under.run),
                port: process.port.or(under.port),
                health: process.health.or(under.health),
                health_every: process.health_every.or(under.health_every),
                start_within: process.start_within.or(under.start_within),
                memory: process.memory.or(under.memory),
                writable: joined(under.writable, process.writable),
                instances: process.instances.or(under.instances),
                before: process.before.or(under.before),
            },
        };
        lower.insert(name, merged);
    }
    lower
}

type Settings = BTreeMap<String, SettingRule>;

fn settings_over(mut lower: Settings, upper: Settings) -> Settings {
    for (name, rule) in upper {
        let merged = match lower.remove(&name) {
            None => rule,
            Some(under) => SettingRule {
                value: rule.value.or(under.value),
                required: rule.required || under.required,
                secret: rule.secret || under.secret,
                about: rule.about.or(under.about),
            },
        };
        lower.insert(name, merged);
    }
    lower
}
