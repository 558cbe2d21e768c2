//! What can be provided: runtimes by origin, with how long they are supported.

use crate::debian::SUITES;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Something that can be provided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Offer {
    /// The runtime, for example `node`.
    pub runtime: &'static str,
    /// The version, or which versions.
    pub version: String,
    /// Where it comes from.
    pub origin: String,
    /// Whether it only builds, and no image has it.
    pub for_building: bool,
    /// Until when its makers mend it (a date as in 2027-04-30), where that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub supported_until: Option<String>,
    /// Until when the distribution mends what it lies on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub base_supported_until: Option<String>,
}

/// Dates of the end of support.
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Support {
    as_of: String,
    #[serde(flatten)]
    series: BTreeMap<String, BTreeMap<String, String>>,
}

const SUPPORT: &str = include_str!("support.toml");

impl Support {
    fn read() -> Self {
        let empty = || Self { as_of: String::new(), series: BTreeMap::new() };
        // The file is part of this program; a test reads it.
        toml::from_str(SUPPORT).unwrap_or_else(|_| empty())
    }

    /// The date for a version: that of the longest series that it belongs to.
    fn until(&self, runtime: &str, version: &str) -> Option<String> {
        let belongs = |series: &str| version == series || version.starts_with(&format!("{series}."));
        let known = self.series.get(runtime)?.iter().filter(|(series, _)| belongs(series));
        known.max_by_key(|(series, _)| series.len()).map(|(_, until)| until.clone())
    }
}

/// When the dates were looked up.
pub fn as_of() -> String {
    Support::read().as_of
}

/// Everything that can be provided, by runtime and then the newest base first.
pub fn offers() -> Vec<Offer> {
    let support = Support::read();
    let mut offers = Vec::new();
    for suite in &SUITES {
        let runtimes = suite.runtimes.iter().map(|runtime| (runtime, false));
        for (runtime, for_building) in runtimes.chain(suite.tools.iter().map(|tool| (tool, true))) {
            offers.push(Offer {
                for_building,
                runtime: runtime.name,
                version: runtime.version.to_owned(),
                origin: format!("debian:{}", suite.name),
                supported_until: support.until(runtime.name, runtime.version),
                base_supported_until: support.until("debian", suite.name),
            });
        }
    }
    offers.push(Offer {
        runtime: "node",
        for_building: false,
        version: "any".to_owned(),
        origin: "the npm registry, on a Debian base".to_owned(),
        supported_until: None,
        base_supported_until: None,
    });
    for runtime in ["node", "python"] {
        offers.push(Offer {
            runtime,
            for_building: false,
            version: "this machine's".to_owned(),
            origin: "host".to_owned(),
            supported_until: None,
            base_supported_until: None,
        });
    }
    offers.sort_by_key(|offer| (offer.for_building, offer.runtime));
    offers
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_runtime_of_every_suite_has_a_date() {
        assert!(!as_of().is_empty());
        for offer in offers().into_iter().filter(|o| o.origin.starts_with("debian:")) {
            // How long Java is supported depends on who made the copy at hand: Debian's own date holds.
            let dated = offer.supported_until.is_some() || offer.runtime == "java" || offer.for_building;
            assert!(dated && offer.base_supported_until.is_some(), "{offer:?}");
        }
        assert_eq!(Support::read().until("python", "3.1.5"), None);
    }
}
