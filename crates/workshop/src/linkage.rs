//! What the files of a layer have and need of other layers: shared libraries with their symbol versions, programs that
//! interpret scripts, and files that links lead to.

use goblin::elf::Elf;
use goblin::elf::header::{EM_AARCH64, EM_X86_64};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// By name of a library: its symbol versions, as in `GLIBC_2.34`.
pub type SymbolVersions = BTreeMap<String, BTreeSet<String>>;

/// What a layer has and needs.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Linkage {
    /// Names of files and links that are called like libraries.
    pub libraries: BTreeSet<String>,
    /// The symbol versions that its libraries define.
    pub versions: SymbolVersions,
    /// Paths of executable files and of links, without a slash at the beginning.
    pub programs: BTreeSet<String>,
    /// Libraries that files need, with the first file that needs each.
    pub needs: BTreeMap<String, String>,
    /// The highest symbol versions that files need.
    pub needs_versions: SymbolVersions,
    /// The first program or library for another processor than the layer's.
    pub foreign: Option<String>,
    /// Absolute paths that scripts and links lead to, and bare names of programs that scripts look up.
    pub needs_programs: BTreeSet<String>,
}

/// What the layers of an app need of those below: of the base and the runtimes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Needs {
    /// Shared libraries, by the names under which they are loaded.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub libraries: BTreeSet<String>,
    /// By library: the highest symbol version of each kind.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub versions: SymbolVersions,
    /// Absolute paths of programs and files, and bare names of programs that are looked up.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub programs: BTreeSet<String>,
}

impl Needs {
    /// Whether nothing is needed.
    pub fn is_empty(&self) -> bool {
        self.libraries.is_empty() && self.programs.is_empty()
    }

    /// What these layers need of others.
    pub fn of<'l>(layers: impl IntoIterator<Item = &'l Linkage>) -> Self {
        let (mut own, mut needs) = (Linkage::default(), Self::default());
        for layer in layers {
            own.libraries.extend(layer.libraries.iter().cloned());
            own.programs.extend(layer.programs.iter().cloned());
            needs.libraries.extend(layer.needs.keys().cloned());
            needs.programs.extend(layer.needs_programs.iter().cloned());
            for (library, versions) in &layer.needs_versions {
                needs.versions.entry(library.clone()).or_default().extend(versions.iter().cloned());
            }
        }
        needs.libraries.retain(|name| !own.libraries.contains(name));
        needs.versions.retain(|name, _| !own.libraries.contains(name));
        for versions in needs.versions.values_mut() {
            *versions = highest(versions);
        }
        needs.programs.retain(|path| !own.has_program(path));
        needs
    }
}

/// Folders of programs that are looked up by name.
const PROGRAM_FOLDERS: [&str; 3] = ["usr/bin/", "bin/", "usr/local/bin/"];
/// Folders that are links to others below `/usr` on merged systems.
const MERGED: [&str; 4] = ["bin/", "sbin/", "lib/", "lib64/"];

impl Linkage {
    /// Adds what another layer has and needs.
    pub fn extend(&mut self, other: Self) {
        self.libraries.extend(other.libraries);
        self.programs.extend(other.programs);
        for (library, versions) in other.versions {
            self.versions.entry(library).or_default().extend(versions);
        }
        self.foreign = self.foreign.take().or(other.foreign);
        self.needs.extend(other.needs);
        for (library, versions) in other.needs_versions {
            self.needs_versions.entry(library).or_default().extend(versions);
        }
        self.needs_programs.extend(other.needs_programs);
    }

    /// Whether there is a program or link of this absolute path; a bare name is looked up.
    pub fn has_program(&self, path: &str) -> bool {
        let Some(path) = path.strip_prefix('/') else {
            return PROGRAM_FOLDERS.iter().any(|folder| self.programs.contains(&format!("{folder}{path}")));
        };
        let merged = MERGED.iter().any(|folder| path.starts_with(folder));
        let other = match path.strip_prefix("usr/") {
            Some(rest) => rest.to_owned(),
            None if merged => format!("usr/{path}"),
            None => return self.programs.contains(path),
        };
        self.programs.contains(path) || self.programs.contains(&other)
    }

    /// Adds an ELF file for this processor that is called `path`.
    pub(crate) fn add_elf(&mut self, bytes: &[u8], architecture: &str, path: &str) {
        // What cannot be read is no library that could be loaded.
        let Ok(elf) = Elf::parse(bytes) else { return };
        let machine = if architecture == "arm64" { EM_AARCH64 } else { EM_X86_64 };
        if elf.header.e_machine != machine {
            self.foreign.get_or_insert_with(|| path.to_owned());
            return;
        }
        if elf.libraries.iter().any(|name| name.contains("musl")) {
            return;
        }
        let is_own = |name: &&&str| !name.starts_with("ld-linux") && !name.starts_with("linux-vdso");
        for library in elf.libraries.iter().filter(is_own) {
            self.needs.entry((*library).to_owned()).or_insert_with(|| path.to_owned());
        }
        let text = |at: usize| elf.dynstrtab.get_at(at);
        for needed in elf.verneed.iter().flat_map(|section| section.iter()) {
            let Some(library) = text(needed.vn_file) else { continue };
            let versions: BTreeSet<String> =
                needed.iter().filter_map(|one| Some(text(one.vna_name)?.to_owned())).collect();
            let known = self.needs_versions.entry(library.to_owned()).or_default();
            known.extend(versions);
            *known = highest(known);
        }
        let name = path.rsplit('/').next().unwrap_or(path);
        let library = elf.soname.unwrap_or(name).to_owned();
        let defined = elf.verdef.iter().flat_map(|section| section.iter());
        // The first name of a definition is its own, the others are what it builds on.
        let defined = defined.filter_map(|one| Some(text(one.iter().next()?.vda_name)?.to_owned()));
        let defined: BTreeSet<String> = defined.filter(|version| *version != library).collect();
        if !defined.is_empty() {
            self.versions.entry(library).or_default().extend(defined);
        }
    }

    /// Adds what the first line of a script names.
    pub(crate) fn add_script(&mut self, beginning: &[u8]) {
        let line = beginning.split(|byte| *byte == b'\n').next().unwrap_or_default();
        let Some(line) = std::str::from_utf8(line).ok().and_then(|line| line.strip_prefix("#!")) else {
            return;
        };
        let mut words = line.split_whitespace();
        let Some(program) = words.next().filter(|word| word.starts_with('/')) else { return };
        self.needs_programs.insert(program.to_owned());
        if program.ends_with("/env") {
            let looked_up = words.find(|word| !word.starts_with('-') && !word.contains('='));
            self.needs_programs.extend(looked_up.map(str::to_owned));
        }
    }
}

/// Of versions that differ in their numbers only, the highest.
fn highest(versions: &BTreeSet<String>) -> BTreeSet<String> {
    let mut by_kind: BTreeMap<&str, (Vec<u32>, &String)> = BTreeMap::new();
    let mut all = BTreeSet::new();
    for version in versions {
        let Some((kind, numbers)) = kind_and_numbers(version) else {
            all.insert(version.clone());
            continue;
        };
        match by_kind.get(kind) {
            Some((known, _)) if *known >= numbers => {}
            _ => drop(by_kind.insert(kind, (numbers, version))),
        }
    }
    all.extend(by_kind.into_values().map(|(_, version)| version.clone()));
    all
}

/// `GLIBC` and `[2, 34]` of `GLIBC_2.34`.
fn kind_and_numbers(version: &str) -> Option<(&str, Vec<u32>)> {
    let (kind, numbers) = version.rsplit_once('_')?;
    let numbers = numbers.split('.').map(|part| part.parse().ok()).collect::<Option<Vec<u32>>>()?;
    Some((kind, numbers))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set(names: &[&str]) -> BTreeSet<String> {
        names.iter().map(|name| (*name).to_owned()).collect()
    }

    #[test]
    fn of_symbol_versions_the_highest_of_each_kind_is_kept() {
        let all =
            set(&["GLIBC_2.9", "GLIBC_2.34", "GLIBC_2.4", "GLIBC_PRIVATE", "CXXABI_1.3.9", "CXXABI_1.3.13"]);
        assert_eq!(highest(&all), set(&["CXXABI_1.3.13", "GLIBC_2.34", "GLIBC_PRIVATE"]));
    }

    #[test]
    fn scripts_need_their_interpreter_and_what_env_looks_up() {
        let mut layer = Linkage::default();
        layer.add_script(b"#!/usr/bin/env -S node --no-warnings\nlet x;");
        layer.add_script(b"#! /bin/sh -e\n");
        layer.add_script(b"#!python3\n");
        layer.add_script(b"\xff\xfe");
        assert_eq!(layer.needs_programs, set(&["/bin/sh", "/usr/bin/env", "node"]));
    }

    #[test]
    fn what_one_layer_of_the_app_has_is_not_needed_of_the_base() {
        let below = Linkage {
            needs: BTreeMap::from([("libhorn.so.1".into(), "a".into()), ("libc.so.6".into(), "a".into())]),
            needs_versions: BTreeMap::from([
                ("libhorn.so.1".into(), set(&["HORN_1.0"])),
                ("libc.so.6".into(), set(&["GLIBC_2.17", "GLIBC_2.28"])),
            ]),
            needs_programs: set(&["/usr/bin/python3", "/opt/tool", "buoy"]),
            ..Linkage::default()
        };
        let above = Linkage {
            libraries: set(&["libhorn.so.1"]),
            programs: set(&["opt/tool", "usr/local/bin/buoy"]),
            ..Linkage::default()
        };
        let needs = Needs::of([&below, &above]);
        assert_eq!(needs.libraries, set(&["libc.so.6"]));
        assert_eq!(needs.versions, BTreeMap::from([("libc.so.6".into(), set(&["GLIBC_2.28"]))]));
        assert_eq!(needs.programs, set(&["/usr/bin/python3"]));
    }

    #[test]
    fn on_merged_systems_a_program_has_two_paths() {
        let base = Linkage { programs: set(&["usr/bin/sh", "opt/x"]), ..Linkage::default() };
        assert!(base.has_program("/bin/sh") && base.has_program("/usr/bin/sh") && base.has_program("sh"));
        assert!(base.has_program("/opt/x") && !base.has_program("/x") && !base.has_program("x"));
    }
}
