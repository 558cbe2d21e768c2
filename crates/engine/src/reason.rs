//! Why a step has to run: an answer in types, worded elsewhere.

use crate::fingerprint::Input;
use crate::key::LayerTarget;
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
    /// The same inputs, but this version of the program does it in another way.
    NewRecipe,
    /// The same inputs, but steps that it needs have other results.
    Needs {
        /// These steps.
        steps: Vec<String>,
    },
    /// What its programs fetch is not pinned yet.
    NothingPinned,
    /// The step ran with these inputs, but its result is gone from the store.
    ResultGone,
    /// The step ran with these inputs, but its result in the store was damaged.
    ResultDamaged,
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

/// What a step was made from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct MadeFrom<'a> {
    /// Its key.
    pub key: StepKey,
    /// Its inputs.
    pub inputs: &'a [Input],
    /// What its layer is for.
    pub target: &'a LayerTarget,
    /// The steps that it needs, with their keys.
    pub needs: BTreeMap<String, StepKey>,
}

/// A step as it last ran for an app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct LastRun {
    key: StepKey,
    form: String,
    inputs: BTreeMap<String, BTreeMap<String, String>>,
    #[serde(default)]
    needs: BTreeMap<String, StepKey>,
    /// How long it took.
    pub milliseconds: u64,
}

impl LastRun {
    /// What to remember of a step that ran.
    pub fn of(made_from: &MadeFrom<'_>, milliseconds: u64) -> Self {
        let inputs = made_from.inputs.iter().map(|i| (i.name.to_owned(), i.parts.clone())).collect();
        let (form, needs) = (describe(made_from.target), made_from.needs.clone());
        Self { key: made_from.key, form, inputs, needs, milliseconds }
    }
}

fn describe(target: &LayerTarget) -> String {
    format!("{} {}", target.codec.name(), target.platform)
}

/// Why a step whose result is missing has to run, judged by how it last ran.
pub fn compare(last: Option<&LastRun>, now: &MadeFrom<'_>) -> MissReason {
    let Some(last) = last else { return MissReason::First };
    if last.key == now.key {
        return MissReason::ResultGone;
    }
    let changes: Vec<Change> = now.inputs.iter().filter_map(|input| change_of(last, input)).collect();
    if !changes.is_empty() {
        return MissReason::Changed { changes };
    }
    let to = describe(now.target);
    if last.form != to {
        return MissReason::OtherForm { from: last.form.clone(), to };
    }
    let is_other = |(name, key): &(&String, &StepKey)| last.needs.get(*name) != Some(*key);
    let steps: Vec<String> = now.needs.iter().filter(is_other).map(|(name, _)| name.clone()).collect();
    match steps.is_empty() {
        true => MissReason::NewRecipe,
        false => MissReason::Needs { steps },
    }
}

fn change_of(last: &LastRun, input: &Input) -> Option<Change> {
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
        let target = |codec| LayerTarget { codec, platform: "linux/amd64".to_owned() };
        let input = |parts: &[(&str, &str)]| {
            let parts = parts.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
            vec![Input::of_parts("packages", parts)]
        };
        let (old, zstd, gzip) =
            (input(&[("fog", "1"), ("quay", "2")]), target(Codec::Zstd), target(Codec::Gzip));
        let [first, other] = [b"first", b"other"].map(|bytes| StepKey::of(bytes));
        let needs = BTreeMap::from([("moulds".to_owned(), first)]);
        let before = MadeFrom { key: first, inputs: &old, target: &zstd, needs };
        let last = LastRun::of(&before, 7);
        let reason = |now: &MadeFrom<'_>| compare(Some(&last), now);
        assert_eq!(compare(None, &before), MissReason::First);
        assert_eq!(reason(&before), MissReason::ResultGone);
        assert_eq!(reason(&MadeFrom { key: other, ..before.clone() }), MissReason::NewRecipe);
        let in_gzip = MadeFrom { key: other, target: &gzip, ..before.clone() };
        assert!(matches!(reason(&in_gzip), MissReason::OtherForm { .. }));
        let new = input(&[("fog", "3"), ("tern", "1")]);
        let expected = Change {
            input: "packages".into(),
            added: vec!["tern".into()],
            removed: vec!["quay".into()],
            changed: vec![("fog".into(), "1".into(), "3".into())],
        };
        let needs = BTreeMap::from([("moulds".to_owned(), other)]);
        let rebuilt = MadeFrom { key: other, needs, ..before.clone() };
        assert_eq!(reason(&rebuilt), MissReason::Needs { steps: vec!["moulds".into()] });
        let changed = MadeFrom { key: other, inputs: &new, ..before.clone() };
        assert_eq!(reason(&changed), MissReason::Changed { changes: vec![expected] });
    }
}
