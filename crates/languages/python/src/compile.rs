//! Packages without a wheel that fits: built from their source by their own backend (PEP 517), apart from
//! this machine and without the network, and installed like any other wheel.

use crate::environment::{Environment, Found, OF_BUILD};
use crate::index::Index;
use crate::install::fact;
use crate::locked::{LockedPackage, Origin, known_versions};
use crate::requirements::Asked;
use crate::sdist::SourceFacts;
use crate::target::Target;
use crate::wheel::WheelName;
use crate::{install, resolve, sdist};
use content::digest::{Hasher, Sha256};
use content::layer::LayerWriter;
use content::store::Store;
use engine::package_archive::PackageArchive;
use engine::program_step::{CACHE, Job, RESULT, copy_folder, copy_source};
use engine::{Action, Input, Step, StepContext, parts_digest, program_step, run_indexed};
use model::error::PackageError;
use model::platform::own_platform;
use model::{Error, PackageFact, PathFacts, Place, Result, Role};
use planning::{CompileStep, Context, NewlyResolved, compile_step};
use remote::Fetcher;
use source::{TreeFile, TreeKind};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufReader};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

/// Version of the way packages are built; part of every key.
const COMPILE_FORMAT: u32 = 1;
/// Where the source lies, in the root that it is built in.
const FOLDER: &str = "/build/source";
/// Builds a wheel.
const SCRIPT: &str = include_str!("build_wheel.py");
/// What it takes, besides what the source itself names.
const TOOLS: &[&str] = &["compilers", "python"];
/// So many answers are waited for at once.
const WAITING: usize = 24;

/// Says of every package whether it has to be built from its source. Where only an index knows, it is asked
/// once, if anybody may be; what cannot be found out now is told when the package is installed.
pub(super) fn settle(packages: &mut [LockedPackage], around: &Environment, context: &Context<'_>) {
    let (asking, store) = (context.resolving.asking, context.resolving.store);
    let open: Vec<&mut LockedPackage> = packages.iter_mut().filter(|p| p.source.is_none()).collect();
    let answers: Vec<OnceLock<bool>> = open.iter().map(|_| OnceLock::new()).collect();
    let answer = |package: &LockedPackage| {
        if let Some(named) = around.is_source(package) {
            return Some(named);
        }
        let text = format!("{} {} {}", package.name, package.identity(), around.target.name());
        let kept = store.fragment_path("needs-building", Sha256::of(text.as_bytes()));
        if let Some(known) = store.read_json::<bool>(&kept) {
            return Some(known);
        }
        let Found { is_source, .. } = around.find(package, asking?).ok()?;
        store.keep(&kept, is_source.to_string().as_bytes()).ok()?;
        Some(is_source)
    };
    run_indexed(open.len(), WAITING, |at| {
        if let Some(source) = answer(&*open[at]) {
            let _ = answers[at].set(source);
        }
    });
    for (package, source) in open.into_iter().zip(answers) {
        package.source = source.into_inner();
    }
}

/// The step that builds `package` and installs it, with what was resolved for that.
pub(super) fn compiling(
    package: LockedPackage,
    around: &Environment,
    context: &Context<'_>,
) -> Result<(CompileStep, Option<NewlyResolved>)> {
    context.base.tool("compilers")?;
    // Things are built on this machine, whatever the image is for.
    let target = Target::new(&context.runtime.version, &own_platform(), context.base.c_library())?;
    let compile = Compile { package, around: around.clone() };
    let for_whom = format!("{}, to build {}", target.name(), compile.package.name);
    let mut asked = format!("{} {}", compile.package.name, compile.package.identity());
    if let Origin::Folder(path) = &compile.package.origin {
        // What a folder asks for may change without its name.
        let facts = SourceFacts::of_folder(&context.tree.root().join(path))?;
        asked.push_str(&format!(" {}", facts.requires.join(" ")));
    }
    let found = context.resolving.packages(("python", &for_whom), &asked, |(fetcher, store), known| {
        let facts = compile.facts((fetcher, store))?;
        let place = Place::new(format!("pyproject.toml of {}", compile.package.label()), None);
        let asked = Asked::of_needs(&facts.requires, &place)?;
        let terms = around.terms.clone();
        let root = context.tree.root();
        let index = Index::new((fetcher, store), context.addresses, (&target, false), terms, root);
        resolve::resolve(&asked, &target, &index, &known_versions(known))
    })?;
    let (packages, new) = found.unwrap_or_default();
    let packages = LockedPackage::of_pins(&packages, std::iter::empty());
    let environment = around.of_build(target);
    let name = format!("python packages to build {}", compile.package.name);
    let mut step =
        Step::new(compile_step(&compile.package.name), Role::Dependencies, vec![compile.input()?], compile);
    step.root.push(install::step(name, packages, environment));
    Ok((CompileStep { step, tools: TOOLS }, new))
}

/// The step's work.
struct Compile {
    package: LockedPackage,
    around: Environment,
}

impl Compile {
    /// What the result depends on, besides the root.
    fn input(&self) -> Result<Input> {
        let Environment { target, version, home, .. } = &self.around;
        let parts = [
            ("source", format!("{} {}", self.package.name, self.package.identity())),
            ("python", format!("{version} in {home}, {}", target.name())),
            ("format", COMPILE_FORMAT.to_string()),
        ];
        let mut parts: BTreeMap<String, String> = parts.map(|(name, value)| (name.to_owned(), value)).into();
        parts.extend(self.files()?);
        Ok(Input::of_parts("package", parts))
    }

    /// The files of a folder of the app's source, each with its digest.
    fn files(&self) -> Result<BTreeMap<String, String>> {
        let Origin::Folder(path) = &self.package.origin else { return Ok(BTreeMap::new()) };
        let tree = self.around.source.below(path);
        let digest = |(path, file): (&String, &TreeFile)| {
            let told = match &file.kind {
                TreeKind::Link { target } => format!("link {target}"),
                TreeKind::File { executable, .. } => {
                    let full = tree.root().join(path);
                    let (digest, _) = Hasher::of_reader(&mut File::open(&full).facts(&full)?).facts(&full)?;
                    format!("{} {executable}", digest.hex())
                }
            };
            Ok((path.clone(), told))
        };
        tree.files().iter().map(digest).collect()
    }

    /// Does something with the archive of the source.
    fn with_archive<T>(
        &self,
        fetcher: &Fetcher,
        then: impl FnOnce(&PackageArchive<'_>) -> Result<T>,
    ) -> Result<T> {
        let label = self.package.label();
        let bad = |detail: &str| {
            Error::Package(PackageError::Damaged { package: label.clone(), detail: detail.to_owned() })
        };
        let Found { address, .. } = self.around.find(&self.package, fetcher)?;
        let integrity = self.package.integrity.as_ref().ok_or_else(|| bad("nothing says its hash"))?;
        then(&PackageArchive { label: &label, address: &address, integrity })
    }

    fn facts(&self, around: (&Fetcher, &Store)) -> Result<SourceFacts> {
        match self.package.origin.folder(&self.around.source, around)? {
            Some(folder) => SourceFacts::of_folder(&folder),
            None => self.with_archive(around.0, |archive| sdist::facts(archive, around)),
        }
    }

    /// Writes the source into an empty folder.
    fn fill(&self, around: (&Fetcher, &Store), to: &Path) -> Result<()> {
        if let Origin::Folder(path) = &self.package.origin {
            return copy_source(&self.around.source.below(path), to);
        }
        match self.package.origin.folder(&self.around.source, around)? {
            Some(folder) => copy_folder(&folder, to),
            None => self.with_archive(around.0, |archive| archive.unpack(around, to)),
        }
    }

    /// The wheel, as it is kept in the store for whoever builds the same source in the same root.
    fn wheel(&self, store: &Store, tools: &StepContext<'_>) -> Result<PathBuf> {
        let root: String = tools.root.iter().map(|result| format!("{}\n", result.layer.digest)).collect();
        let source = parts_digest(&self.files()?);
        let (name, identity) = (&self.package.name, self.package.identity());
        let text = format!("{COMPILE_FORMAT}\n{name} {identity}\n{source}\n{root}");
        let kept = store.fragment_path("wheels", Sha256::of(text.as_bytes()));
        if !kept.exists() {
            self.build(store, tools, &kept)?;
        }
        Ok(kept)
    }

    fn build(&self, store: &Store, tools: &StepContext<'_>, kept: &Path) -> Result<()> {
        let around = (tools.fetcher, store);
        let facts = self.facts(around)?;
        let python = format!("/{OF_BUILD}/bin/python");
        let mut argv = [&python, "-c", SCRIPT, RESULT, &facts.backend].map(str::to_owned).to_vec();
        argv.extend(facts.backend_path);
        let env = vec![
            ("HOME", "/tmp".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", format!("/{OF_BUILD}/bin:/usr/bin:/bin")),
            ("PYTHONDONTWRITEBYTECODE", "1".to_owned()),
            ("PYTHONHASHSEED", "0".to_owned()),
            // Of a folder, its history would tell; what it says of itself has to do.
            ("SETUPTOOLS_SCM_PRETEND_VERSION", self.package.version.to_string()),
            ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
            ("XDG_CACHE_HOME", CACHE.to_owned()),
        ];
        let step = compile_step(&self.package.name);
        let fill = |to: &Path| self.fill(around, to);
        let job = Job {
            step: &step,
            shown: facts.backend,
            argv,
            env,
            folder: FOLDER,
            fill: &fill,
            cache: "python",
        };
        let written = program_step::run(&job, store, tools)?;
        let bad =
            |detail: String| Error::Package(PackageError::Damaged { package: self.package.label(), detail });
        let entries = fs::read_dir(&written.folder).facts(&written.folder)?.flatten();
        let name =
            entries.map(|e| e.file_name().to_string_lossy().into_owned()).find(|n| n.ends_with(".whl"));
        let name = name.ok_or_else(|| bad("its build made no wheel".to_owned()))?;
        let wheel = WheelName::parse(&name).filter(|w| w.project == self.package.name);
        let wheel = wheel.ok_or_else(|| bad(format!("its build made {name}, which is another package")))?;
        if self.around.target.fit(&wheel).is_none() {
            return Err(bad(format!(
                "its build made {name}, which is not for {}",
                self.around.target.name()
            )));
        }
        let mut copy = store.temporary_file()?;
        let made = written.folder.join(&name);
        io::copy(&mut File::open(&made).facts(&made)?, &mut copy)?;
        Ok(copy.publish(kept)?)
    }
}

impl Action for Compile {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let wheel = self.wheel(layer.store(), tools)?;
        let text = format!("compiled {COMPILE_FORMAT} {} {}", layer.codec().name(), wheel.display());
        let key = Sha256::of(text.as_bytes());
        let file = BufReader::new(File::open(&wheel).facts(&wheel)?);
        let licence = self.around.add_wheel(layer, key, &self.package.label(), file)?;
        Ok(vec![fact(&self.package, licence)])
    }
}
