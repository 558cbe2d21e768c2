//! Packages compiled to bytecode, where that is chosen: by the image's own Python, apart from this machine. The
//! files are of the kind that is believed without looking at the source (PEP 552), as all files of an image
//! have one time.

use super::environment::{Environment, OF_APP};
use crate::error::{BuildError, PathFacts, Result};
use crate::isolated::{self, CACHE, Job, RESULT};
use crate::lang::Compiling;
use crate::worklist::{Input, PackageFact, Role, Step, Tools, Work};
use content::layer::{Entry, LayerWriter};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::path::Path;

/// The name of the step.
const STEP: &str = "python bytecode";
/// What it takes.
const TOOLS: &[&str] = &["python"];
/// Compiles every module below a folder; one that cannot be compiled is none of this version of Python.
const SCRIPT: &str = "import compileall, sys; from py_compile import PycInvalidationMode as Mode; \
    compileall.compile_dir(sys.argv[1], quiet=2, maxlevels=64, invalidation_mode=Mode.UNCHECKED_HASH)";

/// The step that compiles what `packages`, the steps before it, install.
pub(super) fn step(packages: Vec<Step>, around: &Environment) -> Compiling {
    let parts = [("python", around.version.clone()), ("form", "unchecked hash".to_owned())];
    let parts: BTreeMap<String, String> = parts.map(|(name, value)| (name.to_owned(), value)).into();
    let work = Bytecode { site: format!("/{OF_APP}/{}", around.site()) };
    let mut step = Step::new(STEP, Role::Dependencies, vec![Input::of_parts("runtime", parts)], work);
    step.root = packages;
    Compiling { step, tools: TOOLS }
}

/// The step's work.
struct Bytecode {
    /// The folder of packages, in the root.
    site: String,
}

impl Work for Bytecode {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &Tools<'_>) -> Result<Vec<PackageFact>> {
        let env = vec![
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", "/usr/bin:/bin".to_owned()),
            ("PYTHONHASHSEED", "0".to_owned()),
            // What is written goes into a folder of its own, by the paths of the modules.
            ("PYTHONPYCACHEPREFIX", RESULT.to_owned()),
            ("XDG_CACHE_HOME", CACHE.to_owned()),
        ];
        let python = format!("/{OF_APP}/bin/python");
        let job = Job {
            step: STEP,
            argv: [&python, "-c", SCRIPT, &self.site].map(str::to_owned).to_vec(),
            shown: "compileall".to_owned(),
            env,
            folder: "/build/empty",
            fill: &|_| Ok(()),
            cache: "python",
        };
        let written = isolated::run(&job, layer.store(), tools)?;
        let mut made = BTreeMap::new();
        list(&written.folder.join(&self.site[1..]), &self.site[1..], &mut made)?;
        let mut folders = BTreeSet::new();
        layer.part::<BuildError>(|tar| {
            for (path, full) in &made {
                for (at, _) in path.match_indices('/') {
                    if folders.insert(path[..at].to_owned()) {
                        tar.entry(&Entry::folder(&path[..at]))?;
                    }
                }
                let mut file = File::open(full).facts(full)?;
                let size = file.metadata().facts(full)?.len();
                tar.file(&Entry::file(path.clone(), size, false), &mut file)?;
            }
            Ok(())
        })?;
        Ok(Vec::new())
    }
}

/// The files below `folder`, by where they are looked for: in a folder beside their module.
fn list(folder: &Path, inside: &str, made: &mut BTreeMap<String, std::path::PathBuf>) -> Result<()> {
    if !folder.is_dir() {
        return Ok(());
    }
    for entry in fs::read_dir(folder).facts(folder)? {
        let entry = entry.facts(folder)?;
        let path = entry.path();
        let name =
            entry.file_name().into_string().map_err(|_| BuildError::FileName { path: path.clone() })?;
        if entry.file_type().facts(&path)?.is_dir() {
            list(&path, &format!("{inside}/{name}"), made)?;
        } else if name.ends_with(".pyc") {
            made.insert(format!("{inside}/__pycache__/{name}"), path);
        }
    }
    Ok(())
}
