//! An app that is looked at, and how it is to be built.

use crate::buildpacks::Buildpacks;
use crate::survey::{Observed, Survey, find_or_remember, survey};
use crate::{member, shared_libraries};
use bases::debian::{SeenSuites, tool_names};
use bases::host::Host;
use config::addresses::AddressBook;
use config::{
    AddedBuildpack, AppConfig, BuildpackPlace, Choice, ConfigPlace, Effective, Origin, added_buildpacks,
};
use content::layer::Codec;
use content::store::Store;
use definitions::{DEFINITION, Defined};
use model::error::{ConfigError, SurveyError};
use model::{EmptyPart, Error, Place, Result};
use planning::{Buildpack, Pinning};
use remote::oci::CredentialFiles;
use remote::{Downloads, Fetcher};
use source::{Asked, Opened, Source, SourceRules, SourceTree, checked_out, is_commit, take_in};
use std::collections::BTreeMap;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

/// An app that was looked at; nothing was run or fetched for it.
pub struct App {
    /// Its source.
    pub opened: Opened,
    /// Its configuration.
    pub config: AppConfig,
    /// The origin of each of its keys.
    pub origins: BTreeMap<String, Origin>,
    /// Its files.
    pub tree: Arc<SourceTree>,
    /// What was concluded.
    pub survey: Survey,
    /// The effective buildpacks.
    pub buildpacks: Buildpacks,
    /// Libraries that the image of its last build lacks, each with a file that needs it.
    pub missing_libraries: BTreeMap<String, String>,
    /// When it was looked at, in nanoseconds since 1970.
    pub now: i64,
}

impl App {
    /// What an empty base has all the same: what is configured, and everything where nobody chose that base and the app is
    /// compiled for it.
    pub(crate) fn base_with(&self) -> Vec<EmptyPart> {
        let is_compiled = self.survey.needs_compiler();
        match self.config.base.is_none() && self.config.base_with.is_empty() && is_compiled {
            true => EmptyPart::ALL.to_vec(),
            false => self.config.base_with.clone(),
        }
    }
}

/// Looks at an app. `now` is in nanoseconds since 1970.
pub fn look(
    asked: &Asked<'_>,
    choice: &Choice,
    buildpacks: &Buildpacks,
    store: &Store,
    now: i64,
) -> Result<App> {
    let Taken { opened, source, effective, buildpacks } = take(asked, choice, buildpacks, store, now)?;
    let reads = find_or_remember(&source.tree, store, now)?;
    let revision = opened.revision(&source.tree, store, now)?;
    let survey = survey(&opened.name, &source, &effective, Observed { reads, revision }, &buildpacks)?;
    let Effective { config, origins } = effective;
    let tree = Arc::new(source.tree);
    let missing_libraries = shared_libraries::remembered(store, &survey.name);
    Ok(App { opened, config, origins, tree, survey, buildpacks, missing_libraries, now })
}

/// A source with its configuration, before anything is concluded from it.
pub struct Taken {
    /// Where it is.
    pub opened: Opened,
    /// Its files.
    pub source: Source,
    effective: Effective,
    buildpacks: Buildpacks,
}

/// Takes in the files of an app, by the rules of its configuration. `now` is in nanoseconds since 1970.
pub fn take(
    asked: &Asked<'_>,
    choice: &Choice,
    buildpacks: &Buildpacks,
    store: &Store,
    now: i64,
) -> Result<Taken> {
    let (opened, member) = member::open(asked, buildpacks, store, now)?;
    let place = ConfigPlace { folder: &opened.config_folder(), shown: &opened.shown, near: &opened.near };
    let buildpacks = buildpacks.clone().with_added(read_added(&place, choice, asked, store)?)?;
    let effective = Effective::load(&place, choice, &buildpacks.known_names())?;
    let config = &effective.config;
    let rules = SourceRules { exclude: config.exclude.clone(), include: config.include.clone() };
    let mut source = take_in(&opened, &rules)?;
    if let Some(folder) = member {
        source = member::alone(source, &folder, &buildpacks)?;
    }
    Ok(Taken { opened, source, effective, buildpacks })
}

/// The effective buildpacks of an app. `now` is in nanoseconds since 1970.
pub fn buildpacks_of(
    asked: &Asked<'_>,
    choice: &Choice,
    buildpacks: &Buildpacks,
    store: &Store,
    now: i64,
) -> Result<Buildpacks> {
    let (opened, _) = member::open(asked, buildpacks, store, now)?;
    let place = ConfigPlace { folder: &opened.config_folder(), shown: &opened.shown, near: &opened.near };
    buildpacks.clone().with_added(read_added(&place, choice, asked, store)?)
}

/// Reads the buildpacks that the configuration adds.
fn read_added(
    place: &ConfigPlace<'_>,
    choice: &Choice,
    asked: &Asked<'_>,
    store: &Store,
) -> Result<Vec<Arc<dyn Buildpack>>> {
    let read = |added: AddedBuildpack| {
        let folder = folder_of(&added, asked, store)?;
        if !folder.join(DEFINITION).is_file() {
            return Err(Error::Config(ConfigError::BuildpackPlace { text: added.shown }));
        }
        let buildpack = Defined::read(&folder, &added.shown, store)?;
        let tools = tool_names();
        if let Some(unknown) = buildpack.tools().find(|tool| !tools.contains(tool)) {
            let place = Place::new(format!("{}/{DEFINITION}", added.shown), None);
            let known = tools.iter().copied().collect::<Vec<_>>().join(", ");
            let detail = format!("unknown tool {unknown:?}; known tools: {known}");
            return Err(Error::Survey(SurveyError::Malformed { place, detail }));
        }
        Ok(Arc::new(buildpack) as Arc<dyn Buildpack>)
    };
    added_buildpacks(place, choice).into_iter().map(read).collect()
}

/// The folder of an added buildpack; that of a repository elsewhere is fetched, if it is not there yet.
fn folder_of(added: &AddedBuildpack, asked: &Asked<'_>, store: &Store) -> Result<PathBuf> {
    let (url, commit, folder) = match &added.place {
        BuildpackPlace::Folder(folder) => return Ok(folder.clone()),
        BuildpackPlace::Commit { url, commit, folder } => (url, commit, folder),
    };
    if !is_commit(commit) {
        return Err(Error::Config(ConfigError::BuildpackMoves { text: added.shown.clone() }));
    }
    let is_inside = Path::new(folder).components().all(|part| matches!(part, Component::Normal(_)));
    let (Some(fetcher), true) = (asked.fetcher, is_inside) else {
        return Err(Error::Config(ConfigError::BuildpackPlace { text: added.shown.clone() }));
    };
    Ok(checked_out(url, commit, Downloads { fetcher, store })?.join(folder))
}

/// How to build, apart from what the source says.
pub struct BuildRequest<'a> {
    /// The tag of the default process type.
    pub tag: &'a str,
    /// The platform of the image, as in `linux/amd64`.
    pub platform: &'a str,
    /// How layers are compressed.
    pub codec: Codec,
    /// Creation time in the image's documents (RFC 3339).
    pub created: &'a str,
    /// The machine that the base `host` is captured from.
    pub host: &'a Host,
    /// Where packages come from.
    pub book: &'a Arc<AddressBook>,
    /// What this process has learned of archives already.
    pub seen: &'a SeenSuites,
    /// Gets what has to be known before the build; without the network, only what is in folders.
    pub fetcher: &'a Fetcher,
    /// Credentials for registries of images.
    pub credentials: &'a Arc<CredentialFiles>,
    /// How pins are treated.
    pub pinning: Pinning,
    /// Now, in nanoseconds since 1970.
    pub now: i64,
    /// The same moment, for measuring how long the build takes.
    pub started: Instant,
}

/// The codec of this name, for options.
pub fn codec_named(name: &str) -> Option<Codec> {
    [Codec::Zstd, Codec::Gzip].into_iter().find(|c| c.name() == name)
}
