//! The step that lays modules out as the folder that the `go` program reads in place of a proxy.

use crate::modules::Module;
use crate::{LOCKFILE, proxy, retractions};
use config::addresses::Addresses;
use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, LayerWriter};
use engine::download_buffer::rewind;
use engine::{Action, Fingerprint, Recipe, StepContext, append_fragment, each_fetched, find_in_parallel};
use model::{Error, PackageFact, Result, Withdrawn};
use remote::packages::go;
use remote::{Address, Downloads};

/// The name of the step.
pub(super) const STEP: &str = "go modules";
/// The folder, from the root that programs are compiled in.
pub(super) const FOLDER: &str = "modules";
const RECIPE: Recipe = Recipe::new("go module", 1);
/// From this length in bytes on, an archive is worth two threads.
const LARGE: u64 = 16 << 20;

/// The step's work: modules, each with where it comes from.
pub(super) struct ModuleFiles {
    pub(super) modules: Vec<(Module, Address)>,
    /// Where to ask about their state.
    pub(super) addresses: Addresses,
}

impl ModuleFiles {
    fn key(module: &Module, codec: Codec) -> Sha256 {
        let Module { module: of, archive, manifest } = module;
        let hash = |hash: &Option<String>| hash.clone().unwrap_or_default();
        RECIPE.fragment_key(codec, &[&of.path, &of.version, &hash(archive), &hash(manifest)])
    }

    /// Makes sure that the store has the fragment of a module.
    fn provide(
        &self,
        layer: &LayerWriter<'_>,
        (module, proxy): &(Module, Address),
        cx: &StepContext<'_>,
    ) -> Result<()> {
        let (store, codec) = (layer.store(), layer.codec());
        let key = Self::key(module, codec);
        if Fragment::read(store, codec, key).is_some() {
            return Ok(());
        }
        let Module { module: named, archive, manifest } = module;
        let downloads = Downloads { fetcher: cx.fetcher, store };
        let place = |ending: &str| format!("{FOLDER}/{}", go::path(&named.path, &named.version, ending));
        let manifest = match manifest {
            Some(expected) => {
                let (bytes, found) = proxy::manifest(named, proxy, downloads)?;
                proxy::check(named, (proxy, "mod"), expected, found)?;
                Some(bytes)
            }
            None => None,
        };
        let archive = match archive {
            Some(expected) => {
                let (mut file, found) = proxy::archive(named, proxy, downloads)?;
                proxy::check(named, (proxy, "zip"), expected, found)?;
                let length = rewind(&mut file)?;
                Some((length, file))
            }
            None => None,
        };
        cx.budget.unpacking().pass(1, || {
            let threads = if archive.as_ref().is_some_and(|(length, _)| *length >= LARGE) { 2 } else { 1 };
            let mut fragment = FragmentWriter::new(store, codec, key, threads)?;
            if let Some(bytes) = manifest {
                let entry = Entry::file(place("mod"), bytes.len() as u64, false);
                fragment.tar().file(&entry, &mut &bytes[..])?;
            }
            if let Some((length, mut file)) = archive {
                fragment.tar().file(&Entry::file(place("zip"), length, false), &mut file)?;
            }
            Ok(fragment.finish()?)
        })
    }
}

impl Action for ModuleFiles {
    fn fingerprint(&self) -> Fingerprint {
        let Self { modules, addresses: _ } = self;
        // Where they come from does not shape them: their hashes do.
        let part = |(module, _): &(Module, Address)| {
            let Module { module: of, archive, manifest } = module;
            (format!("{} {}", of.path, of.version), format!("{archive:?} {manifest:?}"))
        };
        Fingerprint::of(RECIPE).input("modules", modules.iter().map(part).collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        {
            let layer = &*layer;
            each_fetched(&self.modules, cx, |module| self.provide(layer, module, cx))?;
        }
        layer.part::<Error>(|tar| Ok(tar.entry(&Entry::folder(FOLDER))?))?;
        for (module, _) in &self.modules {
            append_fragment(layer, Self::key(module, layer.codec()), &module.module.label())?;
        }
        Ok(Vec::new())
    }

    fn withdrawn(&self, cx: &StepContext<'_>) -> Vec<Withdrawn> {
        // Of what only takes part in the choice of versions, nothing is built.
        let built: Vec<_> = self.modules.iter().filter(|(module, _)| module.archive.is_some()).collect();
        find_in_parallel(&built, cx, |(module, _)| {
            let reason = retractions::of(module, &self.addresses, cx)?;
            let (package, lockfile) = (module.module.label(), LOCKFILE.to_owned());
            Some(Withdrawn { package, lockfile, gone: false, reason })
        })
    }
}
