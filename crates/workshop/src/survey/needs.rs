//! What a survey comes to: the findings that contribute, and the runtimes and tools that they need.

use super::Survey;
use config::AppConfig;
use model::{Claim, Finding, RuntimeWish};
use std::collections::BTreeSet;

/// The findings of the buildpacks that contribute to the image.
pub fn contributing<'s>(survey: &'s Survey, config: &AppConfig) -> impl Iterator<Item = &'s Finding> {
    let ordered = config.order.is_some();
    // A part without a step of its own needs no runtime in the image.
    let only_first = survey.pages.is_some();
    let counts = move |(number, f): &(usize, &Finding)| {
        *number == 0 || !only_first && (f.claim != Claim::Part || ordered)
    };
    survey.chosen_findings().enumerate().filter(counts).map(|(_, finding)| finding)
}

/// The runtimes that an image of this survey needs, each with what is wanted of it.
pub fn needed_runtimes<'s>(survey: &'s Survey, config: &AppConfig) -> Vec<&'s RuntimeWish> {
    let mut needed: Vec<&RuntimeWish> = Vec::new();
    for wish in contributing(survey, config).filter_map(|f| f.runtime.as_ref()) {
        if !wish.for_build && needed.iter().all(|known| known.runtime != wish.runtime) {
            needed.push(wish);
        }
    }
    needed
}

/// The names of what a build runs, and no image has.
pub fn needed_tools(survey: &Survey, config: &AppConfig) -> BTreeSet<String> {
    let wishes = contributing(survey, config).filter_map(|f| f.runtime.as_ref());
    let found = wishes.filter(|wish| wish.for_build).map(|wish| wish.runtime.to_owned());
    found.chain(survey.build.iter().flat_map(|build| build.command.tools.iter().cloned())).collect()
}
