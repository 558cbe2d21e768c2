//! The folder of the yard.
//!
//! ```text
//! lock, socket, output.log                 the process in the background
//! stopped                                  there while it is not to run
//! apps/NAME/state.json                     releases, scale, port
//! apps/NAME/settings/N.json                values of the settings of release N
//! apps/NAME/settings/next.json             of the one that comes next, before there is one
//! apps/NAME/data/                          what the app writes
//! apps/NAME/logs/N/INSTANCE.log            what its instances write
//! apps/NAME/events.log                     what happened, a JSON document a line
//! ```

use crate::state::AppState;
use model::folder::entries;
use model::{PathFacts, Result};
use std::collections::BTreeMap;
use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// Values of settings.
pub type Settings = BTreeMap<String, String>;

/// The folder of a yard.
#[derive(Debug, Clone)]
pub struct Yard(PathBuf);

impl Yard {
    /// The yard in `folder`, which is made and belongs to the user alone.
    pub fn open(folder: &Path) -> Result<Self> {
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder.join("apps")).facts(folder)?;
        Ok(Self(folder.canonicalize().facts(folder)?))
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.0
    }

    pub(crate) fn lock(&self) -> PathBuf {
        self.0.join("lock")
    }

    pub(crate) fn socket(&self) -> PathBuf {
        self.0.join("socket")
    }

    /// Notes whether the yard is to run: whoever watches over it starts it again only then.
    pub fn set_wanted(&self, is_wanted: bool) -> Result<()> {
        let file = self.0.join("stopped");
        match is_wanted {
            false => fs::write(&file, "").facts(&file),
            true => match fs::remove_file(&file) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error).facts(&file),
                _ => Ok(()),
            },
        }
    }

    /// Whether the yard is to run.
    pub fn is_wanted(&self) -> bool {
        !self.0.join("stopped").exists()
    }

    /// What the process in the background itself writes.
    pub fn output(&self) -> PathBuf {
        self.0.join("output.log")
    }

    /// The folder of an app.
    pub(crate) fn app(&self, name: &str) -> PathBuf {
        self.0.join("apps").join(name)
    }

    /// What an app writes.
    pub fn data(&self, app: &str) -> PathBuf {
        self.app(app).join("data")
    }

    /// The output of the instances of a release.
    pub fn logs(&self, app: &str, release: u32) -> PathBuf {
        self.app(app).join("logs").join(release.to_string())
    }

    /// What happened to an app.
    pub(crate) fn events(&self, app: &str) -> PathBuf {
        self.app(app).join("events.log")
    }

    /// The names of all apps.
    pub fn apps(&self) -> Result<Vec<String>> {
        let all = entries(&self.0.join("apps"))?;
        let names = all.iter().filter(|path| path.join("state.json").is_file());
        Ok(names.filter_map(|path| Some(path.file_name()?.to_str()?.to_owned())).collect())
    }

    /// What is kept of an app, if there is one of this name.
    pub fn state(&self, app: &str) -> Result<Option<AppState>> {
        read(&self.app(app).join("state.json"))
    }

    pub(crate) fn keep_state(&self, app: &str, state: &AppState) -> Result<()> {
        write(&self.app(app).join("state.json"), state)
    }

    /// The values of the settings of a release; those of the next one without a number.
    pub fn settings(&self, app: &str, release: Option<u32>) -> Result<Settings> {
        Ok(read(&self.settings_file(app, release))?.unwrap_or_default())
    }

    pub(crate) fn keep_settings(&self, app: &str, release: Option<u32>, settings: &Settings) -> Result<()> {
        write(&self.settings_file(app, release), settings)
    }

    fn settings_file(&self, app: &str, release: Option<u32>) -> PathBuf {
        let name = release.map_or_else(|| "next".to_owned(), |number| number.to_string());
        self.app(app).join("settings").join(format!("{name}.json"))
    }
}

fn read<T: serde::de::DeserializeOwned>(file: &Path) -> Result<Option<T>> {
    match fs::read(file) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        read => Ok(Some(serde_json::from_slice(&read.facts(file)?).map_err(io::Error::other).facts(file)?)),
    }
}

/// Writes a file that only the user can read, whole or not at all, whatever happens to this process or the machine.
fn write(file: &Path, document: &impl serde::Serialize) -> Result<()> {
    let folder = file.parent().unwrap_or(file);
    fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).facts(folder)?;
    let fresh = file.with_extension("fresh");
    let text = serde_json::to_vec_pretty(document).map_err(io::Error::other)?;
    let mut made =
        OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&fresh).facts(&fresh)?;
    made.write_all(&text).and_then(|()| made.sync_all()).facts(&fresh)?;
    fs::rename(&fresh, file).facts(file)
}
