//! Where this program keeps things of its user.

use std::env;
use std::path::PathBuf;

/// This program's folder in the user's folder of a kind (XDG base directory specification).
pub fn user_folder(variable: &str, in_home: &str) -> Option<PathBuf> {
    let said = env::var_os(variable).map(PathBuf::from).filter(|p| p.is_absolute());
    let folder = said.or_else(|| Some(PathBuf::from(env::var_os("HOME")?).join(in_home)))?;
    Some(folder.join("shtetl"))
}

/// The user's own configuration, whether it is there or not.
pub fn user_file() -> Option<PathBuf> {
    user_folder("XDG_CONFIG_HOME", ".config").map(|folder| folder.join("config.toml"))
}
