//! Words of packages of languages.

use super::worded::{FAILED, Worded, worded};
use model::error::PackageError;
use render::words;

pub(super) fn words_of(error: &PackageError) -> Worded {
    match error {
        PackageError::Remote { wanted_by, source } => super::remote::words_of(wanted_by, source),
        PackageError::NoSolution { facts } => Worded {
            details: facts.iter().map(|fact| format!("  {fact}")).collect(),
            ..worded(
                FAILED,
                "no set of package versions satisfies all requirements",
                "change one of these requirements, or choose another version of the runtime",
            )
        },
        PackageError::Extension { extension, .. } => worded(
            FAILED,
            error.to_string(),
            format!("add it to composer.json, under \"require\": {extension:?}: \"*\""),
        ),
        PackageError::InstallScripts { place, packages } => {
            // Name and version.
            let names = packages.iter().filter_map(|label| Some(format!("{:?}", label.rsplit_once(' ')?.0)));
            let names = names.collect::<Vec<_>>().join(", ");
            Worded {
                details: packages.iter().map(|package| format!("  {package}")).collect(),
                ..worded(
                    FAILED,
                    format!(
                        "{}: these packages need to run a script when they are installed",
                        words::place(place)
                    ),
                    format!(
                        "in shtetl.toml, under [buildpacks.node]: run-scripts-of = [{names}] runs them in isolation, skip-scripts-of = [{names}] skips them"
                    ),
                )
            }
        }
        PackageError::LockMismatch { lockfile, detail, how } => {
            worded(FAILED, format!("{lockfile} is out of date: {detail}"), *how)
        }
        PackageError::NoUsableFile { package, address, offered } => Worded {
            details: if offered.is_empty() {
                vec!["  nothing is available there".to_owned()]
            } else {
                offered.iter().take(8).map(|f| format!("  offered: {f}")).collect()
            },
            ..worded(
                FAILED,
                format!("{address} has no locked file of {package} that fits the image"),
                "lock a version that has a wheel for this Python and platform, or its source archive with its hash",
            )
        },
        PackageError::Damaged { package, detail } => worded(
            FAILED,
            format!("the archive of {package} cannot be used: {detail}"),
            "do not use it; ask the registry or the package's author",
        ),
    }
}
