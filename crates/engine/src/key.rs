//! Keys of steps: from what the action is, what it is for, and the keys of the steps that it needs.

use crate::digester::Digester;
use crate::fingerprint::{Fingerprint, Input};
use crate::step::Fetches;
use content::StepKey;
use content::layer::{Codec, LAYER_FORMAT};

/// Version of what the engine itself does with every step; a change of it runs every step again.
const STEP_FORMAT: u32 = 2;

/// What layers are written for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LayerTarget {
    /// How layers are compressed.
    pub codec: Codec,
    /// Operating system and processor, as in `linux/amd64`.
    pub platform: String,
}

/// The key of a step. `source` is the app's own files, where its programs read them.
pub(crate) fn step_key(
    fingerprint: &Fingerprint,
    source: Option<&Input>,
    fetches: Option<&Fetches>,
    target: &LayerTarget,
    needs: &[StepKey],
) -> StepKey {
    let mut digester = Digester::new("shtetl step");
    digester.number(u64::from(STEP_FORMAT)).number(u64::from(LAYER_FORMAT));
    digester.text(target.codec.name()).text(&target.platform);
    fingerprint.add_to(&mut digester);
    match source {
        Some(source) => digester.number(1).digest(&source.digest.0),
        None => digester.number(0),
    };
    digester.number(needs.len() as u64);
    for need in needs {
        digester.digest(&need.0);
    }
    // Where it comes from does not shape the result: its content does.
    if let Some(Fetches { sources: _, asked, pinned, records }) = fetches {
        digester.text(asked).number(u64::from(*records)).number(pinned.len() as u64);
        for answer in pinned {
            digester.text(&answer.from).text(&answer.path).text(answer.sha256.as_deref().unwrap_or_default());
        }
    }
    StepKey(digester.finish())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fingerprint::Recipe;
    use model::fetched::FetchedAnswer;
    use std::collections::{BTreeMap, BTreeSet};

    fn target() -> LayerTarget {
        LayerTarget { codec: Codec::Zstd, platform: "linux/amd64".to_owned() }
    }

    fn source(content: &str) -> Input {
        Input::of_parts("source", BTreeMap::from([("a.js".to_owned(), content.to_owned())]))
    }

    fn fetches(hash: &str, records: bool) -> Fetches {
        let (from, path) = ("maven".to_owned(), "org/fog.pom".to_owned());
        let answer = FetchedAnswer { from, path, size: 3, sha256: Some(hash.to_owned()) };
        Fetches { sources: Vec::new(), asked: String::new(), pinned: vec![answer], records }
    }

    #[test]
    fn a_key_moves_with_everything_that_it_is_made_of() {
        let base = Fingerprint::of(Recipe::new("pack", 1)).values("files", [("a", "1".to_owned())]);
        let (one, two) = (StepKey::of(b"one"), StepKey::of(b"two"));
        let key = step_key(&base, Some(&source("x")), None, &target(), &[one, two]);
        let bumped = Fingerprint::of(Recipe::new("pack", 2)).values("files", [("a", "1".to_owned())]);
        let renamed = Fingerprint::of(Recipe::new("pack", 1)).values("data", [("a", "1".to_owned())]);
        let arm = LayerTarget { platform: "linux/arm64".to_owned(), ..target() };
        let gzip = LayerTarget { codec: Codec::Gzip, ..target() };
        let changed = base.clone().with_recipe(Recipe::new("pack", 1));
        let others = [
            step_key(&bumped, Some(&source("x")), None, &target(), &[one, two]),
            step_key(&renamed, Some(&source("x")), None, &target(), &[one, two]),
            step_key(&changed, Some(&source("x")), None, &target(), &[one, two]),
            step_key(&base, Some(&source("y")), None, &target(), &[one, two]),
            step_key(&base, None, None, &target(), &[one, two]),
            step_key(&base, Some(&source("x")), None, &arm, &[one, two]),
            step_key(&base, Some(&source("x")), None, &gzip, &[one, two]),
            step_key(&base, Some(&source("x")), None, &target(), &[two, one]),
            step_key(&base, Some(&source("x")), None, &target(), &[one]),
            step_key(&base, Some(&source("x")), Some(&fetches("ab", false)), &target(), &[one, two]),
            step_key(&base, Some(&source("x")), Some(&fetches("cd", false)), &target(), &[one, two]),
            step_key(&base, Some(&source("x")), Some(&fetches("ab", true)), &target(), &[one, two]),
        ];
        assert!(!others.contains(&key));
        assert_eq!(BTreeSet::from(others).len(), others.len());
        assert_eq!(key, step_key(&base, Some(&source("x")), None, &target(), &[one, two]));
    }
}
