//! The buildpacks of this program, in order.

use bases::debian::tool_names;
use model::{Ecosystem, KnownNames};
use planning::Buildpack;

/// Every buildpack, in the order in which they look at a source.
pub const ALL: [&dyn Buildpack; 7] =
    [&node::Node, &python::Python, &ruby::Ruby, &php::Php, &java::Java, &go::Go, &static_site::Pages];

/// The buildpack of this name.
pub fn named(name: &str) -> Option<&'static dyn Buildpack> {
    ALL.into_iter().find(|b| b.name() == name)
}

/// The names that configuration may use.
pub fn known_names() -> KnownNames {
    let ecosystems = ALL.iter().flat_map(|buildpack| buildpack.ecosystems());
    KnownNames {
        buildpacks: ALL.iter().map(|b| (b.name().to_owned(), b.options())).collect(),
        tools: tool_names().into_iter().map(str::to_owned).collect(),
        ecosystems: ecosystems.chain([Ecosystem::DEBIAN, Ecosystem::DEBIAN_SECURITY]).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::BuildpackOptions;
    use source::SourceTree;
    use std::collections::BTreeMap;

    #[test]
    fn every_entry_has_a_valid_name_of_its_own_and_says_what_it_looks_for() {
        let tree = SourceTree::new("/".into(), BTreeMap::new());
        let mut names = std::collections::BTreeSet::new();
        for buildpack in ALL {
            model::names::check("buildpack", buildpack.name()).unwrap();
            assert!(names.insert(buildpack.name()));
            let finding = buildpack.survey(&tree, &BuildpackOptions::default()).unwrap();
            assert!(finding.claim == model::Claim::None, "{} claims an empty tree", buildpack.name());
            assert!(!finding.looked_for.is_empty());
        }
    }
}
