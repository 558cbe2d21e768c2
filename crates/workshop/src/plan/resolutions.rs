//! What the buildpacks of an app settle before it is planned.

use super::{Sources, context_of, fetching};
use crate::survey::contributing;
use engine::Fetches;
use model::{Result, RuntimeInUse};
use planning::{Base, NewHash, NewlyResolved, Resolution, Resolving};
use std::collections::{BTreeMap, BTreeSet};

/// By buildpack.
#[derive(Default)]
pub struct Resolutions {
    /// For the image.
    pub(super) image: BTreeMap<String, Resolution>,
    /// For the app's own build command.
    pub(super) build: BTreeMap<String, Resolution>,
    /// What the app's own build command fetches while it runs.
    pub(super) fetches: Option<Fetches>,
}

impl Resolutions {
    /// Asks the buildpacks: those that contribute to the image, and those that the build command wants something of.
    pub fn of(
        sources: &Sources<'_>,
        base: &dyn Base,
        platform: &str,
        resolving: &Resolving<'_>,
    ) -> Result<Self> {
        let mut all = Self::default();
        for finding in contributing(sources.survey, sources.config) {
            let Some(buildpack) = sources.buildpacks.named(&finding.buildpack) else { continue };
            let runtime = runtime_of(sources, finding, base)?;
            let options = sources.options(&finding.buildpack);
            let context = context_of(sources, finding, platform, (&options, runtime.as_ref()), base);
            all.image.insert(finding.buildpack.clone(), buildpack.resolve(&context, resolving)?);
        }
        for tool in sources.survey.build.iter().flat_map(|build| &build.command.tools) {
            let finding = sources.survey.chosen_findings().find(|finding| finding.buildpack == *tool);
            let (Some(finding), Some(buildpack)) = (finding, sources.buildpacks.named(tool)) else {
                continue;
            };
            let (runtime, options) = (base.tool(tool)?, sources.options(tool));
            let context = context_of(sources, finding, platform, (&options, Some(&runtime)), base);
            all.build.insert(tool.clone(), buildpack.resolve_for_build(&context, resolving)?);
        }
        let command = sources.survey.build.as_ref().map(|build| &build.command);
        if let Some(command) = command.filter(|command| !command.fetch.is_empty()) {
            all.fetches = Some(fetching::settle(command, sources.addresses, resolving)?);
        }
        Ok(all)
    }

    fn all(&self) -> impl Iterator<Item = &Resolution> {
        self.image.values().chain(self.build.values())
    }

    /// What steps will run.
    pub fn tools(&self) -> BTreeSet<&'static str> {
        self.all().flat_map(|resolution| resolution.tools.iter().copied()).collect()
    }

    /// What people should know.
    pub fn notes(&self) -> impl Iterator<Item = &String> {
        self.all().flat_map(|resolution| &resolution.notes)
    }

    /// What is to be pinned.
    pub(crate) fn into_pins(self) -> (Vec<NewlyResolved>, Vec<NewHash>) {
        let (mut resolved, mut hashes) = (Vec::new(), Vec::new());
        for resolution in self.image.into_values().chain(self.build.into_values()) {
            resolved.extend(resolution.resolved);
            hashes.extend(resolution.hashes);
        }
        (resolved, hashes)
    }
}

/// The runtime of a finding, if it wants one: that of the image, or what only builds.
pub(super) fn runtime_of(
    sources: &Sources<'_>,
    finding: &model::Finding,
    base: &dyn Base,
) -> Result<Option<RuntimeInUse>> {
    let Some(wish) = &finding.runtime else { return Ok(None) };
    let runtime = match wish.for_build {
        true => base.tool(&wish.runtime)?,
        false => base.runtime(&wish.runtime)?.runtime,
    };
    if let Some(buildpack) = sources.buildpacks.named(&finding.buildpack) {
        super::check_constraint(buildpack, wish, &runtime)?;
    }
    Ok(Some(runtime))
}
