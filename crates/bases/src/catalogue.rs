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
    /// Until when its makers support it (a date as in 2027-04-30), where that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub supported_until: Option<String>,
    /// Until when the distribution supports what it lies on.
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

/// Whether the makers of a version of a runtime still support it at `now`, in nanoseconds since 1970; what is not known
/// counts as supported.
pub fn is_supported(runtime: &str, version: &str, now: i64) -> bool {
    Support::read().until(runtime, version).is_none_or(|until| is_ahead(&until, now))
}

/// Since when the makers of a version of a runtime no longer support it at `now`: the last day on which they did.
pub fn unsupported_since(runtime: &str, version: &str, now: i64) -> Option<String> {
    Support::read().until(runtime, version).filter(|until| !is_ahead(until, now))
}

/// The last day of support for a version of a runtime, if known.
pub fn until(runtime: &str, version: &str) -> Option<String> {
    Support::read().until(runtime, version)
}

/// The number of the newest series of a runtime that is known.
pub fn newest_series(runtime: &str) -> Option<u64> {
    Support::read().series.get(runtime)?.keys().filter_map(|series| series.parse().ok()).max()
}

/// The series of a runtime that its makers support at `now`, the newest first.
pub fn supported(runtime: &str, now: i64) -> Vec<String> {
    let mut support = Support::read();
    let mut all: Vec<_> = support.series.remove(runtime).unwrap_or_default().into_iter().collect();
    all.retain(|(_, until)| is_ahead(until, now));
    all.sort_by(|(_, one), (_, other)| other.cmp(one));
    all.into_iter().map(|(series, _)| series).collect()
}

/// Whether a date as in 2027-04-30 is not over at `now`.
fn is_ahead(date: &str, now: i64) -> bool {
    const DAY: i64 = 86_400 * 1_000_000_000;
    let numbers: Vec<i64> = date.split('-').filter_map(|part| part.parse().ok()).collect();
    let [year, month, day] = numbers[..] else { return true };
    // Days since 1970, with years that begin in March, so that the leap day is the last one.
    let (years, months) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    let days =
        years * 365 + years / 4 - years / 100 + years / 400 + (months * 153 + 2) / 5 + day - 1 - 719_468;
    now < (days + 1) * DAY
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
    fn support_ends_after_its_last_day() {
        // 2026-05-01 began 1,777,593,600 seconds after 1970.
        let may = 1_777_593_600_000_000_000;
        assert!(is_supported("node", "20.19.2", may - 1) && !is_supported("node", "20.19.2", may));
        assert_eq!(supported("node", may), ["24", "22"]);
        assert!(is_supported("node", "99.0.0", may));
    }

    #[test]
    fn every_runtime_of_every_suite_has_a_date() {
        assert!(!as_of().is_empty());
        for offer in offers().into_iter().filter(|o| o.origin.starts_with("debian:")) {
            // How long Java is supported depends on who made the copy at hand, and the makers of nginx name no dates:
            // Debian's own date holds.
            let undated = matches!(offer.runtime, "java" | "nginx") || offer.for_building;
            let dated = offer.supported_until.is_some() || undated;
            assert!(dated && offer.base_supported_until.is_some(), "{offer:?}");
        }
        assert_eq!(Support::read().until("python", "3.1.5"), None);
    }
}
