//! Keys and tables as JSON Schema.

use serde_json::{Map, Value, json};

/// Names of environment variables.
const VARIABLE: &str = "^[A-Za-z_][A-Za-z0-9_]*$";
/// Names of apps, process types, groups and the like.
const NAME: &str = "^[a-z](?:[a-z0-9-]{0,61}[a-z0-9])?$";
const SIZE: &str = "^[0-9]+ *(?:KiB|MiB|GiB|kB|MB|GB)$";
const SECONDS: &str = "^[0-9]+ *[sm]$";

/// The schema of one key's value.
#[derive(Clone)]
pub(super) struct Key(Value);

impl Key {
    pub(super) fn of(about: &str, schema: Value) -> Self {
        Self(schema).with("description", about.into())
    }

    fn with(mut self, keyword: &str, value: Value) -> Self {
        self.0[keyword] = value;
        self
    }

    /// A string.
    pub(super) fn text(about: &str) -> Self {
        Self::of(about, json!({ "type": "string" }))
    }

    /// A list of strings.
    pub(super) fn texts(about: &str) -> Self {
        Self::of(about, json!({ "type": "array", "items": { "type": "string" } }))
    }

    /// A list of some of these words.
    pub(super) fn some_of<T: serde::Serialize>(about: &str, words: T) -> Self {
        Self::of(about, json!({ "type": "array", "items": { "enum": words } }))
    }

    /// One of these words.
    pub(super) fn one_of<T: serde::Serialize>(about: &str, words: T) -> Self {
        Self::of(about, json!({ "enum": words }))
    }

    pub(super) fn truth(about: &str) -> Self {
        Self::of(about, json!({ "type": "boolean" }))
    }

    /// A whole number.
    pub(super) fn number(about: &str, minimum: u32) -> Self {
        Self::of(about, json!({ "type": "integer", "minimum": minimum }))
    }

    pub(super) fn at_most(self, maximum: u32) -> Self {
        self.with("maximum", maximum.into())
    }

    /// The name of an app, a process type and the like.
    pub(super) fn name(about: &str) -> Self {
        Self::text(about).matching(NAME)
    }

    /// A number of bytes, as in `256MiB`.
    pub(super) fn size(about: &str) -> Self {
        Self::text(about).matching(SIZE)
    }

    /// A time, as in `30s` or `2m`.
    pub(super) fn seconds(about: &str) -> Self {
        Self::text(about).matching(SECONDS)
    }

    /// A day, as in `2027-03-31`.
    pub(super) fn day(about: &str) -> Self {
        Self::of(about, json!({ "type": "string", "format": "date" })).example("2027-03-31")
    }

    pub(super) fn matching(self, pattern: &str) -> Self {
        self.with("pattern", pattern.into())
    }

    pub(super) fn default(self, value: impl Into<Value>) -> Self {
        self.with("default", value.into())
    }

    pub(super) fn example(self, value: impl Into<Value>) -> Self {
        let value = value.into();
        self.with("examples", json!([value]))
    }

    /// A table with these keys and no others.
    pub(super) fn table(about: &str, keys: impl IntoIterator<Item = (impl Into<String>, Self)>) -> Self {
        let keys: Map<String, Value> = keys.into_iter().map(|(name, key)| (name.into(), key.0)).collect();
        Self::of(about, json!({ "type": "object", "properties": keys, "additionalProperties": false }))
    }

    /// Of a table: the keys that it has to have.
    pub(super) fn requiring(self, keys: &[&str]) -> Self {
        self.with("required", json!(keys))
    }

    /// A table whose keys are chosen by the author.
    pub(super) fn tables(about: &str, each: Self) -> Self {
        Self::of(about, json!({ "type": "object", "additionalProperties": each.0 }))
    }

    /// A table whose keys are names, as [`Key::name`] has them.
    pub(super) fn named(about: &str, each: Self) -> Self {
        Self::tables(about, each).with("propertyNames", json!({ "pattern": NAME }))
    }

    /// A table whose keys are environment variables.
    pub(super) fn variables(about: &str, each: Self) -> Self {
        Self::tables(about, each).with("propertyNames", json!({ "pattern": VARIABLE }))
    }

    /// Of a table: further keys, by a pattern.
    pub(super) fn with_pattern(self, pattern: &str, each: Self) -> Self {
        self.with("patternProperties", json!({ pattern: each.0 }))
    }

    /// Any of these forms.
    pub(super) fn any_of(about: &str, forms: impl IntoIterator<Item = Self>) -> Self {
        let forms: Vec<Value> = forms.into_iter().map(|form| form.0).collect();
        Self::of(about, json!({ "anyOf": forms }))
    }

    /// The schema of a whole file.
    pub(super) fn file(self, title: &str) -> Value {
        self.with("$schema", "https://json-schema.org/draft/2020-12/schema".into())
            .with("title", title.into())
            .0
    }
}
