//! Whatever packages ask for: the resolution satisfies it, and nothing possible is reported as impossible. Every choice
//! is tried out, which small worlds allow.

use crate::index_options::Terms;
use crate::resolve::*;
use config::AppConfig;
use config::addresses::{AddressBook, Addresses};
use content::store::Store;
use model::Place;
use pep508_rs::{Requirement, VerbatimUrl};
use proptest::prelude::*;
use remote::{Downloads, Fetcher, Network};
use std::path::Path;
use std::str::FromStr;
use std::sync::Arc;

const NAMES: [&str; 4] = ["bell", "horn", "mast", "rope"];
const SPECIFIERS: [&str; 7] = ["", ">=2", "<2", "==1", "==3", "!=2", "~=2.0"];
/// Versions; the last but one is one before a release.
const VERSIONS: [&str; 4] = ["1", "2", "2.5b1", "3"];

/// A name's number, a specifier's number, whether its extra `loud` is asked for, and whether only that extra needs it.
type Wanted = (usize, usize, bool, bool);
/// By package and version, what is needed.
type World = Vec<Vec<(usize, Vec<Wanted>)>>;

fn wanted() -> impl Strategy<Value = Wanted> {
    (0..NAMES.len(), 0..SPECIFIERS.len(), any::<bool>(), any::<bool>())
}

fn world() -> impl Strategy<Value = World> {
    let versions = proptest::sample::subsequence((0..VERSIONS.len()).collect::<Vec<_>>(), 1..=4);
    let package = versions.prop_flat_map(|versions| {
        let needs = proptest::collection::vec(proptest::collection::vec(wanted(), 0..3), versions.len());
        needs.prop_map(move |needs| versions.iter().copied().zip(needs).collect())
    });
    // No package needs another version of itself.
    proptest::collection::vec(package, NAMES.len()).prop_map(|mut world: World| {
        for (name, versions) in world.iter_mut().enumerate() {
            versions.iter_mut().for_each(|(_, needs)| needs.retain(|wanted| wanted.0 != name));
        }
        world
    })
}

fn text((name, specifier, loud, _): Wanted) -> String {
    format!("{}{}{}", NAMES[name], if loud { "[loud]" } else { "" }, SPECIFIERS[specifier])
}

fn offer(world: &World, index: &Path) {
    for (name, versions) in NAMES.iter().zip(world) {
        let folder = index.join(name);
        std::fs::create_dir_all(&folder).unwrap();
        let file = |(version, needs): &(usize, Vec<Wanted>)| {
            let version = VERSIONS[*version];
            let file = format!("{name}-{version}-py3-none-any.whl");
            let marker = |wanted: &Wanted| if wanted.3 { " ; extra == 'loud'" } else { "" };
            let needs = needs.iter().map(|w| format!("Requires-Dist: {}{}\n", text(*w), marker(w)));
            let metadata = format!("Name: {name}\nProvides-Extra: loud\n{}", needs.collect::<String>());
            std::fs::write(folder.join(format!("{file}.metadata")), metadata).unwrap();
            let hash = format!("{:064x}", name.len() * 100 + version.len());
            serde_json::json!({ "filename": file, "url": file, "hashes": { "sha256": hash }, "core-metadata": true })
        };
        let files: Vec<_> = versions.iter().map(file).collect();
        std::fs::write(folder.join("index.json"), serde_json::json!({ "files": files }).to_string()).unwrap();
    }
}

/// A version of some packages, by their numbers.
type Choice = [Option<usize>; NAMES.len()];

/// Whether a choice meets what is asked for and everything that follows from it, and has nothing else.
fn is_right(world: &World, own: &[Wanted], choice: &Choice) -> bool {
    let meets = |(name, specifier, ..): &Wanted| {
        let Some(version) = choice[*name] else { return false };
        let need = Requirement::<VerbatimUrl>::from_str(&text((*name, *specifier, false, false))).unwrap();
        let version = Version::from_str(VERSIONS[version]).unwrap();
        need.version_or_url.is_none_or(|said| match said {
            VersionOrUrl::VersionSpecifier(all) => all.contains(&version),
            VersionOrUrl::Url(_) => false,
        })
    };
    let (mut reached, mut pending) = (BTreeSet::new(), own.to_vec());
    while let Some(wanted) = pending.pop() {
        if !meets(&wanted) {
            return false;
        }
        for loud in [false, true] {
            if loud && !wanted.2 || !reached.insert((wanted.0, loud)) {
                continue;
            }
            let needs = world[wanted.0].iter().find(|(version, _)| Some(*version) == choice[wanted.0]);
            pending.extend(needs.into_iter().flat_map(|(_, needs)| needs).filter(|w| w.3 == loud));
        }
    }
    (0..NAMES.len()).all(|name| choice[name].is_none() || reached.contains(&(name, false)))
}

/// Every choice there is.
fn choices(world: &World) -> Vec<Choice> {
    let mut all = vec![[None; NAMES.len()]];
    for (name, versions) in world.iter().enumerate() {
        let with = |choice: &Choice, version| {
            let mut choice = *choice;
            choice[name] = version;
            choice
        };
        let own: Vec<Option<usize>> =
            versions.iter().map(|(version, _)| Some(*version)).chain([None]).collect();
        all = all.iter().flat_map(|choice| own.iter().map(move |version| with(choice, *version))).collect();
    }
    all
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_resolved_is_right_and_what_is_impossible_is_so(world in world(), own in proptest::collection::vec(wanted(), 1..4)) {
        let place = tempfile::tempdir().unwrap();
        offer(&world, &place.path().join("index"));
        let store = Store::open(&place.path().join("store")).unwrap();
        let fetcher = Fetcher::new(Network::Forbidden);
        let book = Arc::new(AddressBook::new(Vec::new(), |_| None));
        let addresses = Addresses::new(&book, &AppConfig::default(), &BTreeMap::new(), place.path());
        let target = Target::new("3.13.5", "linux/amd64", None).unwrap();
        let terms = Terms { index: Some("index".to_owned()), ..Terms::default() };
        let index = Index::new(Downloads { fetcher: &fetcher, store: &store }, &addresses, (&target, false), terms, place.path());
        let lines: Vec<String> = own.iter().map(|wanted| text(*wanted)).collect();
        let asked = Asked::of_needs(&lines, &Place::new("requirements.txt", None)).unwrap();
        match resolve(&asked, &target, &index, &BTreeMap::new()) {
            Ok(pins) => {
                let version = |name: &&str| {
                    let pin = pins.iter().find(|pin| pin.name == **name)?;
                    VERSIONS.iter().position(|version| *version == pin.version)
                };
                let chosen: Vec<Option<usize>> = NAMES.iter().map(version).collect();
                prop_assert!(is_right(&world, &own, &chosen.try_into().unwrap()), "{pins:#?}");
            }
            Err(Error::Package(PackageError::NoSolution { facts })) => {
                let right = choices(&world).into_iter().find(|choice| is_right(&world, &own, choice));
                prop_assert_eq!(right, None, "{:#?}", facts);
            }
            Err(other) => prop_assert!(false, "{other}"),
        }
    }
}
