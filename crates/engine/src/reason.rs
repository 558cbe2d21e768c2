//! Why a step has to run: an answer in types, worded elsewhere.

use crate::key::{Input, LayerTarget};
use content::StepKey;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Why the result of a step is not in the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "reason")]
pub enum MissReason {
    /// This app never ran the step here.
    First,
    /// Inputs differ from the last time.
    Changed {
        /// What changed, in the order of the inputs.
        changes: Vec<Change>,
    },
    /// The same inputs, but layers are now written in another way or for another platform.
    OtherForm {
        /// As the last time.
        from: String,
        /// As wanted now.
        to: String,
    },
    /// The step ran with these inputs, but its result is gone from the store.
    ResultGone,
}

/// What changed in one input.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// The input.
    pub input: String,
    /// Parts that are new.
    pub added: Vec<String>,
    /// Parts that are gone.
    pub removed: Vec<String>,
    /// Parts that differ: name, old value, new value.
    pub changed: Vec<(String, String, String)>,
}

/// The inputs of a step when it last ran for an app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LastInputs {
    key: StepKey,
    form: String,
    inputs: BTreeMap<String, BTreeMap<String, String>>,
}

impl LastInputs {
    /// What to remember of a step that ran.
    pub fn of(key: StepKey, inputs: &[Input], form: &LayerTarget) -> Self {
        let inputs = inputs.iter().map(|i| (i.name.to_owned(), i.parts.clone())).collect();
        Self { key, form: describe(form), inputs }
    }
}

fn describe(form: &LayerTarget) -> String {
    format!("{} {}", form.codec.name(), form.platform)
}

/// Why a step whose result is missing has to run, judged by what it last ran with.
pub fn compare(last: Option<&LastInputs>, key: StepKey, inputs: &[Input], form: &LayerTarget) -> MissReason {
    let Some(last) = last else { return MissReason::First };
    if last.key == key {
        return MissReason::ResultGone;
    }
    let changes: Vec<Change> = inputs.iter().filter_map(|input| change_of(last, input)).collect();
    if changes.is_empty() {
        return MissReason::OtherForm { from: last.form.clone(), to: describe(form) };
    }
    MissReason::Changed { changes }
}

fn change_of(last: &LastInputs, input: &Input) -> Option<Change> {
    let none = BTreeMap::new();
    let old = last.inputs.get(input.name).unwrap_or(&none);
    let new = &input.parts;
    let change = Change {
        input: input.name.to_owned(),
        added: new.keys().filter(|k| !old.contains_key(*k)).cloned().collect(),
        removed: old.keys().filter(|k| !new.contains_key(*k)).cloned().collect(),
        changed: new
            .iter()
            .filter_map(|(k, v)| old.get(k).filter(|o| *o != v).map(|o| (k.clone(), o.clone(), v.clone())))
            .collect(),
    };
    let same = change.added.is_empty() && change.removed.is_empty() && change.changed.is_empty();
    (!same).then_some(change)
}

#[cfg(test)]
mod tests {
    use super::*;
    use content::layer::Codec;

    #[test]
    fn every_reason_is_told_apart() {
        let form = |codec| LayerTarget { codec, platform: "linux/amd64".to_owned() };
        let input = |parts: &[(&str, &str)]| {
            let parts = parts.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
            vec![Input::of_parts("packages", parts)]
        };
        let (old, zstd) = (input(&[("fog", "1"), ("quay", "2")]), form(Codec::Zstd));
        let key = super::super::key::step_key("s", &old, &zstd);
        let last = LastInputs::of(key, &old, &zstd);
        let reason = |inputs: &[Input], form: &LayerTarget| {
            compare(Some(&last), super::super::key::step_key("s", inputs, form), inputs, form)
        };
        assert_eq!(compare(None, key, &old, &zstd), MissReason::First);
        assert_eq!(reason(&old, &zstd), MissReason::ResultGone);
        assert!(matches!(reason(&old, &form(Codec::Gzip)), MissReason::OtherForm { .. }));
        let new = input(&[("fog", "3"), ("tern", "1")]);
        let expected = Change {
            input: "packages".into(),
            added: vec!["tern".into()],
            removed: vec!["quay".into()],
            changed: vec![("fog".into(), "1".into(), "3".into())],
        };
        assert_eq!(reason(&new, &zstd), MissReason::Changed { changes: vec![expected] });
    }
}
