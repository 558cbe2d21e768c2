//! The steps that install gems, one fragment each, in the form that Bundler expects.

use crate::environment::{BUNDLE, Environment};
use crate::gem_file::{self, Member};
use crate::settled::{Gem, is_of};
use crate::specification::Specification;
use content::ContentError;
use content::digest::Sha256;
use content::layer::{Codec, Entry, Fragment, FragmentWriter, Kind, LayerWriter};
use content::store::Store;
use engine::download_buffer::{rewind, spool};
use engine::layer_shards::shard_of;
use engine::{
    Action, Fingerprint, Recipe, Step, StepContext, append_fragment, each_fetched, find_in_parallel,
};
use model::error::PackageError;
use model::package_url::purl;
use model::{Error, PackageFact, Result, Role, Withdrawn};
use remote::packages::gems;
use remote::{Integrity, RemoteError};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read, Seek};

/// How gems are put down.
pub(super) const RECIPE: Recipe = Recipe::new("gem", 1);
/// From so many gems on, they are spread over that many layers.
const SPREAD: [(usize, usize); 2] = [(60, 12), (16, 8)];
/// From this length in bytes on, what is written is compressed on two threads.
const LARGE: u64 = 16 << 20;

/// The steps that install `gems`: what makes them an environment is in the layer of the first.
pub(super) fn steps(gems: Vec<Gem>, environment: &Environment) -> Vec<Step> {
    let count = SPREAD.iter().find(|(least, _)| gems.len() >= *least).map_or(1, |(_, groups)| *groups);
    let mut groups: Vec<Vec<Gem>> = vec![Vec::new(); count];
    for gem in gems {
        groups[shard_of(&gem.name, count)].push(gem);
    }
    let filled = groups.into_iter().enumerate().filter(|(number, gems)| *number == 0 || !gems.is_empty());
    let step = |(number, gems)| {
        let name = match count {
            1 => "ruby gems".to_owned(),
            _ => format!("ruby gems {} of {count}", number + 1),
        };
        step(name, gems, environment, number == 0)
    };
    filled.map(step).collect()
}

/// The step called `name` that installs these gems.
pub(super) fn step(name: String, gems: Vec<Gem>, environment: &Environment, is_first: bool) -> Step {
    let work = GemFiles { gems, is_first, environment: environment.clone() };
    Step::new(name, Role::Dependencies, work)
}

struct GemFiles {
    gems: Vec<Gem>,
    /// Whether it writes the shared folders and `bundle`.
    is_first: bool,
    environment: Environment,
}

impl GemFiles {
    fn key(&self, gem: &Gem, codec: Codec) -> Sha256 {
        let Environment { interface } = &self.environment;
        RECIPE.fragment_key(codec, &[interface, &gem.full_name(), &gem.integrity.canonical()])
    }

    /// Makes sure that the store has the fragment of a gem, and what the gem says of itself.
    fn provide(&self, layer: &LayerWriter<'_>, gem: &Gem, cx: &StepContext<'_>) -> Result<Specification> {
        let (store, codec) = (layer.store(), layer.codec());
        let key = self.key(gem, codec);
        let said = store.fragment_path("gems", key);
        if Fragment::read(store, codec, key).is_some()
            && let Some(known) = store.read_document(&said).whole()
        {
            return Ok(known);
        }
        let label = gem.label();
        let specification = match gem.archive(&label).kept(store) {
            Some(file) => self.unpack(layer, gem, file, cx)?,
            None => {
                let remote = |source: RemoteError| {
                    Error::Package(PackageError::Remote { wanted_by: label.clone(), source })
                };
                let mut file = cx.fetcher.get_into(&gem.address, || Ok(spool(store))).map_err(remote)?;
                rewind(&mut file)?;
                gem.integrity.check_reader(&gem.address.to_string(), &mut file).map_err(remote)?;
                self.unpack(layer, gem, file, cx)?
            }
        };
        store.write_cache(&said, &specification)?;
        Ok(specification)
    }

    fn unpack(
        &self,
        layer: &LayerWriter<'_>,
        gem: &Gem,
        mut file: impl Read + Seek,
        cx: &StepContext<'_>,
    ) -> Result<Specification> {
        let bad = |detail: String| Error::Package(PackageError::Damaged { package: gem.label(), detail });
        let length = file.seek(io::SeekFrom::End(0))?;
        let said = gem_file::specification(&mut file).and_then(|said| is_of(said, gem)).map_err(bad)?;
        cx.budget.unpacking().pass(1, || {
            let threads = if length < LARGE { 1 } else { 2 };
            let key = self.key(gem, layer.codec());
            let mut fragment = FragmentWriter::new(layer.store(), layer.codec(), key, threads)?;
            put(&mut fragment, &self.environment, gem, (&said, &mut file), &BTreeMap::new()).map_err(bad)?;
            fragment.finish()?;
            Ok(said)
        })
    }
}

/// Writes a gem: its files, what was `compiled` of it below the first folder that Ruby loads from, its specification and
/// its commands.
pub(super) fn put(
    fragment: &mut FragmentWriter,
    environment: &Environment,
    gem: &Gem,
    (said, file): (&Specification, impl Read + Seek),
    compiled: &BTreeMap<String, Vec<u8>>,
) -> Result<(), String> {
    let told = |error: io::Error| error.to_string();
    let root = environment.gem(&gem.full_name());
    let commands: BTreeSet<String> =
        said.commands.iter().map(|name| format!("{}/{name}", said.bin)).collect();
    let mut folders = BTreeSet::from([root.clone()]);
    fragment.tar().entry(&Entry::folder(&root)).map_err(told)?;
    let mut with_folders = |fragment: &mut FragmentWriter, path: &str| {
        let full = format!("{root}/{path}");
        let above =
            full.match_indices('/').map(|(at, _)| &full[..at]).filter(|folder| folder.len() > root.len());
        for folder in above {
            if folders.insert(folder.to_owned()) {
                fragment.tar().entry(&Entry::folder(folder)).map_err(told)?;
            }
        }
        Ok::<_, String>(full)
    };
    gem_file::each_file(file, |path, member| {
        let full = with_folders(fragment, path)?;
        match member {
            Member::File { size, executable, content } => {
                let executable = executable || commands.contains(path);
                fragment.tar().file(&Entry::file(full, size, executable), content).map_err(told)
            }
            Member::Link { target } => fragment.tar().entry(&Entry::link(full, target)).map_err(told),
        }
    })?;
    for (path, bytes) in compiled {
        let full = with_folders(fragment, path)?;
        fragment.tar().file(&Entry::file(full, bytes.len() as u64, true), &mut &bytes[..]).map_err(told)?;
    }
    let home = environment.home();
    let said = Specification { extensions: Vec::new(), ..said.clone() };
    let text = said.text(gem.platform.as_deref());
    let entry =
        Entry::file(format!("{home}/specifications/{}.gemspec", gem.full_name()), text.len() as u64, false);
    fragment.tar().file(&entry, &mut text.as_bytes()).map_err(told)?;
    for name in &said.commands {
        let text = command(&gem.name, name);
        let entry = Entry::file(format!("{home}/bin/{name}"), text.len() as u64, true);
        fragment.tar().file(&entry, &mut text.as_bytes()).map_err(told)?;
    }
    Ok(())
}

/// The program that starts a command of a gem.
fn command(gem: &str, name: &str) -> String {
    let text = |text: &str| format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"));
    let (gem, name) = (text(gem), text(name));
    format!("#!/usr/bin/env ruby\nrequire 'rubygems'\nload Gem.activate_bin_path({gem}, {name}, '>= 0.a')\n")
}

/// What the record says of an installed gem.
pub(super) fn fact(gem: &Gem, said: &Specification) -> PackageFact {
    let platform = gem.platform.as_deref().map(|platform| ("platform", platform));
    let qualifiers: Vec<(&str, &str)> = platform.into_iter().collect();
    PackageFact {
        name: gem.name.clone(),
        version: gem.version.clone(),
        purl: purl("gem", &gem.name, &gem.version, &qualifiers),
        licence: (!said.licences.is_empty()).then(|| said.licences.join(" OR ")),
        integrity: Integrity::canonical(&gem.integrity),
        layer: None,
        source: None,
        needs: Vec::new(),
        patched: Vec::new(),
    }
}

/// The folders that gems share; of the first layer, also the program that starts their commands.
fn write_folders(layer: &mut LayerWriter<'_>, environment: &Environment, is_first: bool) -> Result<()> {
    layer.part::<Error>(|tar| {
        for folder in environment.shared_folders() {
            tar.entry(&Entry::folder(folder))?;
        }
        if is_first {
            let (path, text) = BUNDLE;
            let entry =
                Entry { mode: 0o755, kind: Kind::File { size: text.len() as u64 }, ..Entry::folder(path) };
            tar.file(&entry, &mut text.as_bytes())?;
        }
        Ok(())
    })
}

impl Action for GemFiles {
    fn fingerprint(&self) -> Fingerprint {
        let Self { gems, is_first, environment } = self;
        let part = |gem: &Gem| (gem.full_name(), gem.integrity.canonical());
        let values = [
            ("interface", environment.interface.clone()),
            ("is written", format!("{is_first} {}", if *is_first { BUNDLE.1 } else { "" })),
        ];
        Fingerprint::of(Recipe::new("gems", 1))
            .with_recipe(RECIPE)
            .values("environment", values)
            .input("gems", gems.iter().map(part).collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        {
            let layer = &*layer;
            each_fetched(&self.gems, cx, |gem| self.provide(layer, gem, cx).map(drop))?;
        }
        write_folders(layer, &self.environment, self.is_first)?;
        let mut facts = Vec::new();
        for gem in &self.gems {
            let key = self.key(gem, layer.codec());
            append_fragment(layer, key, &gem.label())?;
            let said = said_by(layer.store(), key, gem)?;
            facts.push(fact(gem, &said));
        }
        Ok(facts)
    }

    fn withdrawn(&self, cx: &StepContext<'_>) -> Vec<Withdrawn> {
        find_in_parallel(&self.gems, cx, |gem| withdrawn(gem, cx))
    }
}

/// What a gem whose fragment has this key says of itself.
pub(super) fn said_by(store: &Store, key: Sha256, gem: &Gem) -> Result<Specification> {
    let known = store.read_document(&store.fragment_path("gems", key)).whole();
    known.ok_or_else(|| {
        let what = format!("the registry document of {}", gem.label());
        Error::Content(ContentError::Damaged { what })
    })
}

/// Says that a registry no longer lists a gem; nothing when it does, or cannot be asked.
pub(super) fn withdrawn(gem: &Gem, cx: &StepContext<'_>) -> Option<Withdrawn> {
    let offers = gems::offers(cx.fetcher, &gem.registry, &gem.name).ok()?;
    let full_name = gem.full_name();
    let is_listed = offers.iter().any(|offer| format!("{}-{}", gem.name, offer.number) == full_name);
    (!is_listed).then(|| Withdrawn {
        package: gem.label(),
        lockfile: crate::LOCKFILE.to_owned(),
        gone: true,
        reason: format!("{} no longer lists it", gem.registry),
    })
}
