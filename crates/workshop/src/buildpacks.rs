//! The effective buildpacks, in order.

use bases::debian::tool_names;
use model::error::ConfigError;
use model::{Ecosystem, Error, KnownNames, Result};
use planning::Buildpack;
use std::sync::Arc;

/// Buildpacks in the order in which they look at a source.
#[derive(Clone)]
pub struct Buildpacks(Vec<Arc<dyn Buildpack>>);

impl Buildpacks {
    /// Those that are part of this program.
    pub fn built_in() -> Self {
        Self(vec![
            Arc::new(node::Node),
            Arc::new(python::Python),
            Arc::new(ruby::Ruby),
            Arc::new(php::Php),
            Arc::new(java::Java),
            Arc::new(go::Go),
            Arc::new(static_site::StaticSite),
        ])
    }

    /// These and, in front of them, another one.
    pub fn with_first(mut self, buildpack: Arc<dyn Buildpack>) -> Self {
        self.0.insert(0, buildpack);
        self
    }

    /// These and, behind them, others; an error where a name is there twice.
    pub fn with_added(mut self, added: Vec<Arc<dyn Buildpack>>) -> Result<Self> {
        for buildpack in added {
            if self.named(buildpack.name()).is_some() {
                return Err(Error::Config(ConfigError::BuildpackTwice {
                    name: buildpack.name().to_owned(),
                    origin: buildpack.origin().unwrap_or_default().to_owned(),
                }));
            }
            self.0.push(buildpack);
        }
        Ok(self)
    }

    /// All of them, in order.
    pub fn iter(&self) -> impl Iterator<Item = &dyn Buildpack> {
        self.0.iter().map(AsRef::as_ref)
    }

    /// The buildpack of this name.
    pub fn named(&self, name: &str) -> Option<&dyn Buildpack> {
        self.iter().find(|buildpack| buildpack.name() == name)
    }

    /// The names that configuration may use.
    pub fn known_names(&self) -> KnownNames {
        let ecosystems = self.iter().flat_map(|buildpack| buildpack.ecosystems());
        KnownNames {
            buildpacks: self.iter().map(|b| (b.name().to_owned(), b.options())).collect(),
            tools: tool_names().into_iter().map(str::to_owned).collect(),
            ecosystems: ecosystems
                .chain([Ecosystem::DEBIAN, Ecosystem::DEBIAN_SECURITY, Ecosystem::FILES])
                .collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::{BuildpackOptions, Claim};
    use source::SourceTree;
    use std::collections::{BTreeMap, BTreeSet};

    #[test]
    fn every_buildpack_has_a_valid_name_of_its_own_and_says_what_it_looks_for() {
        let tree = SourceTree::new("/".into(), BTreeMap::new());
        let mut names = BTreeSet::new();
        let all = Buildpacks::built_in();
        for buildpack in all.iter() {
            model::names::check("buildpack", buildpack.name()).unwrap();
            assert!(names.insert(buildpack.name()));
            let finding = buildpack.survey(&tree, &BuildpackOptions::default()).unwrap();
            assert!(finding.claim == Claim::None, "{} claims an empty tree", buildpack.name());
            assert!(!finding.looked_for.is_empty());
        }
    }
}
