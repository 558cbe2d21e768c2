//! Where things are in an image, and whose they are.

use content::layer::Owner;

/// The base of apps that name none.
pub const DEFAULT: &str = "debian:trixie";

/// The folder of runtimes that are captured, from the root of the image: each has its own in it.
pub const RUNTIME_FOLDER: &str = "opt";

/// The user that apps run as.
pub const APP_USER: Owner = Owner { uid: 1000, gid: 1000 };

/// Its home folder, from the root of the image.
pub const APP_HOME: &str = "home/app";
