//! The record: how an image came about, as a pure function of the build's inputs.
//!
//! It names no time, host or folder, and never the value of a secret setting. Its format has a
//! version of its own.

use crate::plan::Worklist;
use crate::survey::Survey;
use content::image::Descriptor;
use content::layer::Codec;
use content::{BlobDigest, DiffId, InputDigest, StepKey, TreeDigest};
use engine::{Produced, Step, StepOutcome};
use model::{Evidence, PackageFact, ProcessType, Role, RuntimeInUse, SettingRule};
use serde::{Deserialize, Serialize};
use source::Revision;
use std::collections::BTreeMap;

/// The name and version of the record's format.
pub const FORMAT: &str = "shtetl/record/1";

/// The record of a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Record {
    /// [`FORMAT`].
    pub format: String,
    /// The app's name.
    pub name: String,
    /// Digest of the source tree.
    #[schemars(with = "String")]
    pub source: TreeDigest,
    /// The commit that it was taken from, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<Revision>,
    /// Operating system and processor, as in `linux/amd64`.
    pub platform: String,
    /// What lies under the app.
    pub base: String,
    /// The buildpacks that built, in order, with what they saw.
    pub buildpacks: Vec<BuildpackRecord>,
    /// The runtimes.
    pub runtimes: Vec<RuntimeInUse>,
    /// What steps ran to build it; it is not in the image.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tools: Vec<RuntimeInUse>,
    /// Every package in the image.
    pub packages: Vec<PackageFact>,
    /// The steps with their keys and inputs.
    pub steps: Vec<StepRecord>,
    /// The layers, bottom to top.
    pub layers: Vec<LayerRecord>,
    /// The process types, the default one first.
    pub processes: Vec<ProcessType>,
    /// The rules of the settings.
    pub settings: BTreeMap<String, SettingRule>,
}

/// A buildpack that built.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct BuildpackRecord {
    /// Its name.
    pub name: String,
    /// What it saw.
    pub evidence: Vec<Evidence>,
}

/// A step of the build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct StepRecord {
    /// Its name.
    pub name: String,
    /// The key of its result.
    #[schemars(with = "String")]
    pub key: StepKey,
    /// Its inputs.
    #[schemars(with = "BTreeMap<String, String>")]
    pub inputs: BTreeMap<String, InputDigest>,
}

/// A layer of the image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LayerRecord {
    /// What it is for.
    pub role: Role,
    /// The step that wrote it.
    pub step: String,
    /// Digest of the blob.
    #[schemars(with = "String")]
    pub digest: BlobDigest,
    /// Digest of the tar bytes.
    #[schemars(with = "String")]
    pub diff_id: DiffId,
    /// Length of the blob in bytes.
    pub size: u64,
    /// Length of the tar bytes.
    pub raw_size: u64,
    /// How it is compressed.
    #[schemars(with = "String")]
    pub codec: Codec,
}

impl LayerRecord {
    /// The layer's descriptor in a manifest.
    pub fn descriptor(&self) -> Descriptor {
        Descriptor {
            media_type: self.codec.media_type().to_owned(),
            digest: self.digest,
            size: self.size,
            platform: None,
            annotations: BTreeMap::new(),
        }
    }
}

impl Record {
    /// The record of a build from all that it was made of.
    pub fn of(survey: &Survey, worklist: &Worklist, results: &[(StepOutcome, Produced)]) -> Self {
        let step = |(step, (outcome, _)): (&Step, &(StepOutcome, Produced))| StepRecord {
            name: step.name.clone(),
            key: outcome.key,
            inputs: step.inputs.iter().map(|i| (i.name.to_owned(), i.digest)).collect(),
        };
        let layer = |(outcome, result): &(StepOutcome, Produced)| LayerRecord {
            role: outcome.role,
            step: outcome.step.clone(),
            digest: result.layer.digest,
            diff_id: result.layer.diff_id,
            size: result.layer.size,
            raw_size: result.layer.raw_size,
            codec: result.layer.codec,
        };
        let buildpack = |f: &model::Finding| BuildpackRecord {
            name: f.buildpack.to_owned(),
            evidence: f.evidence.clone(),
        };
        Self {
            format: FORMAT.to_owned(),
            name: survey.name.clone(),
            source: worklist.source,
            revision: survey.revision.clone(),
            platform: worklist.form.platform.clone(),
            base: survey.base.0.clone(),
            buildpacks: survey.chosen_findings().map(buildpack).collect(),
            runtimes: worklist.runtimes.clone(),
            tools: worklist.tools.clone(),
            packages: results.iter().flat_map(|(_, r)| r.packages.clone()).collect(),
            steps: worklist.steps.iter().zip(results).map(step).collect(),
            layers: results.iter().map(layer).collect(),
            processes: survey.processes.clone(),
            settings: survey.settings.clone(),
        }
    }
}
