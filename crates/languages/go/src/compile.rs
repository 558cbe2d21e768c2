//! The step that compiles the programs of a Go module.

use crate::module_files::FOLDER;
use crate::{LOCKFILE, build_info, licences};
use content::layer::{Entry, LayerWriter};
use engine::program_step::{CACHE, Cache, Job, RESULT, SOURCE, copy_source};
use engine::unpacked_layers::{StoredLayer, readable};
use engine::{Action, StepContext, program_step};
use engine::{Fingerprint, Recipe};
use model::folder::entries;
use model::shell_words::join;
use model::{Error, PackageFact, PathFacts, Result};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::sync::Arc;

/// The name of the step.
pub(super) const STEP: &str = "go programs";
/// Where programs are put, from the root of the image.
const PROGRAMS: &str = "app/bin";

/// The step's work.
pub(super) struct Compile {
    pub(super) tree: Arc<SourceTree>,
    /// Folders of the main packages, from the root of the module.
    pub(super) mains: BTreeSet<String>,
    /// Whether the last layer of the root has the archives of modules.
    pub(super) has_modules: bool,
    pub(super) tags: Vec<String>,
    /// Flags of the linker besides ours.
    pub(super) linker_flags: Vec<String>,
    /// Whether parts in C are compiled.
    pub(super) with_c: bool,
    /// The processor of the image, in Go's words, which are those of OCI.
    pub(super) processor: String,
    /// Whether the packages that it needs are with the source.
    pub(super) vendored: bool,
    /// The text of `go.sum`, where the source's lacks something.
    pub(super) sums: Option<String>,
    /// Where programs are looked for.
    pub(super) path: String,
}

impl Compile {
    fn argv(&self) -> Vec<String> {
        let mut argv: Vec<String> = ["go", "build", "-trimpath", "-buildvcs=false"].map(str::to_owned).into();
        let flags = [&["-s -w -buildid=".to_owned()], &self.linker_flags[..]].concat();
        argv.push(format!("-ldflags={}", flags.join(" ")));
        if !self.tags.is_empty() {
            argv.push(format!("-tags={}", self.tags.join(",")));
        }
        argv.push(format!("-mod={}", if self.vendored { "vendor" } else { "readonly" }));
        argv.extend(["-o".to_owned(), format!("{RESULT}/")]);
        argv.extend(self.mains.iter().map(|folder| format!("./{folder}")));
        argv
    }

    fn env(&self) -> Vec<(&'static str, String)> {
        vec![
            ("CGO_ENABLED", u8::from(self.with_c).to_string()),
            ("GOARCH", self.processor.clone()),
            ("GOCACHE", format!("{CACHE}/compiled")),
            // What is unpacked may be removed again.
            ("GOFLAGS", "-modcacherw".to_owned()),
            // Modules are taken from a folder whose files were verified before.
            ("GOMODCACHE", format!("{CACHE}/modules")),
            ("GOPROXY", if self.vendored { "off".to_owned() } else { format!("file:///{FOLDER}") }),
            ("GONOSUMDB", "*".to_owned()),
            ("GOSUMDB", "off".to_owned()),
            ("GOTOOLCHAIN", "local".to_owned()),
            ("HOME", "/tmp".to_owned()),
            ("PATH", self.path.clone()),
        ]
    }
}

impl Action for Compile {
    fn fingerprint(&self) -> Fingerprint {
        // All of it shows in the command or the environment.
        let Self {
            tree: _,
            mains: _,
            has_modules: _,
            tags: _,
            linker_flags: _,
            with_c: _,
            processor: _,
            vendored: _,
            sums,
            path: _,
        } = self;
        let env = self.env().into_iter().map(|(name, value)| (name.to_owned(), value));
        Fingerprint::of(Recipe::new("go programs", 4))
            .with_recipe(program_step::RECIPE)
            .values("command", [("run", join(&self.argv()))])
            .input("environment", env.collect())
            .values("hashes", [("go.sum", sums.clone().unwrap_or_default())])
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let (argv, env) = (self.argv(), self.env());
        let job = Job {
            step: STEP,
            shown: join(&argv),
            argv,
            env,
            folder: SOURCE,
            starts_in: "",
            fill: &|to| {
                copy_source(&self.tree, to)?;
                let Some(text) = &self.sums else { return Ok(()) };
                let file = to.join(LOCKFILE);
                fs::write(&file, text).facts(&file)
            },
            packages: &[],
            cache: Cache::Kept,
        };
        let written = program_step::run(&job, layer.store(), cx)?;
        let programs = entries(&written.folder)?;
        let mut packages = BTreeMap::new();
        for path in &programs {
            let modules = build_info::modules(&fs::read(path).facts(path)?);
            packages
                .extend(modules.into_iter().map(|fact| ((fact.name.clone(), fact.version.clone()), fact)));
        }
        layer.part::<Error>(|tar| {
            tar.entry(&Entry::folder("app"))?;
            tar.entry(&Entry::folder(PROGRAMS))?;
            for path in &programs {
                let name = path.file_name().unwrap_or_default().to_string_lossy();
                let mut file = File::open(path).facts(path)?;
                let size = file.metadata().facts(path)?.len();
                tar.file(&Entry::file(format!("{PROGRAMS}/{name}"), size, true), &mut file)?;
            }
            Ok(())
        })?;
        let mut packages: Vec<PackageFact> = packages.into_values().collect();
        if let Some(modules) = cx.root.last().filter(|_| self.has_modules) {
            let root = readable(layer.store(), &StoredLayer::from(&modules.layer))?;
            for package in &mut packages {
                package.licence = licences::of(&root, &package.name, &package.version).map(str::to_owned);
            }
        }
        Ok(packages)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_shapes_the_programs_is_in_the_fingerprint() {
        let compile = |mains: &[&str], processor: &str, vendored| Compile {
            tree: Arc::new(SourceTree::new("/".into(), BTreeMap::new())),
            mains: mains.iter().map(|main| (*main).to_owned()).collect(),
            has_modules: false,
            tags: Vec::new(),
            linker_flags: Vec::new(),
            with_c: false,
            processor: processor.to_owned(),
            vendored,
            sums: None,
            path: "/usr/bin".to_owned(),
        };
        let one = compile(&[""], "amd64", false).fingerprint();
        assert_eq!(one, compile(&[""], "amd64", false).fingerprint());
        assert_ne!(one, compile(&["cmd/tide"], "amd64", false).fingerprint());
        assert_ne!(one, compile(&[""], "arm64", false).fingerprint());
        assert_ne!(one, compile(&[""], "amd64", true).fingerprint());
        let base = || compile(&[""], "amd64", false);
        let others = [
            Compile { tags: vec!["harbour".to_owned()], ..base() },
            Compile { linker_flags: vec!["-X main.version=1".to_owned()], ..base() },
            Compile { with_c: true, ..base() },
        ];
        for other in others {
            assert_ne!(one, other.fingerprint());
        }
    }
}
