//! What of the images of a town is behind: bases and runtimes that nobody supports any more, and packages of the distribution
//! that have newer versions.

use bases::catalogue::{unsupported_since, until};
use bases::debian::{Archives, SeenSuites, Suite, architecture};
use model::{PackageFact, Result};
use remote::packages::debian::compare;
use serde::Serialize;
use std::cmp::Ordering;
use workshop::record::Record;

/// Something of an image that is behind.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Behind {
    /// The base has been unsupported since that day.
    Base { base: String, since: String },
    /// The runtime has been unsupported since that day.
    Runtime { runtime: String, version: String, since: String },
    /// The runtime will not be supported for long any more.
    RuntimeSoon { runtime: String, version: String, until: String },
    /// The distribution has a newer version.
    Package { name: String, version: String, newest: String },
}

/// In nanoseconds: what ends within half a year ends soon.
const SOON: i64 = 183 * 86_400 * 1_000_000_000;

/// What of a record is past its support, or soon will be. `now` is in nanoseconds since 1970.
pub fn unsupported(record: &Record, now: i64) -> Vec<Behind> {
    let mut found = Vec::new();
    if let Some(suite) = record.base.strip_prefix("debian:")
        && let Some(since) = unsupported_since("debian", suite, now)
    {
        found.push(Behind::Base { base: record.base.clone(), since });
    }
    for in_use in &record.runtimes {
        let (runtime, version) = (in_use.name.clone(), in_use.version.clone());
        if let Some(since) = unsupported_since(&runtime, &version, now) {
            found.push(Behind::Runtime { runtime, version, since });
        } else if let Some(until) = until(&runtime, &version)
            .filter(|_| unsupported_since(&in_use.name, &in_use.version, now.saturating_add(SOON)).is_some())
        {
            found.push(Behind::RuntimeSoon { runtime, version, until });
        }
    }
    found
}

/// Which packages of the distribution are behind its newest state.
pub fn packages_behind(record: &Record, archives: &Archives<'_>, seen: &SeenSuites) -> Result<Vec<Behind>> {
    let suite = record.base.strip_prefix("debian:").and_then(Suite::named);
    let (Some(suite), Some(architecture)) = (suite, architecture(&record.platform)) else {
        return Ok(Vec::new());
    };
    let index = seen.index(archives, suite, architecture)?;
    let behind = |package: &PackageFact| {
        let newest = index.newest_version(&package.name)?;
        let is_behind = compare(&package.version, newest) == Ordering::Less;
        is_behind.then(|| Behind::Package {
            name: package.name.clone(),
            version: package.version.clone(),
            newest: newest.to_owned(),
        })
    };
    let of_debian = record.packages.iter().filter(|package| package.purl.starts_with("pkg:deb/"));
    Ok(of_debian.filter_map(behind).collect())
}
