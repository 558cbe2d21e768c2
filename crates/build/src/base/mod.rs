//! What lies under the app: the base and the runtime on it.

pub mod host;

use content::layer::Owner;

/// The base of apps that name none.
pub const DEFAULT: &str = "host";
/// The folder of runtimes, from the root of the image: each has its own folder in it.
pub const RUNTIME_FOLDER: &str = "opt";
/// The user that apps run as.
pub const APP_USER: Owner = Owner { uid: 1000, gid: 1000 };
/// Its home folder, from the root of the image.
pub const APP_HOME: &str = "home/app";
