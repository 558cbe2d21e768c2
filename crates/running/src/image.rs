//! A process type of an image, as a process of this machine.

use crate::ports;
use crate::process::{Launched, Listening, Work, launch};
use crate::ways::Way;
use content::layer::Codec;
use content::store::Store;
use content::{ContentError, DiffId};
use engine::sandbox_mode::working_mode;
use engine::unpacked_layers::{StoredLayer, unpacked};
use model::error::RunError;
use model::platform::own_platform;
use model::{Error, PathFacts, ProcessType, Result};
use sandbox::{FIRST_ID, Isolation, Limits, Merged, Mode};
use std::collections::BTreeMap;
use std::fs;
use std::net::{Ipv4Addr, TcpListener};
use std::os::unix::fs::lchown;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use workshop::image::inside_app;
use workshop::inspect::{OpenImage, ProcessImage};
use workshop::plan::PORT_VARIABLE;

/// Options for starting a process, besides its image.
pub struct Start {
    /// Values of settings.
    pub settings: BTreeMap<String, String>,
    /// How its port is reached.
    pub port: PortUse,
    /// Whether the process sees the network of this machine; otherwise it has one of its own.
    pub on_host_network: bool,
    /// Ways out of a network of its own.
    pub ways: Vec<Way>,
    /// Runs in place of the command of the process type.
    pub command: Option<Vec<String>>,
    /// Arguments after those of the command.
    pub arguments: Vec<String>,
    /// Where what the process writes is kept.
    pub data: Data,
    /// How much the process may use; what the image says of memory holds, too.
    pub limits: Limits,
    /// Whether its standard input is a terminal of its own.
    pub on_terminal: bool,
}

/// How the port of a process is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PortUse {
    /// At a port of this machine: this one, 0 for a free one, or that of the image.
    Published(Option<u16>),
    /// By its caller alone; the process is told this port, or that of the image.
    Kept(Option<u16>),
}

/// Where what a process writes into its writable folders goes.
#[derive(Debug, Clone)]
pub enum Data {
    /// It is gone when the process ends.
    Dropped,
    /// Into this folder, for one process at a time.
    Kept(PathBuf),
    /// Into this folder, which several processes use at once and which [`crate::data::fill`] has filled.
    Shared(PathBuf),
}

impl Start {
    /// Defaults, with limits for the process.
    pub fn within(limits: Limits) -> Self {
        Self {
            settings: BTreeMap::new(),
            port: PortUse::Published(None),
            on_host_network: false,
            ways: Vec::new(),
            command: None,
            arguments: Vec::new(),
            data: Data::Dropped,
            limits,
            on_terminal: false,
        }
    }
}

/// Starts `process` of `image` (the default one when none is named).
pub fn start(
    store: &Store,
    image: &OpenImage,
    process: Option<&str>,
    how: Start,
    io: [Stdio; 3],
) -> Result<Launched> {
    let variant = image.variant(process)?;
    check_platform(image)?;
    check_settings(image, variant, &how.settings)?;
    let declared = image.record.processes.iter().find(|p| p.name == variant.process);
    let port = listening(declared.and_then(|p| p.port), &how)?;
    let mut env = environment(variant);
    env.extend(how.settings);
    if let Listening::Shared(port) | Listening::Inside(port, _) = &port {
        env.insert(PORT_VARIABLE.to_owned(), port.to_string());
    }
    let mode = working_mode(store)?;
    let layers = layer_folders(store, variant, mode)?;
    let scratch = store.temporary_folder()?;
    let (merged, shared) = writable_folders(declared, &how.data, &scratch, mode)?;
    let command = how.command.unwrap_or_else(|| variant.config.config.entrypoint.clone());
    let work = Work {
        mode,
        layers,
        scratch,
        argv: command.into_iter().chain(how.arguments).collect(),
        env,
        folder: variant.config.config.working_dir.clone(),
        writable: ["tmp", "var/tmp", model::places::APP_HOME].map(str::to_owned).into(),
        shared,
        merged,
        user: user_of(&variant.config.config.user),
        limits: Limits { memory: memory_of(declared, &how.limits), ..how.limits },
        port,
        ways: how.ways,
        on_host_network: how.on_host_network,
        on_terminal: how.on_terminal,
    };
    launch(store, work, io)
}

pub(crate) fn check_platform(image: &OpenImage) -> Result<()> {
    let here = own_platform();
    if image.record.platform == here {
        return Ok(());
    }
    let (image, platform) = (image.label.clone(), image.record.platform.clone());
    Err(Error::Run(RunError::OtherPlatform { image, platform, here }))
}

/// Where the process listens: `own` is the port that the image says.
fn listening(own: Option<u16>, how: &Start) -> Result<Listening> {
    Ok(match (how.port, how.on_host_network) {
        (PortUse::Published(wanted), is_on_host) => match (wanted.or(own), is_on_host) {
            (None, _) => Listening::Nowhere,
            (Some(0), true) => Listening::Shared(free_port()?),
            (Some(port), true) => Listening::Shared(checked_port(port)?),
            (Some(port), false) => {
                let offered = ports::offer(port)?;
                Listening::Inside(own.unwrap_or(offered.port), Some(offered))
            }
        },
        (PortUse::Kept(told), false) => match told.or(own) {
            Some(port) => Listening::Inside(port, None),
            None => Listening::Nowhere,
        },
        (PortUse::Kept(told), true) => match told.or(own) {
            Some(_) => Listening::Shared(free_port()?),
            None => Listening::Nowhere,
        },
    })
}

/// The variables of an image.
pub(crate) fn environment(variant: &ProcessImage) -> BTreeMap<String, String> {
    let all = variant.config.config.env.iter().filter_map(|e| e.split_once('='));
    all.map(|(name, value)| (name.to_owned(), value.to_owned())).collect()
}

/// The lower of what the process may use and what anybody may.
fn memory_of(process: Option<&ProcessType>, limits: &Limits) -> Option<u64> {
    let own = process.and_then(|process| process.memory);
    own.into_iter().chain(limits.memory).min()
}

type Folders = (Vec<Merged>, Vec<(PathBuf, String)>);

/// The folders that a process may write to: over what the image has there, or in its place.
fn writable_folders(
    process: Option<&ProcessType>,
    data: &Data,
    scratch: &Path,
    mode: Mode,
) -> Result<Folders> {
    let (mut merged, mut shared) = (Vec::new(), Vec::new());
    for folder in process.into_iter().flat_map(|process| &process.writable) {
        let to = inside_app(folder)[1..].to_owned();
        let place = |data: &Path| if folder == "." { data.to_owned() } else { data.join(folder) };
        match data {
            Data::Shared(data) => shared.push((place(data), to)),
            Data::Kept(data) => merged.push(Merged { from: owned_folder(place(data), mode)?, to }),
            Data::Dropped => {
                merged.push(Merged { from: owned_folder(place(&scratch.join("data")), mode)?, to })
            }
        }
    }
    Ok((merged, shared))
}

/// A folder that belongs to the user of the app.
pub(crate) fn owned_folder(path: PathBuf, mode: Mode) -> Result<PathBuf> {
    fs::create_dir_all(&path).facts(&path)?;
    give_to_app(&path, mode)?;
    Ok(path)
}

/// Gives a file or folder to the user of the app.
pub(crate) fn give_to_app(path: &Path, mode: Mode) -> Result<()> {
    if mode.isolation == Isolation::Superuser {
        let user = model::places::APP_USER;
        lchown(path, Some(FIRST_ID + user.uid), Some(FIRST_ID + user.gid)).facts(path)?;
    }
    Ok(())
}

/// What is required must be given.
pub(crate) fn check_settings(
    image: &OpenImage,
    variant: &ProcessImage,
    given: &BTreeMap<String, String>,
) -> Result<()> {
    let own = environment(variant);
    let has = |name: &str| given.contains_key(name) || own.contains_key(name);
    let rules = &image.record.settings;
    let names: Vec<String> =
        rules.iter().filter(|(name, rule)| rule.required && !has(name)).map(|(n, _)| n.clone()).collect();
    let Some(first) = names.first() else { return Ok(()) };
    let by_service = image.record.services.iter().find(|(_, service)| service.gives.contains_key(first));
    Err(Error::Run(match by_service {
        Some((name, service)) => RunError::ServiceNotBound {
            service: name.clone(),
            kind: service.kind.name().to_owned(),
            settings: service.gives.keys().cloned().collect(),
        },
        None => RunError::SettingsMissing { names },
    }))
}

fn free_port() -> Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?.port())
}

fn checked_port(port: u16) -> Result<u16> {
    match TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)) {
        Ok(_) => Ok(port),
        Err(_) => Err(Error::Run(RunError::PortTaken { port })),
    }
}

fn user_of(text: &str) -> (u32, u32) {
    let (user, group) = text.split_once(':').unwrap_or((text, text));
    (user.parse().unwrap_or(0), group.parse().unwrap_or(0))
}

/// The layers of an image as folders in the store, bottom to top.
pub(crate) fn layer_folders(store: &Store, variant: &ProcessImage, mode: Mode) -> Result<Vec<PathBuf>> {
    let diff_ids = &variant.config.rootfs.diff_ids;
    let layers = variant.manifest.layers.iter().zip(diff_ids).enumerate();
    // A foreign image may have a layer twice: the upper one gives all that the lower one gave, and no
    // folder can be part of an overlay twice.
    let is_last = |(number, (_, diff_id)): &(usize, (_, &DiffId))| !diff_ids[number + 1..].contains(*diff_id);
    layers
        .filter(is_last)
        .map(|(_, (layer, diff_id))| {
            let codec = Codec::of_media_type(&layer.media_type).ok_or_else(|| ContentError::Malformed {
                what: layer.digest.to_string(),
                detail: format!("layers of type {} are not supported", layer.media_type),
            })?;
            unpacked(store, &StoredLayer { digest: layer.digest, diff_id: *diff_id, codec }, mode)
        })
        .collect()
}
