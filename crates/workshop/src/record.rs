//! The record: how an image came about, as a pure function of the build's inputs.
//!
//! It names no time, host or folder, and never the value of a secret setting. Its format has a
//! version of its own.

use crate::plan::Worklist;
use crate::survey::Survey;
use content::image::Descriptor;
use content::layer::Codec;
use content::{BlobDigest, DiffId, InputDigest, StepKey, TreeDigest};
use engine::{Finished, Produced, StepGraph};
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
    /// The steps of the layers, with their keys and inputs.
    pub steps: Vec<StepRecord>,
    /// The steps that only others needed; their layers are not in the image.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub build_steps: Vec<StepRecord>,
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
    /// The keys of the steps that it needs: the root of the programs that it runs, bottom first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schemars(with = "Vec<String>")]
    pub needs: Vec<StepKey>,
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

/// The steps of a build that went well.
#[derive(Clone, Copy)]
pub struct BuiltSteps<'b> {
    /// All steps, those of roots included.
    pub graph: &'b StepGraph<'b>,
    /// The keys of the image's own, bottom first.
    pub wanted: &'b [StepKey],
    /// What was looked up or ran, by key.
    pub finished: &'b BTreeMap<StepKey, Finished>,
}

/// The packages of a layer, which know its number.
fn packages_of_layer((number, finished): (usize, &&Finished)) -> Vec<PackageFact> {
    let packages = finished.produced.packages.iter().cloned();
    packages.map(|package| PackageFact { layer: Some(number), ..package }).collect()
}

impl Record {
    /// The record of a build from all that it was made of.
    pub fn of(survey: &Survey, worklist: &Worklist, built: &BuiltSteps<'_>) -> Self {
        let BuiltSteps { graph, wanted, finished } = *built;
        let results: Vec<&Finished> = wanted.iter().filter_map(|key| finished.get(key)).collect();
        let for_build = graph.in_order(wanted).into_iter().filter(|key| !wanted.contains(key));
        let step = |key: StepKey| {
            let node = graph.graph.node(key)?;
            Some(StepRecord {
                name: node.step.name.clone(),
                key,
                inputs: node.inputs.iter().map(|i| (i.name.to_owned(), i.digest)).collect(),
                needs: graph.graph.needs(key).to_vec(),
            })
        };
        let layer = |Finished { outcome, produced: Produced { layer, .. }, .. }: &Finished| LayerRecord {
            role: outcome.role,
            step: outcome.step.clone(),
            digest: layer.digest,
            diff_id: layer.diff_id,
            size: layer.size,
            raw_size: layer.raw_size,
            codec: layer.codec,
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
            platform: worklist.target.platform.clone(),
            base: survey.base.0.clone(),
            buildpacks: survey.chosen_findings().map(buildpack).collect(),
            runtimes: worklist.runtimes.clone(),
            tools: worklist.tools.clone(),
            packages: results.iter().enumerate().flat_map(packages_of_layer).collect(),
            steps: wanted.iter().copied().filter_map(step).collect(),
            build_steps: for_build.filter_map(step).collect(),
            layers: results.into_iter().map(layer).collect(),
            processes: survey.processes.clone(),
            settings: survey.settings.clone(),
        }
    }
}
