//! Install scripts that are wanted, and what makes the files of packages from commits: run apart from this machine
//! and without the network, each in the folder of its package. What they make is a layer of its own.

use crate::helpers::{ADD_ON_BUILDER, Helpers};
use crate::install::{Installing, Purpose};
use crate::overrides::Overrides;
use crate::package::{LockedPackage, Origin};
use crate::placing::{self, address_of};
use crate::scripts::{Undecided, is_run};
use crate::tree::PackageTree;
use crate::workspaces::Parts;
use crate::{INSTALL_SCRIPTS, Manifest, helpers, install, packing, resolve};
use content::digest::{Hasher, Sha256};
use content::layer::LayerWriter;
use engine::package_archive::PackageArchive;
use engine::program_step::{CACHE, Cache, Job, copy_folder};
use engine::{Action, Step, StepContext, collect, program_step};
use engine::{Fingerprint, Recipe};
use model::error::{PackageError, SurveyError};
use model::platform::own_platform;
use model::{Error, PackageFact, PathFacts, Place, Result, Role};
use planning::{Context, Resolution, Resolving, compile_step};
use remote::{Address, Downloads};
use serde_json::Value;
use source::checked_out;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::path::Path;

/// What a compilation leaves behind that nothing loads, by parts of paths and by ends of names.
const LEFTOVERS: ([&str; 3], [&str; 7]) =
    (["/obj.target/", "/obj/", "/.deps/"], ["/Makefile", "/config.gypi", ".mk", ".o", ".d", ".a", ".stamp"]);

/// A package whose scripts are run, and what that takes.
pub(super) struct WantedScript {
    package: LockedPackage,
    source: Source,
    helpers: Option<Helpers>,
    /// The packages that a package from a commit is made with, where everything in it finds them; others have those
    /// of the app.
    own_packages: Option<Helpers>,
}

/// What the scripts of the packages that the configuration names take.
pub(super) fn settle(
    packages: &[LockedPackage],
    tree: &PackageTree,
    platform: &str,
    (context, resolving): (&Context<'_>, &Resolving<'_>),
    resolution: &mut Resolution,
) -> Result<Vec<WantedScript>> {
    let undecided = Undecided::of(context);
    let wanted = |p: &&LockedPackage| is_run(p, context.options, undecided) && p.has_files();
    let wanted: Vec<&LockedPackage> = packages.iter().filter(wanted).collect();
    let Some(first) = wanted.first() else { return Ok(Vec::new()) };
    if platform != own_platform() {
        return Err(Error::Survey(SurveyError::Unsupported {
            place: Place::find(tree.file, &tree.text, &format!("\"{}\"", first.path)),
            what: format!(
                "the install script of {}, for another platform than this machine's,",
                first.label()
            ),
            instead: "build on a machine of that platform, or name the package in skip-scripts-of",
        }));
    }
    context.base.tool("compilers")?;
    let (own_runtime, _) = context.base.runtime_for_build(&context.runtime()?.name);
    resolution.tools.extend(["compilers", "python"]);
    if own_runtime.is_empty() {
        resolution.tools.insert("node");
    }
    let mut all = Vec::new();
    for package in wanted {
        let Some(source) = Source::of(package, context)? else { continue };
        let mut programs = BTreeSet::from([ADD_ON_BUILDER]);
        let (mut purpose, mut own_packages) = ("add-on-tools".to_owned(), None);
        if let Source::Commit { url, id } = &source {
            // Without network access, nothing is known about it.
            let Some(downloads) = resolving.downloads() else { continue };
            let manifest = Manifest::in_folder(&checked_out(url, id, downloads)?)?;
            programs.extend(manifest.scripts.values().flat_map(|script| helpers::named_in(script)));
            own_packages =
                needed_to_make(package, &manifest.with_development(), (context, resolving), resolution)?;
            purpose = format!("script-runners:{}", package.name);
        }
        let helpers = helpers::settle(programs, &purpose, (context, resolving), resolution)?;
        all.push(WantedScript { package: package.clone(), source, helpers, own_packages });
    }
    Ok(all)
}

/// The packages that a package from a commit is made with.
fn needed_to_make(
    package: &LockedPackage,
    manifest: &Manifest,
    (context, resolving): (&Context<'_>, &Resolving<'_>),
    resolution: &mut Resolution,
) -> Result<Option<Helpers>> {
    let asked = resolve::Asked { manifest, overrides: Overrides::of(manifest)?, parts: Parts::default() };
    let purpose = format!("build:{}", package.name);
    let found = resolve::settled(&asked, (&purpose, &asked.digest()), context, resolving)?;
    let Some((tree, new)) = found else { return Ok(None) };
    resolution.resolved.extend(new);
    Ok(Some(Helpers { packages: tree.for_image(context.platform)?, tree }))
}

/// The steps that run scripts; `beside` makes the steps of the app's own packages.
pub(super) fn steps(
    scripts: &[WantedScript],
    beside: impl Fn() -> Vec<Step>,
    context: &Context<'_>,
    installing: &Installing<'_>,
) -> Result<Vec<Step>> {
    let runtime = context.runtime()?;
    let step = |wanted: &WantedScript| {
        let WantedScript { package, source, helpers, own_packages } = wanted;
        let (own_runtime, headers) = context.base.runtime_for_build(&runtime.name);
        let work = Scripts {
            package: package.clone(),
            source: source.clone(),
            folder: installing.folder,
            headers,
            path: runtime.bin_folder.clone(),
        };
        let name = compile_step(&package.path.replace("node_modules/", ""));
        let name = match installing.purpose {
            Purpose::Image => name,
            Purpose::BuildCommand => format!("{name} to build the app"),
        };
        let mut root = own_runtime;
        if let Some(helpers) = helpers {
            let name = match source {
                Source::Archive(_) => "node packages to build add-ons".to_owned(),
                Source::Commit { .. } => format!("node packages to run scripts of {}", package.name),
            };
            root.extend(helpers.steps(&name, installing));
        }
        match (source, own_packages) {
            (Source::Archive(_), _) => root.extend(beside()),
            (Source::Commit { .. }, Some(own)) => {
                root.extend(own.steps_in(
                    "",
                    &format!("node packages to build {}", package.name),
                    installing,
                ));
            }
            (Source::Commit { .. }, None) => {}
        }
        Step::new(name, Role::Dependencies, work).compiling(&package.name).in_root(root)
    };
    Ok(scripts.iter().map(step).collect())
}

/// Where the files of a package come from.
#[derive(Clone)]
enum Source {
    Archive(Address),
    Commit { url: String, id: String },
}

impl Source {
    /// Nothing for what has no files of its own.
    fn of(package: &LockedPackage, context: &Context<'_>) -> Result<Option<Self>> {
        if let Origin::Commit { url, id } = &package.origin {
            return Ok(Some(Self::Commit { url: url.clone(), id: id.clone() }));
        }
        Ok(address_of(package, context.addresses, context.tree)?.map(Self::Archive))
    }

    fn is_commit(&self) -> bool {
        matches!(self, Self::Commit { .. })
    }
}

/// The step's work.
struct Scripts {
    package: LockedPackage,
    source: Source,
    /// The folder that the packages are put into, from the root.
    folder: &'static str,
    /// The folder with Node's headers, in the root.
    headers: String,
    /// The folder with Node.
    path: String,
}

impl Scripts {
    fn env(&self, folder: &str, cx: &StepContext<'_>) -> Vec<(&'static str, String)> {
        // A commit is made with packages of its own.
        let beside = if self.source.is_commit() { "" } else { self.folder };
        let path = [
            &format!("{folder}/node_modules/.bin"),
            &format!("/{}", placing::below(beside, "node_modules/.bin")),
            &format!("/{}/node_modules/.bin", helpers::FOLDER),
            &self.path,
            "/usr/bin",
            "/bin",
        ];
        vec![
            ("HOME", "/tmp".to_owned()),
            ("INIT_CWD", format!("/{}", self.folder)),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", path.join(":")),
            ("PYTHONHASHSEED", "0".to_owned()),
            ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
            ("npm_config_build_from_source", "true".to_owned()),
            ("npm_config_cache", CACHE.to_owned()),
            ("npm_config_jobs", cx.budget.jobs().to_string()),
            ("npm_config_nodedir", self.headers.clone()),
            ("npm_package_name", self.package.name.clone()),
            ("npm_package_version", self.package.version.clone()),
        ]
    }
}

impl Scripts {
    /// Writes the files of the package, with the changes of the app, into an empty folder.
    fn unpack(&self, downloads: Downloads<'_>, to: &Path) -> Result<()> {
        let label = self.package.label();
        let bad = |detail: String| Error::Package(PackageError::Damaged { package: label.clone(), detail });
        match &self.source {
            Source::Archive(address) => {
                let none = || bad("the lockfile has no hash for it".to_owned());
                let integrity = self.package.integrity.as_ref().ok_or_else(none)?;
                PackageArchive { label: &label, address, integrity }.unpack(downloads, to)?;
            }
            Source::Commit { url, id } => copy_folder(&checked_out(url, id, downloads)?, to)?,
        }
        let mut folder = to;
        self.package.patches.iter().try_for_each(|patch| patch.apply(&mut folder)).map_err(bad)
    }
}

impl Action for Scripts {
    fn fingerprint(&self) -> Fingerprint {
        let Self { package, source, folder, headers, path } = self;
        let values = [
            ("source", format!("{} {}", package.label(), install::identity(package))),
            ("path", package.path.clone()),
            ("from a commit", source.is_commit().to_string()),
            ("node", format!("{path} {headers}")),
            ("folder", (*folder).to_owned()),
        ];
        Fingerprint::of(Recipe::new("npm install script", 2))
            .with_recipe(program_step::RECIPE)
            .values("package", values)
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let store = layer.store();
        let label = self.package.label();
        let unpacked = store.temporary_folder()?;
        self.unpack(Downloads { fetcher: cx.fetcher, store }, &unpacked)?;
        let before = files_in(&unpacked)?;
        let script = script_of(&unpacked, self.source.is_commit()).ok_or_else(|| {
            Error::Package(PackageError::Damaged {
                package: label.clone(),
                detail: "it has no install script".to_owned(),
            })
        })?;
        let folder = format!("/{}", placing::below(self.folder, &self.package.path));
        let step = compile_step(&self.package.name);
        let fill = |to: &Path| fs::rename(&unpacked, to).facts(to);
        let job = Job {
            step: &step,
            argv: ["/bin/sh", "-e", "-c", &script].map(str::to_owned).to_vec(),
            shown: script.clone(),
            env: self.env(&folder, cx),
            folder: &folder,
            starts_in: "",
            fill: &fill,
            packages: &[],
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, store, cx)?;
        let after = files_in(&written.source)?;
        let published: Option<BTreeSet<String>> = match self.source.is_commit() {
            true => Some(packing::taken(&written.source, &label)?.into_iter().collect()),
            false => None,
        };
        let is_made = |(path, digest): &(&String, &Sha256)| {
            let is_published = published.as_ref().is_none_or(|all| all.contains(*path));
            before.get(*path) != Some(*digest) && is_kept(path) && is_published
        };
        let made =
            after.iter().filter(is_made).map(|(path, _)| (path.as_str(), format!("{}/{path}", &folder[1..])));
        collect::put(layer, &written.source, &made.collect::<Vec<_>>())?;
        Ok(Vec::new())
    }
}

/// What the package in `folder` runs when it is installed; one from a commit is made first.
fn script_of(folder: &Path, is_commit: bool) -> Option<String> {
    let manifest: Value = serde_json::from_slice(&fs::read(folder.join("package.json")).ok()?).ok()?;
    let script = |name: &str| manifest["scripts"][name].as_str().map(str::to_owned);
    let making = packing::MAKING.into_iter().filter(|_| is_commit);
    let mut said: Vec<String> = INSTALL_SCRIPTS.into_iter().chain(making).filter_map(script).collect();
    if folder.join("binding.gyp").exists() && script("preinstall").or(script("install")).is_none() {
        said.insert(0, format!("{ADD_ON_BUILDER} rebuild"));
    }
    (!said.is_empty()).then(|| said.join("\n"))
}

/// Whether something that a script made goes into the image.
fn is_kept(path: &str) -> bool {
    let (inside, ends) = LEFTOVERS;
    let path = format!("/{path}");
    let compiled = path.contains("/build/");
    !compiled
        || !(inside.iter().any(|part| path.contains(part)) || ends.iter().any(|end| path.ends_with(end)))
}

/// The files and links below a folder by their paths, each with what tells its content.
fn files_in(folder: &Path) -> Result<BTreeMap<String, Sha256>> {
    let told = |path: String| {
        let full = folder.join(&path);
        let digest = match full.is_symlink() {
            true => Sha256::of(fs::read_link(&full).facts(&full)?.as_os_str().as_encoded_bytes()),
            false => Hasher::of_reader(&mut File::open(&full).facts(&full)?).facts(&full)?.0,
        };
        Ok((path, digest))
    };
    collect::files(folder)?.into_iter().map(told).collect()
}
