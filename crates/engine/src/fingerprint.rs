//! What an action does, as a value: everything that shapes its result, and nothing else.

use crate::digester::Digester;
use content::InputDigest;
use content::digest::Sha256;
use content::layer::{Codec, LAYER_FORMAT};
use std::collections::BTreeMap;

/// A way of doing things, with the version of the code that does it. A new version moves every key that
/// depends on it: those of steps, and those of fragments that steps are put together from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Recipe {
    /// What is done, for example `npm packages`.
    pub kind: &'static str,
    /// Counts changes of how it is done.
    pub format: u32,
}

impl Recipe {
    /// The recipe of this kind and version.
    pub const fn new(kind: &'static str, format: u32) -> Self {
        Self { kind, format }
    }

    fn add_to(&self, digester: &mut Digester) {
        digester.text(self.kind).number(u64::from(self.format));
    }

    /// The key of a fragment that was made by this recipe from `parts`.
    pub fn fragment_key(&self, codec: Codec, parts: &[&str]) -> Sha256 {
        let mut digester = Digester::new("shtetl fragment");
        self.add_to(&mut digester);
        digester.number(u64::from(LAYER_FORMAT)).text(codec.name()).texts(parts);
        digester.finish()
    }

    /// The key of something else that was learned by this recipe from `parts`.
    pub fn fact_key(&self, parts: &[&str]) -> Sha256 {
        let mut digester = Digester::new("shtetl fact");
        self.add_to(&mut digester);
        digester.texts(parts);
        digester.finish()
    }
}

/// A named input of an action. Its parts word the reason of a cache miss; only its digest is in the key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Input {
    /// For example `source` or `packages`.
    pub name: &'static str,
    /// Digest of everything in it.
    pub digest: InputDigest,
    /// Files, packages and the like, each with its own digest or version.
    pub parts: BTreeMap<String, String>,
}

impl Input {
    /// An input that is the sum of its parts.
    pub fn of_parts(name: &'static str, parts: BTreeMap<String, String>) -> Self {
        Self { name, digest: parts_digest(&parts), parts }
    }
}

/// A digest over names and values.
pub fn parts_digest(parts: &BTreeMap<String, String>) -> InputDigest {
    let mut digester = Digester::new("shtetl parts");
    for (name, value) in parts {
        digester.text(name).text(value);
    }
    InputDigest(digester.finish())
}

/// Everything that shapes the result of an action, besides the steps that it needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fingerprint {
    recipes: Vec<Recipe>,
    inputs: Vec<Input>,
}

impl Fingerprint {
    /// The fingerprint of an action that follows `recipe`.
    pub fn of(recipe: Recipe) -> Self {
        Self { recipes: vec![recipe], inputs: Vec::new() }
    }

    /// The action also follows `recipe`.
    pub fn with_recipe(mut self, recipe: Recipe) -> Self {
        self.recipes.push(recipe);
        self
    }

    /// The result depends on these parts as well.
    pub fn input(mut self, name: &'static str, parts: BTreeMap<String, String>) -> Self {
        self.inputs.push(Input::of_parts(name, parts));
        self
    }

    /// The result depends on these named values as well.
    pub fn values<const N: usize>(self, name: &'static str, values: [(&str, String); N]) -> Self {
        self.input(name, values.map(|(key, value)| (key.to_owned(), value)).into())
    }

    /// Its inputs, in order.
    pub fn inputs(&self) -> &[Input] {
        &self.inputs
    }

    /// The inputs, to be recorded.
    pub(crate) fn into_inputs(self) -> Vec<Input> {
        self.inputs
    }

    /// Adds everything to a digest.
    pub(crate) fn add_to(&self, digester: &mut Digester) {
        digester.number(self.recipes.len() as u64);
        self.recipes.iter().for_each(|recipe| recipe.add_to(digester));
        digester.number(self.inputs.len() as u64);
        for input in &self.inputs {
            digester.text(input.name).digest(&input.digest.0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fragments_key_moves_with_recipe_codec_and_parts_and_nothing_runs_together() {
        let recipe = Recipe::new("npm package", 1);
        let key = recipe.fragment_key(Codec::Zstd, &["fog", "1"]);
        let others = [
            Recipe::new("npm package", 2).fragment_key(Codec::Zstd, &["fog", "1"]),
            Recipe::new("wheel", 1).fragment_key(Codec::Zstd, &["fog", "1"]),
            recipe.fragment_key(Codec::Gzip, &["fog", "1"]),
            recipe.fragment_key(Codec::Zstd, &["fog1", ""]),
            recipe.fragment_key(Codec::Zstd, &["fog", "1", ""]),
            recipe.fact_key(&["fog", "1"]),
        ];
        assert!(!others.contains(&key));
        assert!(key == recipe.fragment_key(Codec::Zstd, &["fog", "1"]));
    }
}
