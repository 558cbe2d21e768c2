//! The base of an app that names none.

use crate::buildpacks::Buildpacks;
use bases::debian::{SUITES, Suite};
use model::places::DEFAULT;
use model::{Finding, Place};

/// A runtime that comes in any version, whatever the base.
const ANYWHERE: &str = "node";

/// The newest suite whose runtime meets all that the source says, or as much of it as any suite meets, the strongest first;
/// with the place that excludes a newer suite.
pub(super) fn of(main: Option<&Finding>, buildpacks: &Buildpacks) -> (String, Option<Place>) {
    let default = || (DEFAULT.to_owned(), None);
    let Some(wish) = main.and_then(|main| main.runtime.as_ref()) else { return default() };
    let buildpack = main.and_then(|main| buildpacks.named(&main.buildpack));
    let Some(buildpack) = buildpack.filter(|_| wish.runtime != ANYWHERE && !wish.for_build) else {
        return default();
    };
    let meets = |suite: &Suite, range: &str| {
        let own = suite.runtimes.iter().filter(|own| own.name == wish.runtime);
        // Errors are reported where the value is needed.
        own.into_iter().any(|own| buildpack.accepts(range, own.version) != Some(false))
    };
    let said: Vec<&(String, Place)> = wish.constraint.iter().chain(&wish.also_said).collect();
    // First all that is said has to be met, then all but the last, and so on.
    for count in (1..=said.len()).rev() {
        let is_met = |suite: &&Suite| said[..count].iter().all(|(range, _)| meets(suite, range));
        if let Some(suite) = SUITES.iter().find(is_met) {
            let newest = &SUITES[0];
            let excluding = said[..count].iter().find(|(range, _)| !meets(newest, range));
            return match excluding {
                Some((_, place)) if suite.name != newest.name => {
                    (format!("debian:{}", suite.name), Some(place.clone()))
                }
                _ => default(),
            };
        }
    }
    default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use model::RuntimeWish;

    fn base(runtime: &str, said: &[&str]) -> String {
        let mut finding = Finding::nothing(runtime, Vec::new());
        let said = said.iter().map(|range| ((*range).to_owned(), Place::new("file", None))).collect();
        finding.runtime = Some(RuntimeWish::of(runtime, None, said));
        of(Some(&finding), &Buildpacks::built_in()).0
    }

    #[test]
    fn the_newest_suite_is_taken_that_has_what_the_source_says() {
        for (runtime, said, expected) in [
            ("python", &[][..], "debian:trixie"),
            ("python", &[">=3.9"][..], "debian:trixie"),
            ("python", &["3.11"][..], "debian:bookworm"),
            ("python", &[">=3.9", "3.11"][..], "debian:bookworm"),
            // What comes first is stronger.
            ("python", &[">=3.12", "3.11"][..], "debian:trixie"),
            ("python", &["3.7"][..], "debian:trixie"),
            ("php", &["^8.2 <8.3"][..], "debian:bookworm"),
            ("node", &["18"][..], "debian:trixie"),
        ] {
            assert_eq!(base(runtime, said), expected, "{runtime} {said:?}");
        }
    }
}
