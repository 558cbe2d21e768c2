//! Packages without a wheel that fits: built from their source by their own backend (PEP 517), apart from
//! this machine and without the network, and installed like any other wheel.

use crate::environment::{Environment, Found, OF_BUILD};
use crate::file_names::WheelName;
use crate::index::Index;
use crate::install::fact;
use crate::locked::{LockedPackage, Origin, known_versions};
use crate::requirements::Asked;
use crate::sdist::SourceFacts;
use crate::target::Target;
use crate::wheel;
use crate::{install, resolve, sdist};
use content::ContentError;
use content::digest::{Hasher, Sha256};
use content::layer::LayerWriter;
use content::store::Store;
use engine::package_archive::PackageArchive;
use engine::program_step::{CACHE, Cache, Job, RESULT, copy_folder, copy_source, source_digests};
use engine::{Action, Step, StepContext, parts_digest, program_step, run_indexed};
use engine::{Fingerprint, Recipe};
use model::error::PackageError;
use model::folder::entries;
use model::platform::own_platform;
use model::{Error, PackageFact, PathFacts, Place, Result, Role};
use planning::{Context, Resolution, ResolveTarget, Resolving, compile_step};
use remote::{Downloads, Fetcher};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufReader, Seek};
use std::path::Path;
use std::sync::OnceLock;

/// How packages are built.
const RECIPE: Recipe = Recipe::new("wheel build", 2);
/// Where the source lies, in the root that it is built in.
const FOLDER: &str = "/build/source";
/// Builds a wheel.
const SCRIPT: &str = include_str!("build_wheel.py");
/// What it takes, besides what the source itself names.
const TOOLS: &[&str] = &["compilers", "python"];
/// So many answers are waited for at once.
const WAITING: usize = 24;

/// Says of every package whether it has to be built from its source. Where only an index knows, it is asked
/// once, if anybody may be; what cannot be determined now is reported when the package is installed.
pub(super) fn settle(packages: &mut [LockedPackage], environment: &Environment, resolving: &Resolving<'_>) {
    let (asking, store) = (resolving.asking, resolving.store);
    let open: Vec<&mut LockedPackage> = packages.iter_mut().filter(|p| p.source.is_none()).collect();
    let answers: Vec<OnceLock<bool>> = open.iter().map(|_| OnceLock::new()).collect();
    let answer = |package: &LockedPackage| {
        if let Some(named) = environment.is_source(package) {
            return Some(named);
        }
        let text = format!("{} {} {}", package.name, package.identity(), environment.target.name());
        let kept = store.fragment_path("needs-building", Sha256::of(text.as_bytes()));
        if let Some(known) = store.read_document::<bool>(&kept).whole() {
            return Some(known);
        }
        let Found { is_source, .. } = environment.find(package, asking?).ok()?;
        store.write_cache(&kept, &is_source).ok()?;
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

/// A package that is built from its source, and what that takes.
pub(super) struct WantedBuild {
    package: LockedPackage,
    /// The files of a folder of the app's source that is built, each with its digest.
    files: BTreeMap<String, String>,
    /// The packages that it is built with, and where they are installed for that.
    tools: Vec<LockedPackage>,
    environment: Environment,
}

/// What building `package` from its source takes.
pub(super) fn settle_build(
    package: LockedPackage,
    environment: &Environment,
    (context, resolving): (&Context<'_>, &Resolving<'_>),
    resolution: &mut Resolution,
) -> Result<WantedBuild> {
    context.base.tool("compilers")?;
    resolution.tools.extend(TOOLS);
    // Things are built on this machine, whatever the image is for.
    let target = Target::new(&context.runtime()?.version, &own_platform(), context.base.c_library())?;
    let files = files_of(&package, environment)?;
    let purpose = format!("{} build:{}", target.name(), package.name);
    let mut asked = format!("{} {}", package.name, package.identity());
    if let Origin::Folder(path) = &package.origin {
        // What a folder asks for may change without its name.
        let facts = SourceFacts::of_folder(&context.tree.root().join(path))?;
        asked.push_str(&format!(" {}", facts.requires.join(" ")));
    }
    let compile = Compile { package, environment: environment.clone(), files };
    let purpose = ResolveTarget { language: "python", purpose: &purpose };
    let found = resolving.packages(purpose, &asked, |downloads, known| {
        let facts = compile.facts(downloads)?;
        let place = Place::new(format!("pyproject.toml of {}", compile.package.label()), None);
        let asked = Asked::of_needs(&facts.requires, &place)?;
        let terms = environment.terms.clone();
        let root = context.tree.root();
        let index = Index::new(downloads, context.addresses, (&target, false), terms, root);
        resolve::resolve(&asked, &target, &index, &known_versions(known))
    })?;
    let (packages, new) = found.unwrap_or_default();
    resolution.resolved.extend(new);
    let tools = LockedPackage::of_pins(&packages, std::iter::empty());
    let Compile { package, files, .. } = compile;
    Ok(WantedBuild { package, files, tools, environment: environment.of_build(target) })
}

impl WantedBuild {
    /// The step that builds the package and installs it.
    pub(super) fn step(&self, of_app: &Environment) -> Step {
        let Self { package, files, tools, environment } = self;
        let name = format!("python packages to build {}", package.name);
        let tools = install::step(name, tools.clone(), environment.clone());
        let compile = Compile { package: package.clone(), environment: of_app.clone(), files: files.clone() };
        Step::new(compile_step(&package.name), Role::Dependencies, compile)
            .compiling(&package.name)
            .in_root(vec![tools])
    }
}

/// The step's work.
struct Compile {
    package: LockedPackage,
    environment: Environment,
    /// The files of a folder of the app's source that is built, each with its digest.
    files: BTreeMap<String, String>,
}

/// The files of a package that is a folder of the app's source, each with its digest.
fn files_of(package: &LockedPackage, environment: &Environment) -> Result<BTreeMap<String, String>> {
    let Origin::Folder(path) = &package.origin else { return Ok(BTreeMap::new()) };
    source_digests(&environment.source.below(path))
}

impl Compile {
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
        let Found { address, .. } = self.environment.find(&self.package, fetcher)?;
        let integrity = self.package.integrity.as_ref().ok_or_else(|| bad("its hash is unknown"))?;
        then(&PackageArchive { label: &label, address: &address, integrity })
    }

    fn facts(&self, downloads: Downloads<'_>) -> Result<SourceFacts> {
        match self.package.origin.folder(&self.environment.source, downloads)? {
            Some(folder) => SourceFacts::of_folder(&folder),
            None => self.with_archive(downloads.fetcher, |archive| sdist::facts(archive, downloads)),
        }
    }

    /// Writes the source into an empty folder.
    fn fill(&self, downloads: Downloads<'_>, to: &Path) -> Result<()> {
        if let Origin::Folder(path) = &self.package.origin {
            return copy_source(&self.environment.source.below(path), to);
        }
        match self.package.origin.folder(&self.environment.source, downloads)? {
            Some(folder) => copy_folder(&folder, to),
            None => self.with_archive(downloads.fetcher, |archive| archive.unpack(downloads, to)),
        }
    }

    /// The wheel, as it is kept in the store for builds of the same source in the same root.
    fn wheel(&self, store: &Store, cx: &StepContext<'_>) -> Result<File> {
        let mut parts = vec![self.package.name.clone(), self.package.identity()];
        parts.push(parts_digest(&self.files).to_string());
        parts.extend(cx.root.iter().map(|result| result.layer.digest.to_string()));
        let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
        let kept = store.fragment_path("wheels", RECIPE.fact_key(&parts));
        if let Some(wheel) = store.open_checked(&kept) {
            return Ok(wheel);
        }
        self.build(store, cx, &kept)?;
        let damaged = || ContentError::Damaged { what: format!("the wheel of {}", self.package.label()) };
        Ok(store.open_checked(&kept).ok_or_else(damaged)?)
    }

    fn build(&self, store: &Store, cx: &StepContext<'_>, kept: &Path) -> Result<()> {
        let downloads = Downloads { fetcher: cx.fetcher, store };
        let facts = self.facts(downloads)?;
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
        let fill = |to: &Path| self.fill(downloads, to);
        let job = Job {
            step: &step,
            shown: facts.backend,
            argv,
            env,
            folder: FOLDER,
            starts_in: "",
            fill: &fill,
            packages: &[],
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, store, cx)?;
        let bad =
            |detail: String| Error::Package(PackageError::Damaged { package: self.package.label(), detail });
        let made = entries(&written.folder)?.into_iter();
        let name = made
            .filter_map(|path| Some(path.file_name()?.to_string_lossy().into_owned()))
            .find(|name| name.ends_with(".whl"));
        let name = name.ok_or_else(|| bad("its build produced no wheel".to_owned()))?;
        let wheel = WheelName::parse(&name).filter(|w| w.project == self.package.name);
        let wheel =
            wheel.ok_or_else(|| bad(format!("its build produced {name}, which is another package")))?;
        if self.environment.target.fit(&wheel).is_none() {
            return Err(bad(format!(
                "its build produced {name}, which is not for {}",
                self.environment.target.name()
            )));
        }
        let mut copy = store.temporary_file()?;
        let made = written.folder.join(&name);
        io::copy(&mut File::open(&made).facts(&made)?, &mut copy)?;
        Ok(store.persist_checked(copy, kept)?)
    }
}

impl Action for Compile {
    fn fingerprint(&self) -> Fingerprint {
        let Self { package, environment, files } = self;
        let mut parts = files.clone();
        parts.insert("(source)".to_owned(), format!("{} {}", package.name, package.identity()));
        Fingerprint::of(RECIPE)
            .with_recipe(wheel::RECIPE)
            .with_recipe(program_step::RECIPE)
            .input("package", parts)
            .input("runtime", environment.parts())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let mut wheel = self.wheel(layer.store(), cx)?;
        let (digest, _) = Hasher::of_reader(&mut wheel)?;
        wheel.rewind()?;
        let licence =
            self.environment.add_wheel(layer, &digest, &self.package.label(), BufReader::new(wheel))?;
        Ok(vec![fact(&self.package, licence)])
    }
}
