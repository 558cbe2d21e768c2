//! What the names of packages' files say (binary distribution format; source distribution file name).

use pep440_rs::Version;
use remote::packages::pypi::canonical_name;
use std::str::FromStr;

/// What a wheel's file name says.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct WheelName {
    pub(super) project: String,
    pub(super) version: Version,
    pub(super) python: String,
    pub(super) abi: String,
    pub(super) platform: String,
}

impl WheelName {
    pub(super) fn parse(file: &str) -> Option<Self> {
        let parts: Vec<&str> = file.strip_suffix(".whl")?.split('-').collect();
        let (project, version, tags) = match parts[..] {
            [project, version, a, b, c] | [project, version, _, a, b, c] => (project, version, [a, b, c]),
            _ => return None,
        };
        Some(Self {
            project: canonical_name(project),
            version: Version::from_str(version).ok()?,
            python: tags[0].to_owned(),
            abi: tags[1].to_owned(),
            platform: tags[2].to_owned(),
        })
    }
}

/// The version in the name of a wheel or of a source archive.
pub(super) fn version_of(file: &str) -> Option<Version> {
    if let Some(wheel) = WheelName::parse(file) {
        return Some(wheel.version);
    }
    sdist_name_of(file).map(|(_, version)| version)
}

/// The project and version in the name of a source archive.
pub(super) fn sdist_name_of(file: &str) -> Option<(String, Version)> {
    let stem = [".tar.gz", ".tgz", ".zip"].iter().find_map(|end| file.strip_suffix(end))?;
    let (project, version) = stem.rsplit_once('-')?;
    Some((canonical_name(project), Version::from_str(version).ok()?))
}

/// The name of the file at a URL.
pub(super) fn file_of(url: &str) -> String {
    let name = url.split(['#', '?']).next().unwrap_or_default().rsplit('/').next().unwrap_or_default();
    // Percent-encoding taken back, as far as file names of packages have it.
    name.replace("%2B", "+").replace("%2b", "+").replace("%21", "!")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_read() {
        for (name, version) in [
            ("fog_horn-1.0-py3-none-any.whl", Some("1.0")),
            ("fog_horn-1.0-1-cp311-cp311-manylinux_2_17_x86_64.manylinux2014_x86_64.whl", Some("1.0")),
            ("fog_horn-1.0.tar.gz", Some("1.0")),
            ("fog_horn.exe", None),
        ] {
            assert_eq!(version_of(name).map(|v| v.to_string()).as_deref(), version, "{name}");
        }
    }
}
