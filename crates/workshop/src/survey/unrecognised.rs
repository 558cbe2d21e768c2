//! Sources that no buildpack recognises: what in them may have been meant.

use super::undeclared;
use crate::buildpacks::Buildpacks;
use model::error::SurveyError;
use model::{BuildpackOptions, Error, Finding};
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
    let programs = programs_left_out(&source.tree);
    let code = undeclared::code(&source.tree);
    let folder_of_code =
        code.as_ref().map(|code| code.file.rsplit_once('/').map_or("", |(folder, _)| folder));
    let inside = apps_inside(source, buildpacks, folder_of_code);
    Error::Survey(SurveyError::Unrecognised { looked_for, inside, programs, code })
}

/// The folders that are apps, without those within another one. Pages below a folder with code are a part of its app.
fn apps_inside(source: &Source, buildpacks: &Buildpacks, folder_of_code: Option<&str>) -> Vec<String> {
    let paths = source.tree.files().keys().filter_map(|path| path.rsplit_once('/'));
    let mut folders: Vec<&str> = paths.map(|(folder, _)| folder).collect();
    folders.retain(|folder| folder.matches('/').count() < DEEPEST_APP);
    folders.sort_unstable();
    folders.dedup();
    let is_app = |folder: &&str| {
        let tree = source.tree.below(folder);
        let is_part = folder_of_code.is_some_and(|above| is_within(above, folder));
        let claims = |buildpack: &dyn Buildpack| {
            let finding = buildpack.survey(&tree, &BuildpackOptions::default());
            let is_app = |found: &Finding| {
                let has_pages = found.serves.is_some() || found.pages.is_some();
                has_pages && !is_part || !has_pages && !found.processes.is_empty()
            };
            finding.is_ok_and(|found| is_app(&found))
        };
        buildpacks.iter().any(claims)
    };
    let mut apps: Vec<String> = Vec::new();
    for folder in folders.into_iter().filter(is_app) {
        if !apps.iter().any(|app| is_within(app, folder)) {
            apps.push(folder.to_owned());
        }
    }
    apps.truncate(MOST_APPS);
    apps
}

/// Whether a folder lies within another one; all lie within the root.
fn is_within(above: &str, folder: &str) -> bool {
    above.is_empty() || folder.strip_prefix(above).is_some_and(|rest| rest.starts_with('/'))
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
