//! A language that this program does not know, with a package manager of its own: it needs a buildpack, and no
//! change anywhere else.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use bases::host::Host;
use cancel::Cancel;
use config::Choice;
use config::addresses::AddressBook;
use config::pins::{Pins, ResolvedPackage};
use content::layer::{Codec, Entry, LayerWriter};
use content::store::Store;
use engine::{Action, Budget, Fingerprint, Recipe, Session, Step, StepContext};
use model::error::PackageError;
use model::{
    BuildpackOptions, Claim, Ecosystem, Error, Evidence, Finding, PackageFact, Place, ProcessKind,
    ProcessType, Result, Role,
};
use planning::{Buildpack, Context, Contribution, Pinning, Resolution, ResolveTarget, Resolving};
use remote::oci::CredentialFiles;
use remote::{Address, Downloads, Fetcher, Integrity, Network};
use source::{Asked, SourceTree};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;
use tempfile::TempDir;
use testkit::archives::sha256_hex;
use workshop::app::{App, BuildRequest, look};
use workshop::build::{Built, Exports, Planned, build, preview};
use workshop::buildpacks::Buildpacks;
use workshop::prepare::prepare;

const MANIFEST: &str = "app.swell";

/// Swell: a manifest with a package a line; each package of the registry has its newest version in `NAME/newest`.
struct Swell;

fn packages_of(manifest: &str) -> Vec<&str> {
    manifest.lines().filter_map(|line| line.strip_prefix("needs ")).collect()
}

impl Buildpack for Swell {
    fn name(&self) -> &str {
        "swell"
    }

    fn ecosystems(&self) -> Vec<Ecosystem> {
        vec![Ecosystem::of("swells")]
    }

    fn survey(&self, tree: &SourceTree, _options: &BuildpackOptions) -> Result<Finding> {
        let mut finding = Finding::nothing(self.name(), vec![MANIFEST]);
        if let Some(text) = tree.read(MANIFEST)? {
            let place = Place::new(MANIFEST, Some(1));
            finding.claim = Claim::Whole;
            finding.evidence.push(Evidence::speaks_for(place.clone(), MANIFEST, "an app in Swell"));
            finding.declared = packages_of(&text).into_iter().map(str::to_owned).collect();
            finding.static_binary = Some(place.clone());
            finding.processes.push(ProcessType::found("web", ProcessKind::Process, &["/opt/swell"], place));
        }
        Ok(finding)
    }

    fn accepts(&self, _constraint: &str, _version: &str) -> Option<bool> {
        None
    }

    fn resolve(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        let registry = context.addresses.in_force(self.ecosystems()[0])?.address;
        let manifest = context.tree.read(MANIFEST)?.unwrap_or_default();
        let target = ResolveTarget { language: "swell", purpose: "app" };
        let settled = resolving.packages(target, &manifest, |Downloads { fetcher, .. }, _| {
            packages_of(&manifest).into_iter().map(|name| newest(fetcher, &registry, name)).collect()
        })?;
        let mut resolution = Resolution::default();
        if let Some((packages, new)) = settled {
            resolution.resolved.extend(new);
            resolution.settle(Install { packages, registry });
        }
        Ok(resolution)
    }

    fn contribute(&self, _context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let install = resolution.settled::<Install>().cloned();
        let steps = install.map(|install| Step::new("swell packages", Role::Dependencies, install));
        Ok(Contribution { steps: steps.into_iter().collect(), ..Contribution::default() })
    }
}

fn newest(fetcher: &Fetcher, registry: &Address, name: &str) -> Result<ResolvedPackage> {
    let said = get(fetcher, &registry.join(&format!("{name}/newest")), name)?;
    let said = String::from_utf8(said).unwrap();
    let (version, integrity) = said.trim().split_once(' ').unwrap();
    Ok(ResolvedPackage {
        name: name.to_owned(),
        version: version.to_owned(),
        integrity: integrity.to_owned(),
        ..ResolvedPackage::default()
    })
}

fn get(fetcher: &Fetcher, address: &Address, name: &str) -> Result<Vec<u8>> {
    let remote = |source| Error::Package(PackageError::Remote { wanted_by: name.to_owned(), source });
    fetcher.get(address, "*/*").map_err(remote)
}

#[derive(Clone)]
struct Install {
    packages: Vec<ResolvedPackage>,
    registry: Address,
}

impl Action for Install {
    fn fingerprint(&self) -> Fingerprint {
        let Self { packages, registry: _ } = self;
        let parts = packages.iter().map(|p| (p.name.clone(), format!("{} {}", p.version, p.integrity)));
        Fingerprint::of(Recipe::new("swell packages", 1)).input("packages", parts.collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let mut facts = Vec::new();
        for package in &self.packages {
            let ResolvedPackage { name, version, integrity, .. } = package;
            let address = self.registry.join(&format!("{name}/{version}"));
            let bytes = get(cx.fetcher, &address, name)?;
            let expected = Integrity::any_of(std::iter::once(integrity.as_str())).unwrap();
            let remote = |source| Error::Package(PackageError::Remote { wanted_by: name.clone(), source });
            expected.check(&address.to_string(), &bytes).map_err(remote)?;
            layer.part::<Error>(|tar| {
                tar.entry(&Entry::folder("opt"))?;
                tar.file(&Entry::file(format!("opt/{name}"), bytes.len() as u64, true), &mut &bytes[..])?;
                Ok(())
            })?;
            facts.push(PackageFact {
                name: name.clone(),
                version: version.clone(),
                purl: format!("pkg:generic/{name}@{version}"),
                licence: None,
                layer: None,
                source: None,
                needs: Vec::new(),
                integrity: integrity.clone(),
                patched: Vec::new(),
            });
        }
        Ok(facts)
    }
}

/// An app in Swell with its registry, in a folder of its own.
struct Harbour {
    place: TempDir,
    store: Store,
}

impl Harbour {
    fn new() -> Self {
        let place = tempfile::tempdir().unwrap();
        let store = Store::open(&place.path().join("store")).unwrap();
        let harbour = Self { place, store };
        harbour.write("ferry/app.swell", "needs buoy\n");
        harbour.write("ferry/shtetl.toml", "[addresses]\nswells = \"../registry\"\n");
        harbour.publish("buoy", "1.0", "a buoy");
        harbour
    }

    fn write(&self, inside: &str, text: &str) {
        let path = self.place.path().join(inside);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn publish(&self, name: &str, version: &str, content: &str) {
        self.write(&format!("registry/{name}/{version}"), content);
        let said = format!("{version} sha256:{}", sha256_hex(content.as_bytes()));
        self.write(&format!("registry/{name}/newest"), &said);
    }

    fn look(&self) -> App {
        let path = self.place.path().join("ferry");
        let asked = Asked::of(&path);
        let choice = Choice { rules: None, variant: None, values: Vec::new() };
        let buildpacks = Buildpacks::built_in().with_first(Arc::new(Swell));
        look(&asked, &choice, &buildpacks, &self.store, 1).unwrap()
    }

    fn build(&self, pinning: Pinning) -> Result<Built> {
        let app = self.look();
        let book = Arc::new(AddressBook::new(Vec::new(), |_| None));
        let credentials = Arc::new(CredentialFiles { files: Vec::new(), search: Vec::new() });
        let (fetcher, budget) = (Fetcher::new(Network::Forbidden), Budget::new(2));
        let host = Host { root: self.place.path().join("host"), search: Vec::new() };
        let request = BuildRequest {
            tag: "latest",
            platform: "linux/amd64",
            codec: Codec::Zstd,
            created: "2026-01-01T00:00:00Z",
            host: &host,
            book: &book,
            seen: &Default::default(),
            fetcher: &fetcher,
            credentials: &credentials,
            pinning,
            now: 1,
            started: Instant::now(),
        };
        let worklist = prepare(&app, &request, &self.store)?;
        let before = preview(&app, &worklist, &self.store);
        let session = Session {
            store: &self.store,
            fetcher: &fetcher,
            budget: &budget,
            events: &|_| {},
            limits: sandbox::Limits::STEP,
            failed_root: None,
            shared: None,
            cancel: &Cancel::new(),
        };
        let built =
            build(&app, Planned { worklist: &worklist, order: &request }, &[], Exports::default(), &session)?;
        let would_run = |p: &&workshop::build::Preview| p.decision.is_err();
        let planned: Vec<&str> = before.iter().filter(would_run).map(|p| p.step.as_str()).collect();
        let ran = built.outcomes.iter().filter(|o| o.because.is_some());
        assert_eq!(ran.map(|o| o.step.as_str()).collect::<Vec<_>>(), planned, "a preview says what runs");
        Ok(built)
    }
}

fn ran(built: &Built) -> Vec<&str> {
    built.outcomes.iter().filter(|o| o.because.is_some()).map(|o| o.step.as_str()).collect()
}

fn pins(folder: &Path) -> BTreeMap<String, String> {
    let pins = Pins::read(folder).unwrap().unwrap();
    let packages = &pins.resolved["swell"]["app"].packages;
    packages.iter().map(|p| (p.name.clone(), p.version.clone())).collect()
}

#[test]
fn a_new_language_needs_its_buildpack_and_nothing_else() {
    let harbour = Harbour::new();
    let folder = harbour.place.path().join("ferry");
    let built = harbour.build(Pinning::Keep).unwrap();
    assert_eq!(ran(&built), ["empty base", "swell packages", "app files"]);
    assert_eq!(built.record.packages[0].purl, "pkg:generic/buoy@1.0");
    assert_eq!(pins(&folder)["buoy"], "1.0");

    // A newer version is taken when the pins are moved, and not before.
    harbour.publish("buoy", "1.1", "a better buoy");
    assert_eq!(ran(&harbour.build(Pinning::Locked).unwrap()), [""; 0]);
    assert_eq!(ran(&harbour.build(Pinning::Update).unwrap()), ["swell packages"]);
    assert_eq!(pins(&folder)["buoy"], "1.1");

    // A new need is resolved with the rest; with locked pins it is an error.
    harbour.publish("rope", "2.0", "a rope");
    harbour.write("ferry/app.swell", "needs buoy\nneeds rope\n");
    assert!(harbour.build(Pinning::Locked).is_err());
    assert_eq!(ran(&harbour.build(Pinning::Keep).unwrap()), ["swell packages", "app files"]);

    // A package that is not what was pinned gets into no image.
    fs::remove_dir_all(harbour.store.root()).unwrap();
    harbour.write("registry/rope/2.0", "another rope");
    let harbour = Harbour { store: Store::open(harbour.store.root()).unwrap(), ..harbour };
    let refused = harbour.build(Pinning::Keep).err().unwrap();
    assert!(matches!(refused, Error::Package(PackageError::Remote { .. })), "{refused}");
}
