//! What the configuration says to a build.

use crate::{Ecosystem, Place};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

/// A key of a buildpack's table in the configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OptionSpec {
    /// The key, for example `docroot`.
    pub key: Cow<'static, str>,
    /// What it takes.
    pub takes: Takes,
    /// What it is for, for people and schemas.
    pub about: Cow<'static, str>,
}

impl OptionSpec {
    /// A key of a built-in buildpack.
    pub const fn new(key: &'static str, takes: Takes, about: &'static str) -> Self {
        Self { key: Cow::Borrowed(key), takes, about: Cow::Borrowed(about) }
    }

    /// The key that asks for a runtime without what servers hardly need; bases read it, too.
    pub const SLIM: &'static str = "slim";

    /// The key that asks for a runtime which is made of parts that the app needs; bases read it, too.
    pub const SMALL_RUNTIME: &'static str = "small-runtime";

    /// The key `version`, which most buildpacks have.
    pub const VERSION: Self = Self::new(
        "version",
        Takes::Version,
        "A constraint on the runtime's version; overrides what the source says",
    );
}

/// What a key of a buildpack's table takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// A version constraint, whose place is kept.
    Version,
    /// A text.
    Text,
    /// `true` or `false`.
    Truth,
    /// Texts; those of a stronger layer replace those of a weaker one.
    Texts,
    /// Texts; those of all layers count.
    AddedTexts,
}

/// A value of a buildpack's table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OptionValue {
    /// A version constraint and where it is written.
    Version(String, Place),
    /// A text.
    Text(String),
    /// `true` or `false`.
    Truth(bool),
    /// Texts that replace weaker ones.
    Texts(Vec<String>),
    /// Texts that are added to weaker ones.
    AddedTexts(Vec<String>),
}

/// The options of one buildpack.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct BuildpackOptions(BTreeMap<String, OptionValue>);

impl BuildpackOptions {
    /// Sets one option.
    pub fn set(&mut self, key: &str, value: OptionValue) {
        self.0.insert(key.to_owned(), value);
    }

    /// The requested version of the runtime, and where it comes from.
    pub fn version(&self) -> Option<(String, Place)> {
        match self.0.get("version")? {
            OptionValue::Version(text, place) => Some((text.clone(), place.clone())),
            _ => None,
        }
    }

    /// The text of a key that takes one.
    pub fn text(&self, key: &str) -> Option<&str> {
        match self.0.get(key)? {
            OptionValue::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Whether a key that takes `true` or `false` is true.
    pub fn is_set(&self, key: &str) -> bool {
        self.truth(key) == Some(true)
    }

    /// What a key that takes `true` or `false` says, if it is there.
    pub fn truth(&self, key: &str) -> Option<bool> {
        match self.0.get(key)? {
            OptionValue::Truth(truth) => Some(*truth),
            _ => None,
        }
    }

    /// Whether a key has a value.
    pub fn has(&self, key: &str) -> bool {
        self.0.contains_key(key)
    }

    /// The texts of a key that takes several.
    pub fn texts(&self, key: &str) -> &[String] {
        match self.0.get(key) {
            Some(OptionValue::Texts(texts) | OptionValue::AddedTexts(texts)) => texts,
            _ => &[],
        }
    }

    /// These options, with those of a weaker layer where they say nothing.
    pub fn over(self, weaker: Self) -> Self {
        let mut merged = weaker.0;
        for (key, value) in self.0 {
            let value = match (merged.remove(&key), value) {
                (Some(OptionValue::AddedTexts(mut lower)), OptionValue::AddedTexts(upper)) => {
                    lower.extend(upper);
                    OptionValue::AddedTexts(lower)
                }
                (_, value) => value,
            };
            merged.insert(key, value);
        }
        Self(merged)
    }

    /// Names `file` as the place of the version.
    pub fn name_version_file(&mut self, file: &str) {
        if let Some(OptionValue::Version(_, place)) = self.0.get_mut("version") {
            place.file = file.to_owned();
        }
    }
}

/// The names that configuration may use; they come from the registries of buildpacks and bases.
#[derive(Debug, Clone, Default)]
pub struct KnownNames {
    /// Buildpacks, in their order, with the keys of their tables.
    pub buildpacks: Vec<(String, Vec<OptionSpec>)>,
    /// Tools for `[build] tools`.
    pub tools: BTreeSet<String>,
    /// Kinds of packages that have addresses.
    pub ecosystems: Vec<Ecosystem>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stronger_layers_replace_single_values_and_add_to_lists() {
        let mut lower = BuildpackOptions::default();
        lower.set("docroot", OptionValue::Text("pages".to_owned()));
        lower.set("groups", OptionValue::AddedTexts(vec!["a".to_owned()]));
        lower.set("requirements", OptionValue::Texts(vec!["a.txt".to_owned()]));
        let mut upper = BuildpackOptions::default();
        upper.set("groups", OptionValue::AddedTexts(vec!["b".to_owned()]));
        upper.set("requirements", OptionValue::Texts(vec!["b.txt".to_owned()]));
        let merged = upper.over(lower);
        assert_eq!(merged.text("docroot"), Some("pages"));
        assert_eq!(merged.texts("groups"), ["a", "b"]);
        assert_eq!(merged.texts("requirements"), ["b.txt"]);
    }
}
