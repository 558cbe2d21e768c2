//! Packages of the distribution that gems cannot do without, under names that all suites have.

use model::Finding;
use std::collections::BTreeSet;

/// A gem, what it loads, and what compiling it takes.
const NEEDS: [(&str, &[&str], &[&str]); 5] = [
    ("curb", &[], &["libcurl4-openssl-dev"]),
    ("mysql2", &["libmariadb3"], &["libmariadb-dev"]),
    ("openssl", &[], &["libssl-dev"]),
    ("pg", &["libpq5"], &["libpq-dev"]),
    // What Ruby itself comes with loads the same library.
    ("psych", &[], &["libyaml-dev"]),
];

/// Adds what these gems need.
pub(super) fn add(gems: &BTreeSet<String>, finding: &mut Finding) {
    for (_, run, build) in NEEDS.iter().filter(|(gem, ..)| gems.contains(*gem)) {
        finding.system_packages.extend(run.iter().map(|name| (*name).to_owned()));
        finding.build_packages.extend(build.iter().map(|name| (*name).to_owned()));
    }
}
