//! The record: how an image came about, as a pure function of the build's inputs.
//!
//! It names no time, host or folder, and never the value of a secret setting. Its format has a
//! version of its own.

use crate::linkage::Needs;
use crate::plan::Worklist;
use crate::survey::Survey;
use content::image::Descriptor;
use content::layer::{Codec, WrittenLayer};
use content::{BlobDigest, DiffId, InputDigest, StepKey, TreeDigest};
use engine::{Finished, Produced, StepGraph};
use model::pins::Composition;
use model::{Evidence, PackageFact, ProcessType, Role, RuntimeInUse, Service, SettingRule};
use planning::PlannedPackages;
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
    /// How the base was composed, where it consists of packages of a distribution.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub composition: Option<Composition>,
    /// Environment that the base gives every process.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub base_env: BTreeMap<String, String>,
    /// What the layers of the app need of base and runtimes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needs: Option<Needs>,
    /// What the image was built on, where it was put on another base since.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub built_on: Option<BuiltOn>,
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
    /// Services that the app needs while it runs.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub services: BTreeMap<String, Service>,
    /// The rules of the settings.
    pub settings: BTreeMap<String, SettingRule>,
}

/// The base that an image was built on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct BuiltOn {
    /// Its name.
    pub base: String,
    /// Digest of the index of the image that was built.
    #[schemars(with = "String")]
    pub image: BlobDigest,
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

impl StepRecord {
    /// The step of the graph with this key.
    pub fn of(graph: &StepGraph<'_>, key: StepKey) -> Option<Self> {
        let node = graph.graph.node(key)?;
        Some(Self {
            name: node.step.name.clone(),
            key,
            inputs: node.inputs.iter().map(|i| (i.name.to_owned(), i.digest)).collect(),
            needs: graph.graph.needs(key).to_vec(),
        })
    }
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
    /// The layer of a step that went well.
    pub fn of(finished: &Finished) -> Self {
        let Finished { outcome, produced: Produced { layer, .. }, .. } = finished;
        Self {
            role: outcome.role,
            step: outcome.step.clone(),
            digest: layer.digest,
            diff_id: layer.diff_id,
            size: layer.size,
            raw_size: layer.raw_size,
            codec: layer.codec,
        }
    }

    /// The layer as it was written.
    pub fn written(&self) -> WrittenLayer {
        let Self { digest, diff_id, size, raw_size, codec, .. } = *self;
        WrittenLayer { digest, diff_id, size, raw_size, codec }
    }

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

/// The packages, each with the places in the list of those that it needs.
fn related(mut packages: Vec<PackageFact>, planned: &PlannedPackages) -> Vec<PackageFact> {
    let plain = |package: &PackageFact| package.purl.split('?').next().unwrap_or_default().to_owned();
    let mut places: BTreeMap<String, usize> = BTreeMap::new();
    for (place, package) in packages.iter().enumerate() {
        places.entry(plain(package)).or_insert(place);
    }
    for package in &mut packages {
        let needs = planned.get(&plain(package)).map(|planned| &planned.needs);
        package.needs.extend(needs.into_iter().flatten().filter_map(|need| places.get(need).copied()));
        package.needs.sort_unstable();
    }
    packages
}

/// The packages of all layers, each with the number of its layer. What steps say of needs is counted from their own first
/// package.
fn packages_of(layers: &[&Finished]) -> Vec<PackageFact> {
    let mut all: Vec<PackageFact> = Vec::new();
    for (number, finished) in layers.iter().enumerate() {
        let first = all.len();
        all.extend(finished.produced.packages.iter().cloned().map(|package| PackageFact {
            layer: Some(number),
            needs: package.needs.iter().map(|place| place + first).collect(),
            ..package
        }));
    }
    all
}

impl Record {
    /// The record of a build from all that it was made of.
    pub fn of(survey: &Survey, worklist: &Worklist, built: &BuiltSteps<'_>, needs: Needs) -> Self {
        let BuiltSteps { graph, wanted, finished } = *built;
        let results: Vec<&Finished> = wanted.iter().filter_map(|key| finished.get(key)).collect();
        let for_build = graph.in_order(wanted).into_iter().filter(|key| !wanted.contains(key));
        let step = |key: StepKey| StepRecord::of(graph, key);
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
            composition: worklist.composition.clone(),
            base_env: worklist.base_env.clone(),
            needs: Some(needs),
            built_on: None,
            buildpacks: survey.chosen_findings().map(buildpack).collect(),
            runtimes: worklist.runtimes.clone(),
            tools: worklist.tools.clone(),
            packages: related(packages_of(&results), &worklist.packages),
            steps: wanted.iter().copied().filter_map(step).collect(),
            build_steps: for_build.filter_map(step).collect(),
            layers: results.into_iter().map(LayerRecord::of).collect(),
            processes: survey.processes.clone(),
            services: survey.services.clone(),
            settings: survey.settings.clone(),
        }
    }
}
