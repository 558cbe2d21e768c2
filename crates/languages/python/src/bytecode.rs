//! Packages compiled to bytecode, where that is chosen: by the image's own Python, apart from this machine. The
//! files are of the kind that is loaded without a look at the source (PEP 552), as all files of an image
//! have one time.

use crate::environment::{Environment, OF_APP};
use content::layer::LayerWriter;
use engine::program_step::{CACHE, Cache, Job, RESULT};
use engine::{Action, Step, StepContext, collect, program_step};
use engine::{Fingerprint, Recipe};
use model::{PackageFact, Result, Role};
use std::collections::BTreeSet;

/// How bytecode is made and put down.
const RECIPE: Recipe = Recipe::new("python bytecode", 3);
/// The name of the step.
const STEP: &str = "python bytecode";
/// Compiles every module below a folder; one that cannot be compiled is none of this version of Python.
const SCRIPT: &str = "import compileall, sys; from py_compile import PycInvalidationMode as Mode; \
    compileall.compile_dir(sys.argv[1], quiet=2, maxlevels=64, invalidation_mode=Mode.UNCHECKED_HASH)";

/// The step that compiles what `packages`, the steps before it, install.
pub(super) fn step(packages: Vec<Step>, environment: &Environment) -> Step {
    let work =
        Bytecode { site: format!("/{OF_APP}/{}", environment.site()), version: environment.version.clone() };
    Step::new(STEP, Role::Dependencies, work).in_root(packages)
}

/// The step's work.
struct Bytecode {
    /// The folder of packages, in the root.
    site: String,
    /// The version of the interpreter.
    version: String,
}

impl Action for Bytecode {
    fn fingerprint(&self) -> Fingerprint {
        let Self { site, version } = self;
        Fingerprint::of(RECIPE)
            .with_recipe(program_step::RECIPE)
            .values("runtime", [("python", version.clone()), ("packages", site.clone())])
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
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
            starts_in: "",
            fill: &|_| Ok(()),
            packages: &[],
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, layer.store(), cx)?;
        let site = &self.site[1..];
        let folder = written.folder.join(site);
        let all = if folder.is_dir() { collect::files(&folder)? } else { BTreeSet::new() };
        let made = all.iter().filter(|path| path.ends_with(".pyc"));
        let made = made.map(|path| (path.as_str(), format!("{site}/{}", beside_module(path))));
        collect::put(layer, &folder, &made.collect::<Vec<_>>())?;
        Ok(Vec::new())
    }
}

/// Where a file of bytecode is looked for: in a folder beside its module.
fn beside_module(path: &str) -> String {
    match path.rsplit_once('/') {
        Some((folder, name)) => format!("{folder}/__pycache__/{name}"),
        None => format!("__pycache__/{path}"),
    }
}
