//! Sources that no buildpack recognises: what in them may have been meant.

use super::undeclared;
use crate::buildpacks::Buildpacks;
use model::error::SurveyError;
use model::{BuildpackOptions, Error};
use planning::Buildpack;
use source::{Source, SourceTree};
use std::fs::{self, File};
use std::io::Read;
use std::path::Path;

/// How deep apps are looked for inside a folder that is none, and how many are named.
const DEEPEST_APP: usize = 2;
const MOST_APPS: usize = 12;
/// Folders in which compilers put programs, and which ignore files name.
const OUTPUTS: [&str; 6] = ["", "bin", "out", "build", "dist", "target/release"];

/// Names the folders of the source that are apps by themselves, and programs that a rule leaves out.
pub(super) fn with_hints(error: Error, source: &Source, buildpacks: &Buildpacks) -> Error {
    let Error::Survey(SurveyError::Unrecognised { looked_for, .. }) = error else { return error };
    let inside = apps_inside(source, buildpacks);
    let programs = programs_left_out(&source.tree);
    let code = undeclared::code(&source.tree);
    Error::Survey(SurveyError::Unrecognised { looked_for, inside, programs, code })
}

fn apps_inside(source: &Source, buildpacks: &Buildpacks) -> Vec<String> {
    let paths = source.tree.files().keys().filter_map(|path| path.rsplit_once('/'));
    let mut folders: Vec<&str> = paths.map(|(folder, _)| folder).collect();
    folders.retain(|folder| folder.matches('/').count() < DEEPEST_APP);
    folders.sort_unstable();
    folders.dedup();
    let is_app = |folder: &&str| {
        let tree = source.tree.below(folder);
        let claims = |buildpack: &dyn Buildpack| {
            let finding = buildpack.survey(&tree, &BuildpackOptions::default());
            finding.is_ok_and(|found| !found.processes.is_empty() || found.pages.is_some())
        };
        buildpacks.iter().any(claims)
    };
    folders.into_iter().filter(is_app).take(MOST_APPS).map(str::to_owned).collect()
}

/// Compiled programs on the disk that are not taken in.
fn programs_left_out(tree: &SourceTree) -> Vec<String> {
    let mut found = Vec::new();
    for folder in OUTPUTS {
        let entries = fs::read_dir(tree.root().join(folder)).into_iter().flatten().flatten();
        for entry in entries {
            let Ok(name) = entry.file_name().into_string() else { continue };
            let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
            if !tree.has(&path) && is_program(&entry.path()) {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

fn is_program(path: &Path) -> bool {
    let mut start = [0; 4];
    let is_file = path.symlink_metadata().is_ok_and(|metadata| metadata.is_file());
    is_file
        && File::open(path).and_then(|mut file| file.read_exact(&mut start)).is_ok()
        && start == *b"\x7fELF"
}
