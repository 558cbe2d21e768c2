//! What the resolvers of languages share: how an error comes through the algorithm, and how a conflict is explained.

use model::error::PackageError;
use model::{Error, Result};
use pubgrub::{DependencyProvider, DerivationTree, External, PubGrubError, VersionSet};
use std::collections::BTreeSet;
use std::fmt;

/// The app itself, among names of packages.
pub const APP: &str = "";

/// An error on its way through the algorithm.
#[derive(Debug)]
pub struct Carried(Box<Error>);

impl Carried {
    /// Takes an error along.
    pub fn of(error: Error) -> Self {
        Self(Box::new(error))
    }

    /// The error.
    pub fn into_error(self) -> Error {
        *self.0
    }
}

impl fmt::Display for Carried {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl std::error::Error for Carried {}

/// What the algorithm chose, or why it chose nothing: the requirements that cannot all be met, those of the app first, with
/// what `lacking` says of a package of which no version can be taken.
pub fn explained<S, T>(
    chosen: Result<T, PubGrubError<S>>,
    lacking: impl Fn(&str, &S::VS) -> Option<String>,
) -> Result<T>
where
    S: DependencyProvider<P = String, M = String, Err = Carried>,
{
    chosen.map_err(|error| match error {
        PubGrubError::NoSolution(tree) => {
            let mut facts = BTreeSet::new();
            gather(&tree, &lacking, &mut facts);
            let facts = facts.into_iter().map(|(_, fact)| fact).collect();
            Error::Package(PackageError::NoSolution { facts })
        }
        PubGrubError::ErrorRetrievingDependencies { source, .. }
        | PubGrubError::ErrorChoosingVersion { source, .. }
        | PubGrubError::ErrorInShouldCancel(source) => source.into_error(),
    })
}

/// Gathers what is at the ends of a derivation.
fn gather<VS: VersionSet>(
    tree: &DerivationTree<String, VS, String>,
    lacking: &impl Fn(&str, &VS) -> Option<String>,
    facts: &mut BTreeSet<(u8, String)>,
) {
    match tree {
        DerivationTree::Derived(derived) => {
            gather(&derived.cause1, lacking, facts);
            gather(&derived.cause2, lacking, facts);
        }
        DerivationTree::External(External::FromDependencyOf(package, versions, need, wanted)) => {
            let who = if package == APP { "the app".to_owned() } else { format!("{package} {versions}") };
            let wanted_text = if *wanted == VS::full() { String::new() } else { format!(" {wanted}") };
            facts.insert((u8::from(package != APP), format!("{who} requires {need}{wanted_text}")));
            facts.extend(lacking(need, wanted).map(|fact| (2, fact)));
        }
        DerivationTree::External(_) => {}
    }
}
