//! The step that compiles the programs of a Go module.

use content::layer::{Entry, LayerWriter};
use engine::program_step::{CACHE, Job, RESULT, SOURCE, copy_source};
use engine::{Action, StepContext, program_step};
use model::shell_words::join;
use model::{Error, PackageFact, PathFacts, Result};
use source::SourceTree;
use std::collections::BTreeSet;
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
    /// The processor of the image, in Go's words, which are those of OCI.
    pub(super) processor: String,
    /// Whether the packages that it needs are with the source.
    pub(super) vendored: bool,
}

impl Action for Compile {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let mut argv: Vec<String> =
            ["go", "build", "-trimpath", "-buildvcs=false", "-ldflags=-s -w -buildid="]
                .map(str::to_owned)
                .into();
        argv.push(format!("-mod={}", if self.vendored { "vendor" } else { "readonly" }));
        argv.extend(["-o".to_owned(), format!("{RESULT}/")]);
        argv.extend(self.mains.iter().map(|folder| format!("./{folder}")));
        let env = vec![
            ("CGO_ENABLED", "0".to_owned()),
            ("GOARCH", self.processor.clone()),
            ("GOCACHE", format!("{CACHE}/compiled")),
            ("GOFLAGS", String::new()),
            ("GOPROXY", "off".to_owned()),
            ("GOTOOLCHAIN", "local".to_owned()),
            ("HOME", "/tmp".to_owned()),
            ("PATH", "/usr/bin".to_owned()),
        ];
        let job = Job {
            step: STEP,
            shown: join(&argv),
            argv,
            env,
            folder: SOURCE,
            fill: &|to| copy_source(&self.tree, to),
            cache: "go",
        };
        let written = program_step::run(&job, layer.store(), tools)?;
        let entries = fs::read_dir(&written.folder).facts(&written.folder)?;
        let mut programs: Vec<_> = entries.filter_map(|entry| Some(entry.ok()?.path())).collect();
        programs.sort();
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
        Ok(Vec::new())
    }
}
