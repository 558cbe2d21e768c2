//! What the app's own build command may fetch.

use config::addresses::Addresses;
use engine::support_files::{self, SupportFile};
use engine::{Fetches, Step, parts_digest};
use gateway::Source;
use gateway::tools::{MAVEN_SETTINGS, maven_settings};
use model::error::ConfigError;
use model::shell_words::join;
use model::{BuildCommand, Ecosystem, Error, Result};
use planning::{BUILD_COMMAND, Resolving};
use std::collections::BTreeMap;

/// Settles what the command may fetch: what is pinned, or whatever it asks for.
pub(super) fn settle(
    command: &BuildCommand,
    addresses: &Addresses,
    resolving: &Resolving<'_>,
) -> Result<Fetches> {
    let source = |kind: &String| {
        let address = match kind.split_once(':') {
            Some((ecosystem, name)) => {
                let known = addresses.bound_to(Ecosystem::of(ecosystem), name).map(|known| known.address);
                known.ok_or_else(|| Error::Config(ConfigError::NoFiles { name: kind.clone() }))?
            }
            None => addresses.in_force(Ecosystem::of(kind))?.address,
        };
        Ok(Source { kind: kind.clone(), address })
    };
    let sources = command.fetch.iter().map(source).collect::<Result<Vec<_>>>()?;
    let asked = BTreeMap::from([
        ("run".to_owned(), join(&command.run)),
        ("fetch".to_owned(), command.fetch.join(" ")),
        ("platform".to_owned(), model::platform::own_platform()),
    ]);
    resolving.fetches(BUILD_COMMAND, parts_digest(&asked).0.hex(), sources)
}

/// The step with the files by which tools find the gateway that read no variable.
pub(super) fn settings(fetch: &[String]) -> Option<Step> {
    let is_wanted = fetch.iter().any(|kind| kind == Ecosystem::MAVEN.name());
    is_wanted.then(|| {
        let text = maven_settings(std::iter::once(Ecosystem::MAVEN.name()));
        let file = SupportFile { path: MAVEN_SETTINGS, text, executable: false };
        support_files::step("maven settings", vec![file])
    })
}
