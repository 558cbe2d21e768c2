//! Inputs of steps and the keys made from them.

use content::digest::Hasher;
use content::layer::{Codec, LAYER_FORMAT};
use content::{InputDigest, StepKey};
use std::collections::BTreeMap;

/// Version of what steps do; a change of it runs every step again.
const STEP_FORMAT: u32 = 1;

/// A named input of a step. Its parts say what changed when its digest does.
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
    let mut hasher = Hasher::new();
    for (name, value) in parts {
        for text in [name, value] {
            hasher.update(text.as_bytes());
            hasher.update(b"\0");
        }
    }
    InputDigest(hasher.finish())
}

/// What all steps of a build share: it is part of every key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LayerTarget {
    /// How layers are compressed.
    pub codec: Codec,
    /// Operating system and processor, as in `linux/amd64`.
    pub platform: String,
}

pub(super) fn step_key(step: &str, inputs: &[Input], form: &LayerTarget) -> StepKey {
    let mut text = format!(
        "shtetl step {STEP_FORMAT}\nlayers {LAYER_FORMAT} {}\n{}\n{step}\n",
        form.codec.name(),
        form.platform
    );
    for input in inputs {
        text.push_str(&format!("{} {}\n", input.name, input.digest));
    }
    StepKey::of(text.as_bytes())
}
