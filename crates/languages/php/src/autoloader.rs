//! The step in which Composer itself writes what loads classes, without the network: everything else of its work is done.

use crate::lock::{LOCKFILE, MANIFEST};
use crate::settled::{Installed, Needed};
use content::digest::Sha256;
use content::layer::LayerWriter;
use engine::program_step::{self, Cache, Job, SOURCE, copy_source};
use engine::{Action, Fingerprint, Recipe, Step, StepContext, collect};

use model::{PackageFact, PathFacts, Result, Role};
use serde_json::{Value, json};
use source::SourceTree;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::Arc;

/// The folder of the app, from the root.
const APP: &str = "app";
/// The name of the step.
const STEP: &str = "php autoloader";
const RECIPE: Recipe = Recipe::new("php autoloader", 1);
/// Composer's own folder, from that of the app; nothing of it is kept.
const HOME: &str = ".composer-of-build";

/// The step; `packages` are those that write the packages' folders.
pub(super) fn step(needed: &Needed, tree: &Arc<SourceTree>, packages: Vec<Step>) -> Result<Step> {
    let text = |file: &str| Ok::<_, model::Error>(tree.read(file)?.unwrap_or_default());
    let work = Autoloader {
        manifest: text(MANIFEST)?,
        lock: needed.lockfile.clone(),
        needed: needed.clone(),
        tree: Arc::clone(tree),
    };
    let reads_source = needed.lists_own_classes;
    let step = Step::new(STEP, Role::Dependencies, work).in_root(packages);
    Ok(Step { reads_source, ..step })
}

struct Autoloader {
    manifest: String,
    lock: String,
    needed: Needed,
    tree: Arc<SourceTree>,
}

impl Autoloader {
    /// What Composer finds installed.
    fn installed(&self) -> Value {
        let up = "../".repeat(self.needed.vendor.matches('/').count() + 2);
        let entry = |one: &Installed| {
            let mut entry = one.package.entry.clone();
            entry["installation-source"] = "dist".into();
            if one.package.has_files() {
                entry["install-path"] = format!("{up}{}", one.folder).into();
            }
            entry
        };
        let packages: Vec<Value> = self.needed.packages.iter().map(entry).collect();
        json!({ "packages": packages, "dev": false, "dev-package-names": [] })
    }

    /// What the names of the written classes end with; otherwise it is random.
    fn suffix(&self) -> String {
        let hash = &self.needed.content_hash;
        let hex: String = hash.chars().filter(char::is_ascii_hexdigit).collect();
        if hex.is_empty() { Sha256::of(self.lock.as_bytes()).hex() } else { hex }
    }

    /// Writes what Composer reads: of the app, its own files only where the list of classes has to name them.
    fn fill(&self, to: &Path) -> Result<()> {
        if self.needed.lists_own_classes {
            copy_source(&self.tree, to)?;
        }
        let (folder, home) = (to.join(&self.needed.vendor).join("composer"), to.join(HOME));
        fs::create_dir_all(&folder).facts(&folder)?;
        fs::create_dir_all(&home).facts(&home)?;
        let config = json!({ "config": { "autoloader-suffix": self.suffix() } });
        for (path, text) in [
            (home.join("config.json"), config.to_string()),
            (to.join(MANIFEST), self.manifest.clone()),
            (to.join(LOCKFILE), self.lock.clone()),
            (folder.join("installed.json"), self.installed().to_string()),
        ] {
            fs::write(&path, text).facts(&path)?;
        }
        Ok(())
    }
}

impl Action for Autoloader {
    fn fingerprint(&self) -> Fingerprint {
        let Self { manifest, lock, needed, tree: _ } = self;
        let Needed { packages, vendor, lists_own_classes: _, content_hash: _, lockfile: _ } = needed;
        let text = |text: &str| Sha256::of(text.as_bytes()).hex();
        let values = [("manifest", text(manifest)), ("lock", text(lock)), ("folder", vendor.clone())];
        let part = |one: &Installed| (one.package.name.clone(), one.folder.clone());
        Fingerprint::of(RECIPE)
            .with_recipe(program_step::RECIPE)
            .values("composer", values)
            .input("folders", packages.iter().map(part).collect::<BTreeMap<_, _>>())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let vendor = &self.needed.vendor;
        let argv = [
            "composer",
            "install",
            "--no-dev",
            "--no-scripts",
            "--no-interaction",
            "--no-progress",
            "--optimize-autoloader",
            "--ignore-platform-reqs",
        ];
        let job = Job {
            step: STEP,
            shown: "composer install".to_owned(),
            argv: argv.map(str::to_owned).into(),
            env: vec![
                ("COMPOSER_ALLOW_SUPERUSER", "1".to_owned()),
                ("COMPOSER_DISABLE_NETWORK", "1".to_owned()),
                ("COMPOSER_HOME", format!("{SOURCE}/{HOME}")),
                ("HOME", "/tmp".to_owned()),
                ("LANG", "C.UTF-8".to_owned()),
                ("PATH", "/usr/bin:/bin".to_owned()),
                ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
            ],
            folder: SOURCE,
            starts_in: "",
            fill: &|to| self.fill(to),
            packages: std::slice::from_ref(vendor),
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, layer.store(), cx)?;
        let all = collect::files(&written.source)?;
        let own = |path: &&String| {
            let inside = path.strip_prefix(vendor.as_str()).and_then(|rest| rest.strip_prefix('/'));
            inside.is_some() && !self.tree.has(path)
        };
        let kept: Vec<_> =
            all.iter().filter(own).map(|path| (path.as_str(), format!("{APP}/{path}"))).collect();
        collect::put(layer, &written.source, &kept)?;
        Ok(Vec::new())
    }
}
