//! The step that packs the app's own files.

use content::layer::{Entry, LayerWriter, Owner};
use engine::{Action, Fingerprint, Recipe, StepContext};
use globset::{Glob, GlobSet, GlobSetBuilder};
use model::places::APP_USER;
use model::{Error, PackageFact, PathFacts, Result};
use source::{SourceTree, TreeKind};
use std::collections::BTreeSet;
use std::fs::File;
use std::sync::Arc;

/// The folder of the app, from the root of the image.
const APP_FOLDER: &str = "app";

/// The step that packs the source itself.
pub(super) struct AppFiles {
    pub(super) tree: Arc<SourceTree>,
    /// Folders that processes write to: they belong to the user that these run as.
    pub(super) writable: BTreeSet<String>,
    /// Patterns of files that only the build reads.
    pub(super) leave_out: Vec<String>,
}

/// The patterns, and what lies in folders that they name.
fn set_of(patterns: &[String]) -> GlobSet {
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        let plain = pattern.trim_end_matches('/');
        // They were checked when the configuration was read.
        for pattern in [plain.to_owned(), format!("{plain}/**")] {
            let _ = Glob::new(&pattern).map(|glob| set.add(glob));
        }
    }
    set.build().unwrap_or_default()
}

impl Action for AppFiles {
    fn fingerprint(&self) -> Fingerprint {
        // The files are the source, which the step reads.
        let Self { tree: _, writable, leave_out } = self;
        let mut whole = Fingerprint::of(Recipe::new("app files", 2));
        if !leave_out.is_empty() {
            whole = whole.values("left out", [("patterns", leave_out.join(" "))]);
        }
        let writable: Vec<&str> = writable.iter().map(String::as_str).collect();
        match &writable[..] {
            // Most apps write nowhere.
            [] => whole,
            folders => whole.values("writable", [("folders", folders.join(" "))]),
        }
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let leave_out = set_of(&self.leave_out);
        let files: Vec<_> = self.tree.files().iter().filter(|(path, _)| !leave_out.is_match(path)).collect();
        let owner = |path: &str| {
            let inside = |folder: &String| {
                let below = || path.strip_prefix(folder.as_str());
                folder == "." || below().is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            };
            if self.writable.iter().any(inside) { APP_USER } else { Owner::ROOT }
        };
        layer.part::<Error>(|tar| {
            tar.entry(&Entry { owner: owner(""), ..Entry::folder(APP_FOLDER) })?;
            let mut folders = BTreeSet::new();
            for (done, (path, file)) in files.iter().copied().enumerate() {
                cx.check_cancelled()?;
                for (at, _) in path.match_indices('/') {
                    if folders.insert(&path[..at]) {
                        let folder = Entry::folder(format!("{APP_FOLDER}/{}", &path[..at]));
                        tar.entry(&Entry { owner: owner(&path[..at]), ..folder })?;
                    }
                }
                let target = format!("{APP_FOLDER}/{path}");
                match &file.kind {
                    TreeKind::Link { target: to } => {
                        tar.entry(&Entry { owner: owner(path), ..Entry::link(target, to) })?;
                    }
                    TreeKind::File { size, executable } => {
                        let full = self.tree.root().join(path);
                        let mut content = File::open(&full).facts(&full)?;
                        let file = Entry { owner: owner(path), ..Entry::file(target, *size, *executable) };
                        tar.file(&file, &mut content)?;
                    }
                }
                (cx.progress)(done + 1, files.len());
            }
            for folder in self.writable.iter().filter(|folder| *folder != ".") {
                for (at, _) in folder.match_indices('/').chain([(folder.len(), "")]) {
                    if folders.insert(&folder[..at]) {
                        let entry = Entry::folder(format!("{APP_FOLDER}/{}", &folder[..at]));
                        tar.entry(&Entry { owner: owner(&folder[..at]), ..entry })?;
                    }
                }
            }
            Ok(())
        })?;
        Ok(Vec::new())
    }
}
