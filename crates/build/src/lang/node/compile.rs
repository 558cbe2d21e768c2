//! Install scripts that are wanted: run apart from this machine and without the network, each in the folder
//! of its package, with the app's other packages around it. What they make is a layer of its own.

use super::install::{self, Around, address_of};
use super::parts::Parts;
use super::resolve;
use super::tree::{LockedPackage, PackageTree};
use crate::error::{BuildError, PathFacts, Place, Result};
use crate::isolated::{self, CACHE, Job};
use crate::lang::archive::PackageArchive;
use crate::lang::{Compiling, Context, Contribution, compile_step};
use crate::made;
use crate::pipeline::own_platform;
use crate::worklist::{Input, PackageFact, Role, Step, Tools, Work};
use content::digest::{Hasher, Sha256};
use content::layer::LayerWriter;
use remote::Address;
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::Path;

/// Where the programs that compile add-ons are put, from the root that they run in.
const TOOLS_FOLDER: &str = "build";
/// What compiles add-ons: scripts count on it, as the ecosystem's own installer brings it.
const ADD_ON_BUILDER: &str = "node-gyp";
/// The scripts of a package that belong to its installation, in order.
const SCRIPTS: [&str; 3] = ["preinstall", "install", "postinstall"];
/// What a compilation leaves behind that nothing loads, by parts of paths and by ends of names.
const LEFTOVERS: ([&str; 3], [&str; 7]) =
    (["/obj.target/", "/obj/", "/.deps/"], ["/Makefile", "/config.gypi", ".mk", ".o", ".d", ".a", ".stamp"]);

/// Adds the steps that run the scripts of the packages that the configuration names.
pub(super) fn contribute(
    packages: &[LockedPackage],
    tree: &PackageTree,
    context: &Context<'_>,
    around: &Around<'_>,
    contribution: &mut Contribution,
) -> Result<()> {
    let wanted = |p: &&LockedPackage| context.options.run_scripts_of.contains(&p.name) && p.has_files();
    let wanted: Vec<&LockedPackage> = packages.iter().filter(wanted).collect();
    let Some(first) = wanted.first() else { return Ok(()) };
    if context.platform != own_platform() {
        return Err(BuildError::Unsupported {
            place: Place::find(tree.file, &tree.text, &format!("\"{}\"", first.path)),
            what: format!(
                "the install script of {}, for another platform than this machine's,",
                first.label()
            ),
            instead: "build on a machine of that platform, or name the package in skip-scripts-of",
        });
    }
    context.base.tool("compilers")?;
    let asked = BTreeMap::from([(ADD_ON_BUILDER.to_owned(), "*".to_owned())]);
    let none = BTreeMap::new();
    let asked = resolve::Asked {
        dependencies: &asked,
        optional: &none,
        overrides: BTreeMap::new(),
        parts: Parts::default(),
    };
    let node = &context.runtime.version;
    let text = format!("{} for {node}", asked.digest());
    let found =
        context.resolving.packages(("node", "to build add-ons"), &text, |(fetcher, store), known| {
            let (addresses, source) = (context.addresses, &**context.tree);
            let around = resolve::Around { fetcher, store, addresses, source };
            Ok(resolve::to_pins(&resolve::resolve(&asked, node, around, known)?))
        })?;
    // While nobody may be asked, it is left out.
    let (pins, new) = found.unwrap_or_default();
    contribution.resolved.extend(new);
    let builder = resolve::of_pins(&asked, &pins);
    let compilers = if pins.is_empty() { Vec::new() } else { builder.for_image(context.platform)? };
    let to_build = || context.base.runtime_to_build(&context.runtime.name);
    let (own_runtime, headers) = to_build();
    let tools: &[&str] =
        if own_runtime.is_empty() { &["compilers", "node", "python"] } else { &["compilers", "python"] };
    for package in wanted {
        let Some(address) = address_of(package, context.addresses, context.tree)? else { continue };
        let work = Scripts {
            package: package.clone(),
            address,
            headers: headers.clone(),
            path: context.runtime.bin_folder.clone(),
        };
        let name = compile_step(&package.path.replace("node_modules/", ""));
        let mut step = Step::new(name, Role::Dependencies, vec![work.input()], work);
        step.root = to_build().0;
        let of_builder =
            Around { name: "node packages to build add-ons", folder: TOOLS_FOLDER, options: None, ..*around };
        step.root.extend(install::steps(compilers.clone(), builder.clone(), &of_builder));
        step.root.extend(install::steps(packages.to_vec(), tree.clone(), around));
        contribution.compiling.push(Compiling { step, tools });
    }
    Ok(())
}

/// The step's work.
struct Scripts {
    package: LockedPackage,
    address: Address,
    /// The folder with Node's headers, in the root.
    headers: String,
    /// The folder with Node.
    path: String,
}

impl Scripts {
    /// What the result depends on, besides the root.
    fn input(&self) -> Input {
        let integrity = self.package.integrity.as_ref().map(|i| i.canonical()).unwrap_or_default();
        let source = format!("{} {integrity}", self.package.label());
        let parts = [("source", source), ("node", format!("{} {}", self.path, self.headers))];
        Input::of_parts("package", parts.map(|(name, value)| (name.to_owned(), value)).into())
    }

    fn env(&self, folder: &str, tools: &Tools<'_>) -> Vec<(&'static str, String)> {
        let path = [
            &format!("{folder}/node_modules/.bin"),
            "/app/node_modules/.bin",
            &format!("/{TOOLS_FOLDER}/node_modules/.bin"),
            &self.path,
            "/usr/bin",
            "/bin",
        ];
        vec![
            ("HOME", "/tmp".to_owned()),
            ("INIT_CWD", "/app".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", path.join(":")),
            ("PYTHONHASHSEED", "0".to_owned()),
            ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
            ("npm_config_build_from_source", "true".to_owned()),
            ("npm_config_cache", CACHE.to_owned()),
            ("npm_config_jobs", tools.jobs.to_string()),
            ("npm_config_nodedir", self.headers.clone()),
            ("npm_package_name", self.package.name.clone()),
            ("npm_package_version", self.package.version.clone()),
        ]
    }
}

impl Work for Scripts {
    fn write(&self, layer: &mut LayerWriter<'_>, tools: &Tools<'_>) -> Result<Vec<PackageFact>> {
        let store = layer.store();
        let label = self.package.label();
        let bad = |detail: &str| BuildError::BadPackage { package: label.clone(), detail: detail.to_owned() };
        let integrity =
            self.package.integrity.as_ref().ok_or_else(|| bad("the lockfile has no hash of it"))?;
        let archive = PackageArchive { label: &label, address: &self.address, integrity };
        let unpacked = store.temporary_folder()?;
        archive.unpack((tools.fetcher, store), &unpacked)?;
        let script = script_of(&unpacked);
        let before = files_in(&unpacked)?;
        let Some(script) = script else { return Err(bad("it has no install script")) };
        let folder = format!("/app/{}", self.package.path);
        let step = compile_step(&self.package.name);
        let fill = |to: &Path| fs::rename(&unpacked, to).facts(to);
        let job = Job {
            step: &step,
            argv: ["/bin/sh", "-e", "-c", &script].map(str::to_owned).to_vec(),
            shown: script.clone(),
            env: self.env(&folder, tools),
            folder: &folder,
            fill: &fill,
            cache: "node",
        };
        let written = isolated::run(&job, store, tools)?;
        let after = files_in(&written.source)?;
        let is_made =
            |(path, digest): &(&String, &Sha256)| before.get(*path) != Some(*digest) && is_kept(path);
        let made =
            after.iter().filter(is_made).map(|(path, _)| (path.as_str(), format!("{}/{path}", &folder[1..])));
        made::put(layer, &written.source, &made.collect::<Vec<_>>())?;
        Ok(Vec::new())
    }
}

/// What the package in `folder` runs when it is installed.
fn script_of(folder: &Path) -> Option<String> {
    let manifest: Value = serde_json::from_slice(&fs::read(folder.join("package.json")).ok()?).ok()?;
    let script = |name: &str| manifest["scripts"][name].as_str().map(str::to_owned);
    let mut said: Vec<String> = SCRIPTS.iter().filter_map(|name| script(name)).collect();
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
    made::files(folder)?.into_iter().map(told).collect()
}
