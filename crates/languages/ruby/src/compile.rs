//! Gems with parts that have to be compiled: built apart from this machine and without the network, with the gems that they
//! need, and installed like those that bring their parts along.

use crate::environment::Environment;
use crate::gem_file::{self, Member};
use crate::settled::Gem;
use crate::specification::Specification;
use crate::{install, settled};
use content::digest::Sha256;
use content::layer::{Codec, Fragment, FragmentWriter, LayerWriter};
use content::store::Store;
use engine::program_step::{self, Cache, Job, RESULT};
use engine::{Action, Fingerprint, Produced, Recipe, Step, StepContext, append_fragment};
use model::error::PackageError;
use model::folder::files_below;
use model::{Error, PackageFact, PathFacts, Result, Role, Withdrawn};
use planning::compile_step;
use remote::Downloads;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;

/// How gems are compiled.
const RECIPE: Recipe = Recipe::new("compiled gem", 1);
/// Compiles the parts of a gem.
const SCRIPT: &str = include_str!("build_extensions.rb");

/// The step that compiles and installs a gem; `all` are the gems of the app.
pub(super) fn step(gem: &Gem, all: &[Gem], told: Vec<String>, environment: &Environment) -> Step {
    let needed = needed(gem, all);
    let name = format!("ruby gems to compile {}", gem.name);
    let tools = install::step(name, needed, environment, true);
    let work = Compile { gem: gem.clone(), told, environment: environment.clone() };
    Step::new(compile_step(&gem.name), Role::Dependencies, work).compiling(&gem.name).in_root(vec![tools])
}

/// What a gem needs, directly or not. What has to be compiled itself is there with its files alone.
fn needed(gem: &Gem, all: &[Gem]) -> Vec<Gem> {
    let mut names = BTreeSet::new();
    let mut waiting: Vec<&String> = gem.needs.iter().collect();
    while let Some(name) = waiting.pop() {
        if names.insert(name) {
            waiting.extend(all.iter().filter(|gem| gem.name == *name).flat_map(|gem| &gem.needs));
        }
    }
    all.iter().filter(|other| names.contains(&other.name) && other.name != gem.name).cloned().collect()
}

struct Compile {
    gem: Gem,
    /// What the gem's own program is told, as its user configured it.
    told: Vec<String>,
    environment: Environment,
}

impl Compile {
    /// The key of the finished gem: for compiling the same in the same root.
    fn key(&self, codec: Codec, root: &[Produced]) -> Sha256 {
        let mut parts =
            vec![self.environment.interface.clone(), self.gem.full_name(), self.gem.integrity.canonical()];
        parts.extend(self.told.iter().cloned());
        parts.extend(root.iter().map(|result| result.layer.digest.to_string()));
        let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
        RECIPE.fragment_key(codec, &parts)
    }

    fn provide(&self, layer: &LayerWriter<'_>, key: Sha256, cx: &StepContext<'_>) -> Result<Specification> {
        let (store, codec) = (layer.store(), layer.codec());
        if Fragment::read(store, codec, key).is_some()
            && let Ok(said) = install::said_by(store, key, &self.gem)
        {
            return Ok(said);
        }
        let bad =
            |detail: String| Error::Package(PackageError::Damaged { package: self.gem.label(), detail });
        let label = self.gem.label();
        let archive = self.gem.archive(&label);
        let fetched = archive.fetched(Downloads { fetcher: cx.fetcher, store })?;
        let open = || File::open(&fetched).facts(&fetched);
        let said =
            gem_file::specification(open()?).and_then(|said| settled::is_of(said, &self.gem)).map_err(bad)?;
        let compiled = self.compiled(&said, &open, store, cx)?;
        let mut fragment = FragmentWriter::new(store, codec, key, 1)?;
        install::put(&mut fragment, &self.environment, &self.gem, (&said, open()?), &compiled)
            .map_err(bad)?;
        fragment.finish()?;
        store.write_cache(&store.fragment_path("gems", key), &said)?;
        Ok(said)
    }

    /// What the gem's programs make of it, by paths in its folder.
    fn compiled(
        &self,
        said: &Specification,
        open: &dyn Fn() -> Result<File>,
        store: &Store,
        cx: &StepContext<'_>,
    ) -> Result<BTreeMap<String, Vec<u8>>> {
        let full_name = self.gem.full_name();
        let home = format!("/{}", self.environment.home());
        let specification = format!("{home}/specifications/{full_name}.gemspec");
        let mut argv =
            vec!["ruby".to_owned(), "-e".to_owned(), SCRIPT.to_owned(), specification, RESULT.to_owned()];
        argv.extend(self.told.iter().cloned());
        let env = vec![
            ("GEM_HOME", home.clone()),
            ("HOME", "/tmp".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", format!("{home}/bin:/usr/bin:/bin")),
            ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
        ];
        let step = compile_step(&self.gem.name);
        let fill = |to: &Path| {
            unpack(open()?, &to.join("gems").join(&full_name), &self.gem)?;
            let folder = to.join("specifications");
            let file = folder.join(format!("{full_name}.gemspec"));
            fs::create_dir_all(&folder).facts(&folder)?;
            fs::write(&file, said.text(self.gem.platform.as_deref())).facts(&file)
        };
        let job = Job {
            step: &step,
            shown: said.extensions.join(", "),
            argv,
            env,
            folder: &home,
            starts_in: "",
            fill: &fill,
            packages: &[],
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, store, cx)?;
        let loaded = said.require_paths.first().map_or("lib", String::as_str);
        let mut compiled = BTreeMap::new();
        for path in files_below(&written.folder)? {
            let bytes = {
                let full = written.folder.join(&path);
                fs::read(&full).facts(&full)?
            };
            compiled.insert(format!("{loaded}/{}", path.display()), bytes);
        }
        if compiled.is_empty() {
            let detail = "its build produced nothing that Ruby could load".to_owned();
            return Err(Error::Package(PackageError::Damaged { package: self.gem.label(), detail }));
        }
        Ok(compiled)
    }
}

/// Writes the files of a gem into a new folder.
fn unpack(file: File, to: &Path, gem: &Gem) -> Result<()> {
    let told = |error: io::Error| error.to_string();
    fs::create_dir_all(to).facts(to)?;
    gem_file::each_file(file, |path, member| {
        let full = to.join(path);
        if let Some(folder) = full.parent() {
            fs::create_dir_all(folder).map_err(told)?;
        }
        match member {
            Member::File { executable, content, .. } => {
                io::copy(content, &mut File::create_new(&full).map_err(told)?).map_err(told)?;
                let mode = if executable { 0o755 } else { 0o644 };
                fs::set_permissions(&full, fs::Permissions::from_mode(mode)).map_err(told)
            }
            Member::Link { target } => symlink(target, &full).map_err(told),
        }
    })
    .map_err(|detail| Error::Package(PackageError::Damaged { package: gem.label(), detail }))
}

impl Action for Compile {
    fn fingerprint(&self) -> Fingerprint {
        let Self { gem, told, environment } = self;
        let values = [("interface", environment.interface.clone()), ("told", told.join(" "))];
        Fingerprint::of(RECIPE)
            .with_recipe(install::RECIPE)
            .with_recipe(program_step::RECIPE)
            .values("script", [("text", SCRIPT.to_owned())])
            .values("environment", values)
            .input("gem", BTreeMap::from([(gem.full_name(), gem.integrity.canonical())]))
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let key = self.key(layer.codec(), cx.root);
        let said = self.provide(layer, key, cx)?;
        append_fragment(layer, key, &self.gem.label())?;
        Ok(vec![install::fact(&self.gem, &said)])
    }

    fn withdrawn(&self, cx: &StepContext<'_>) -> Vec<Withdrawn> {
        install::withdrawn(&self.gem, cx).into_iter().collect()
    }
}
