//! Install scripts: which packages have one, and which of them an image does without.

use super::tree::{LockedPackage, PackageTree};
use crate::config::BuildpackOptions;
use crate::error::{BuildError, Place, Result};

/// Packages whose scripts only print, check, or fetch what other packages bring as well.
const HARMLESS: [&str; 13] = [
    "@nestjs/core",
    "@parcel/watcher",
    "@sentry/cli",
    "@swc/core",
    "core-js",
    "core-js-pure",
    "es5-ext",
    "esbuild",
    "msgpackr-extract",
    "protobufjs",
    "sharp",
    "styled-components",
    "unrs-resolver",
];

/// Packages with an install script that nobody decided about are an error: left out, the app may fail when
/// it runs.
pub(super) fn check(
    packages: &[LockedPackage],
    tree: &PackageTree,
    options: &BuildpackOptions,
) -> Result<()> {
    let decided = |name: &str| HARMLESS.contains(&name) || options.skip_scripts_of.iter().any(|n| n == name);
    let open = packages.iter().filter(|p| p.has_install_script && !decided(&p.name));
    // What the app can do without, it can do without the script of.
    let open: Vec<&LockedPackage> = open.filter(|p| !p.optional).collect();
    let Some(first) = open.first() else { return Ok(()) };
    Err(BuildError::InstallScripts {
        place: Place::find(tree.file, &tree.text, &format!("\"{}\"", first.path)),
        packages: open.iter().map(|p| p.label()).collect(),
    })
}
