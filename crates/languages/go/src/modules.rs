//! Which modules a build reads, with their hashes: as `go.sum` has them, else settled once and kept in `shtetl.lock`.

use crate::go_mod::{GoMod, ModuleVersion, Replacement};
use crate::go_sum::{GoSum, of_manifest};
use crate::proxy::{self, AT_ONCE};
use crate::toolchain::{self, Release};
use crate::version_selection::{self, Requirements, Selection};
use crate::{LOCKFILE, MANIFEST, VENDORED};
use config::pins::ResolvedPackage;
use content::digest::Sha256;
use model::{Error, Result};
use planning::{Context, Resolution, ResolveTarget, Resolving};
use remote::Downloads;
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, PoisonError};

/// Several modules that are worked on together, and the hashes of what they need.
const WORKSPACE: &str = "go.work";
const WORKSPACE_LOCKFILE: &str = "go.work.sum";

/// A module that a build reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Module {
    pub(super) module: ModuleVersion,
    /// The hash of its archive; nothing where only its `go.mod` is read.
    pub(super) archive: Option<String>,
    /// The hash of its `go.mod`; nothing where that is never read.
    pub(super) manifest: Option<String>,
}

/// What a build reads besides the source.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Needed {
    pub(super) modules: Vec<Module>,
    /// The whole text of `go.sum`, where the source's lacks something.
    pub(super) sums: Option<String>,
    /// What compiles, where the base's own is too old.
    pub(super) release: Option<Release>,
}

/// What the source says of modules.
struct Said {
    /// The module at the top, or those of the workspace.
    mains: Vec<GoMod>,
    /// The replacements of this module are effective.
    top: GoMod,
    sums: GoSum,
    is_workspace: bool,
}

impl Said {
    fn read(tree: &SourceTree) -> Result<Self> {
        let text = |path: &str| Ok::<_, Error>(tree.read(path)?.unwrap_or_default());
        let mut sums = GoSum::parse(&text(LOCKFILE)?);
        let Some(workspace) = tree.read(WORKSPACE)? else {
            let top = GoMod::parse(&text(MANIFEST)?);
            return Ok(Self { mains: vec![top.clone()], top, sums, is_workspace: false });
        };
        let mut top = GoMod::parse(&workspace);
        sums.extend(GoSum::parse(&text(WORKSPACE_LOCKFILE)?));
        let mut mains = Vec::new();
        for folder in &top.uses {
            let folder = folder.trim_start_matches("./").trim_end_matches('/');
            let inside = |file: &str| match folder {
                "" | "." => file.to_owned(),
                folder => format!("{folder}/{file}"),
            };
            sums.extend(GoSum::parse(&text(&inside(LOCKFILE))?));
            mains.push(GoMod::parse(&text(&inside(MANIFEST))?));
        }
        // What a workspace says is stronger than what its modules say.
        top.replace.extend(mains.iter().flat_map(|main| main.replace.clone()));
        Ok(Self { mains, top, sums, is_workspace: true })
    }

    /// The modules that are required, as they are replaced; folders of the source are left out.
    fn required(&self) -> BTreeSet<ModuleVersion> {
        let all = self.mains.iter().flat_map(|main| &main.require);
        all.filter_map(|module| self.in_place_of(module)).collect()
    }

    fn in_place_of(&self, module: &ModuleVersion) -> Option<ModuleVersion> {
        match self.top.replacement(module) {
            None => Some(module.clone()),
            Some(Replacement::Module(other)) => Some(other.clone()),
            Some(Replacement::Folder(_)) => None,
        }
    }

    fn lists_all(&self) -> bool {
        !self.is_workspace && self.mains.iter().all(GoMod::lists_all)
    }

    /// A text that stands for all that decides which hashes are needed.
    fn asked(&self) -> String {
        let mut text = String::new();
        for main in self.mains.iter().chain([&self.top]) {
            text.push_str(&main.canonical());
        }
        text + &self.sums.text()
    }

    /// Required modules that `go.sum` does not have.
    fn unlocked(&self) -> usize {
        self.required().iter().filter(|module| self.sums.manifest(module).is_none()).count()
    }

    /// What a build reads when `sums` has all hashes.
    fn needed(&self, sums: &GoSum) -> Vec<Module> {
        let modules = match self.lists_all() {
            true => self.required().into_iter().collect(),
            false => sums.modules(),
        };
        let hash = |module: ModuleVersion| {
            let archive = sums.archive(&module).map(str::to_owned);
            let manifest = sums.manifest(&module).map(str::to_owned);
            Module { module, archive, manifest }
        };
        modules.into_iter().map(hash).collect()
    }
}

/// What the source says is locked: how many modules, and how many it lacks.
pub(super) fn locked(tree: &SourceTree) -> Result<(usize, usize)> {
    let said = Said::read(tree)?;
    let archives = said.sums.modules().iter().filter(|module| said.sums.archive(module).is_some()).count();
    Ok((archives, said.unlocked()))
}

/// Settles what a build reads; `None` if something is unknown and there is no network access.
pub(super) fn settle(context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
    let said = Said::read(context.tree)?;
    let mut resolution = Resolution::default();
    let release = toolchain::settle(&said.top, context, resolving, &mut resolution)?;
    if context.tree.has(VENDORED) {
        resolution.settle(Needed { release, ..Needed::default() });
        return Ok(resolution);
    }
    if said.unlocked() == 0 {
        resolution.settle(Needed { modules: said.needed(&said.sums), sums: None, release });
        return Ok(resolution);
    }
    let asked = format!("sha256:{}", Sha256::of(said.asked().as_bytes()).hex());
    let target = ResolveTarget { language: "go", purpose: "modules" };
    let resolve =
        |downloads: Downloads<'_>, before: &[ResolvedPackage]| resolve(&said, before, context, downloads);
    let Some((packages, new)) = resolving.packages(target, &asked, resolve)? else { return Ok(resolution) };
    let mut sums = said.sums.clone();
    for package in packages {
        sums.insert(ModuleVersion { path: package.name, version: package.version }, package.integrity);
    }
    resolution.settle(Needed { modules: said.needed(&sums), sums: Some(sums.text()), release });
    resolution.notes.push(format!(
        "{LOCKFILE} lacks the hashes of {} modules: they are pinned in shtetl.lock; `go mod tidy` adds them to {LOCKFILE}",
        said.unlocked()
    ));
    resolution.resolved.extend(new);
    Ok(resolution)
}

/// The lines that `go.sum` lacks. What was pinned before holds, whatever else the app asks for by now.
fn resolve(
    said: &Said,
    before: &[ResolvedPackage],
    context: &Context<'_>,
    downloads: Downloads<'_>,
) -> Result<Vec<ResolvedPackage>> {
    let mut pinned = GoSum::default();
    for ResolvedPackage { name, version, integrity, .. } in before {
        pinned.insert(ModuleVersion { path: name.clone(), version: version.clone() }, integrity.clone());
    }
    // Each with whether its archive is read, too.
    let modules: BTreeMap<ModuleVersion, bool> = match said.lists_all() {
        true => said.required().into_iter().map(|module| (module, true)).collect(),
        false => {
            let Selection { selected, read } =
                version_selection::select(&Asking { said, context, downloads })?;
            let read = read.iter().map(|module| (module, false));
            let all = read.chain(selected.iter().map(|module| (module, true)));
            all.filter_map(|(module, whole)| Some((said.in_place_of(module)?, whole))).collect()
        }
    };
    let is_open = |(module, whole): &(&ModuleVersion, &bool)| {
        said.sums.manifest(module).is_none() || (**whole && said.sums.archive(module).is_none())
    };
    let open: Vec<(&ModuleVersion, &bool)> = modules.iter().filter(is_open).collect();
    let found = Mutex::new(Vec::new());
    let failed = Mutex::new(None);
    let settled =
        |(module, whole): (&ModuleVersion, &bool)| match (pinned.manifest(module), pinned.archive(module)) {
            (Some(manifest), Some(archive)) if *whole => {
                Ok(lines(module, manifest.to_owned(), Some(archive.to_owned())))
            }
            (Some(manifest), _) if !whole => Ok(lines(module, manifest.to_owned(), None)),
            _ => hashes((module, whole), context, downloads),
        };
    engine::run_indexed(open.len(), AT_ONCE, |at| match settled(open[at]) {
        Ok(lines) => found.lock().unwrap_or_else(PoisonError::into_inner).extend(lines),
        Err(error) => drop(failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error)),
    });
    if let Some(error) = failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
        return Err(error);
    }
    let mut lines = found.into_inner().unwrap_or_else(PoisonError::into_inner);
    lines.sort_by(|a: &ResolvedPackage, b| (&a.name, &a.version).cmp(&(&b.name, &b.version)));
    Ok(lines)
}

/// The hashes of what there is of a module now.
fn hashes(
    (module, whole): (&ModuleVersion, &bool),
    context: &Context<'_>,
    downloads: Downloads<'_>,
) -> Result<Vec<ResolvedPackage>> {
    let proxy = proxy::of(module, context.addresses)?;
    let (_, manifest) = proxy::manifest(module, &proxy, downloads)?;
    let archive = whole.then(|| proxy::archive(module, &proxy, downloads)).transpose()?;
    Ok(lines(module, manifest, archive.map(|(_, hash)| hash)))
}

/// A module's lines of `go.sum`, as they are pinned.
fn lines(module: &ModuleVersion, manifest: String, archive: Option<String>) -> Vec<ResolvedPackage> {
    let line = |module: ModuleVersion, integrity: String| ResolvedPackage {
        name: module.path,
        version: module.version,
        integrity,
        ..ResolvedPackage::default()
    };
    let archive = archive.map(|hash| line(module.clone(), hash));
    archive.into_iter().chain([line(of_manifest(module), manifest)]).collect()
}

/// Asks for what modules require.
struct Asking<'a> {
    said: &'a Said,
    context: &'a Context<'a>,
    downloads: Downloads<'a>,
}

impl Requirements for Asking<'_> {
    fn of_mains(&self) -> Vec<ModuleVersion> {
        self.said.mains.iter().flat_map(|main| main.require.clone()).collect()
    }

    fn of(&self, module: &ModuleVersion) -> Result<Vec<ModuleVersion>> {
        let text = match self.said.top.replacement(module) {
            Some(Replacement::Folder(folder)) => {
                let folder = folder.trim_start_matches("./").trim_end_matches('/');
                self.context.tree.read(&format!("{folder}/{MANIFEST}"))?.unwrap_or_default()
            }
            _ => {
                let Some(module) = self.said.in_place_of(module) else { return Ok(Vec::new()) };
                let proxy = proxy::of(&module, self.context.addresses)?;
                let (bytes, _) = proxy::manifest(&module, &proxy, self.downloads)?;
                String::from_utf8_lossy(&bytes).into_owned()
            }
        };
        Ok(GoMod::parse(&text).require)
    }

    fn is_excluded(&self, module: &ModuleVersion) -> bool {
        self.said.mains.iter().any(|main| main.exclude.contains(module))
    }
}
