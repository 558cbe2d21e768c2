//! Whatever packages ask for: what is resolved is right, or there is nothing that would be.

use crate::resolve::*;
use config::AppConfig;
use config::addresses::AddressBook;
use content::store::Store;
use model::Ecosystem;
use proptest::prelude::*;
use remote::{Downloads, Fetcher};
use std::path::Path;

const NAMES: [&str; 5] = ["bell", "horn", "mast", "rope", "tin"];
const RANGES: [&str; 8] = ["*", "^1", "^2", "~1.0", "1.0.0", ">=1.1", "<2", "npm:rope@^1"];

/// By package and version, what is needed: a name's number, a range's number, and whether it can be done without.
type World = Vec<Vec<(String, Vec<(usize, usize, bool)>)>>;

fn world() -> impl Strategy<Value = World> {
    let need = (0..NAMES.len(), 0..RANGES.len(), any::<bool>());
    let versions = proptest::sample::subsequence(vec!["1.0.0", "1.1.0", "2.0.0"], 1..=3);
    let package = versions.prop_flat_map(move |versions| {
        let needs = proptest::collection::vec(need.clone(), 0..3);
        let needs = proptest::collection::vec(needs, versions.len());
        needs.prop_map(move |needs| versions.iter().map(|v| (*v).to_owned()).zip(needs).collect())
    });
    proptest::collection::vec(package, NAMES.len())
}

fn table(needs: &[(usize, usize, bool)], optional: bool) -> BTreeMap<String, String> {
    let of_kind = needs.iter().filter(|(.., may_lack)| *may_lack == optional);
    of_kind.map(|(name, range, _)| (NAMES[*name].to_owned(), RANGES[*range].to_owned())).collect()
}

fn offer(world: &World, registry: &Path) {
    for (name, versions) in NAMES.iter().zip(world) {
        let version = |(version, needs): &(String, Vec<_>)| {
            let facts = serde_json::json!({ "dist": { "integrity": "sha512-AAAA" },
                "dependencies": table(needs, false), "optionalDependencies": table(needs, true) });
            (version.clone(), facts)
        };
        let versions: serde_json::Map<String, serde_json::Value> = versions.iter().map(version).collect();
        let latest = versions.keys().next_back().cloned();
        let document = serde_json::json!({ "dist-tags": { "latest": latest }, "versions": versions });
        std::fs::create_dir_all(registry.join(name)).unwrap();
        std::fs::write(registry.join(name).join("index.json"), document.to_string()).unwrap();
    }
}

/// Whether some version of what is asked for is offered.
fn is_offered(world: &World, name: &str, wanted: &str) -> bool {
    let need = Need { name: name.to_owned(), wanted: wanted.to_owned(), optional: false, peer: false };
    let (name, wanted) = meaning(&need);
    let range = Range::parse(&wanted).unwrap();
    let at = NAMES.iter().position(|known| *known == name).unwrap();
    world[at].iter().any(|(version, _)| range.contains(&Version::parse(version).unwrap()))
}

/// What is wrong with a tree: somebody does not find what it needs.
fn fault(world: &World, tree: &PackageTree) -> Option<String> {
    for (path, entry) in &tree.packages {
        let needed =
            entry.dependencies.iter().filter(|(name, _)| !entry.optional_dependencies.contains_key(*name));
        for (name, wanted) in needed.chain(&entry.optional_dependencies) {
            let need = Need { name: name.clone(), wanted: wanted.clone(), optional: false, peer: false };
            let (real, wanted) = meaning(&need);
            let may_lack = entry.optional_dependencies.contains_key(name);
            let Some(found) = tree.resolve(path, name) else {
                if may_lack {
                    continue;
                }
                return Some(format!("{path:?} does not find {name}"));
            };
            let found = &tree.packages[&found];
            let version = Version::parse(found.version.as_deref().unwrap()).unwrap();
            // Where something cannot be had and need not, a package may see what others have above it.
            if may_lack && !path.is_empty() && !is_offered(world, &real, &wanted) {
                continue;
            }
            if found.name.as_deref() != Some(&*real) || !Range::parse(&wanted).unwrap().contains(&version) {
                return Some(format!("{path:?} wants {real} {wanted} and finds {:?} {version}", found.name));
            }
        }
    }
    None
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn everybody_finds_what_it_needs_or_it_is_not_to_be_had(world in world(), own in proptest::collection::vec((0..NAMES.len(), 0..RANGES.len(), any::<bool>()), 1..4)) {
        let place = tempfile::tempdir().unwrap();
        offer(&world, &place.path().join("registry"));
        let store = Store::open(&place.path().join("store")).unwrap();
        let fetcher = Fetcher::new(remote::Network::Forbidden);
        let config = AppConfig {
            addresses: BTreeMap::from([("npm".to_owned(), place.path().join("registry").display().to_string())]),
            ecosystems: vec![Ecosystem::NPM],
            ..AppConfig::default()
        };
        let book = Arc::new(AddressBook::new(Vec::new(), |_| None));
        let addresses = Addresses::new(&book, &config, &BTreeMap::new(), place.path());
        let source = SourceTree::new(place.path().to_owned(), BTreeMap::new());
        let sources = Sources { downloads: Downloads { fetcher: &fetcher, store: &store }, addresses: &addresses, source: &source };
        let manifest = Manifest {
            dependencies: table(&own, false),
            optional_dependencies: table(&own, true),
            ..Manifest::default()
        };
        let asked = Asked { manifest: &manifest, overrides: Overrides::default(), parts: Parts::default() };
        match resolve(&asked, "20.0.0", sources, &[]) {
            Ok(tree) => {
                prop_assert_eq!(fault(&world, &tree), None);
                // What was chosen is kept, and is read as it was written.
                let pins = to_pins(&tree);
                let again = resolve(&asked, "20.0.0", sources, &pins).unwrap();
                prop_assert_eq!(to_pins(&again), pins.clone());
                let read = of_pins(&asked, &pins).for_image("linux/amd64").unwrap();
                let paths: BTreeSet<&str> = read.iter().map(|package| package.path.as_str()).collect();
                prop_assert_eq!(paths, pins.iter().map(|pin| pin.path.as_str()).collect::<BTreeSet<_>>());
            }
            Err(Error::Package(PackageError::NoSolution { .. })) => {
                let all = world.iter().flatten().map(|(_, needs)| table(needs, false));
                let mut all = all.chain([table(&own, false)]).flatten();
                prop_assert!(all.any(|(name, wanted)| !is_offered(&world, &name, &wanted)));
            }
            Err(other) => prop_assert!(false, "{other}"),
        }
    }
}
