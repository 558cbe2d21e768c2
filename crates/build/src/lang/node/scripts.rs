//! Install scripts: which packages have one, and which of them an image does without.

use super::tree::{LockedPackage, PackageTree};
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
///
/// Gives a note of the scripts that are not run; `skipped` are packages that the configuration names.
pub(super) fn check(
    packages: &[LockedPackage],
    tree: &PackageTree,
    skipped: &[String],
) -> Result<Option<String>> {
    let decided = |name: &str| HARMLESS.contains(&name) || skipped.iter().any(|n| n == name);
    let with_script = || packages.iter().filter(|p| p.has_install_script);
    let open = with_script().filter(|p| !decided(&p.name));
    // What the app can do without, it can do without the script of.
    let open: Vec<&LockedPackage> = open.filter(|p| !p.optional).collect();
    let Some(first) = open.first() else {
        let names: Vec<String> = with_script().map(LockedPackage::label).collect();
        return Ok(
            (!names.is_empty()).then(|| format!("install scripts that are not run: {}", names.join(", ")))
        );
    };
    Err(BuildError::InstallScripts {
        place: Place::find(tree.file, &tree.text, &format!("\"{}\"", first.path)),
        packages: open.iter().map(|p| p.label()).collect(),
    })
}
