//! The shared store, as the user's configuration and variables say it, and the summary after a build.

use crate::commands::keys::{public_keys, read_key};
use crate::surroundings::Surroundings;
use remote::{Fetcher, Network};
use render::{FAINT, Output, styled, words};
use sharing::{BucketKey, Place, SharedStore, Trouble};
use std::env;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use wording::Failure;

/// Where the shared store is, which keys are trusted (files), and the key that signs own results (PEM).
const PLACE: &str = "SHTETL_SHARED";
const TRUSTED: &str = "SHTETL_SHARED_KEYS";
const SIGNER: &str = "SHTETL_SHARED_KEY";
/// How long a shared store may be silent.
const PATIENCE: Duration = Duration::from_secs(5);
/// The default region of object storage.
const ANY_REGION: &str = "us-east-1";

/// The configured shared store, if there is one and the network may be used.
pub fn open(surroundings: &Surroundings, network: Network) -> Result<Option<SharedStore>, Failure> {
    let user = &surroundings.user;
    let place = variable(PLACE).or_else(|| user.shared.clone());
    let Some(text) = place.filter(|_| network == Network::Allowed) else { return Ok(None) };
    let place: Place = text.parse().map_err(|bad: sharing::BadPlace| Failure::Usage {
        message: bad.to_string(),
        hint: "write oci:HOST/NAME for a registry of images, or s3:https://HOST/BUCKET for object storage"
            .to_owned(),
    })?;
    let trusted: Vec<PathBuf> = match variable(TRUSTED) {
        Some(files) => env::split_paths(&files).collect(),
        None => user.shared_keys.iter().map(PathBuf::from).collect(),
    };
    let trusted = public_keys(&trusted)?;
    let signer = match (variable(SIGNER), &user.shared_key) {
        (Some(text), _) => Some(read_key(&text, &format!("the variable {SIGNER}"))?),
        (None, Some(file)) => {
            let text = std::fs::read_to_string(file)
                .map_err(|source| Failure::File { path: PathBuf::from(file), source })?;
            Some(read_key(&text, file)?)
        }
        (None, None) => None,
    };
    if trusted.is_empty() && signer.is_none() {
        return Err(Failure::Usage {
            message: format!(
                "the shared store {place} cannot be used: no trusted key and no signing key is configured"
            ),
            hint: format!(
                "name public keys in {TRUSTED}, or under [store] shared-keys in the user's configuration"
            ),
        });
    }
    let fetcher = Fetcher::new(network)
        .with_silence_limit(PATIENCE)
        .with_witness(surroundings.witness.clone())
        .with_cancel(surroundings.cancel.clone());
    let key = bucket_key();
    let store = Arc::clone(&surroundings.store);
    let credentials = Arc::clone(&surroundings.credentials);
    Ok(Some(SharedStore::new((place, key), (fetcher, credentials), store, (trusted, signer))))
}

/// Who comes in at object storage, as its clients commonly read it.
fn bucket_key() -> Option<BucketKey> {
    let region = variable("AWS_REGION").or_else(|| variable("AWS_DEFAULT_REGION"));
    Some(BucketKey {
        id: variable("AWS_ACCESS_KEY_ID")?,
        secret: variable("AWS_SECRET_ACCESS_KEY")?,
        region: region.unwrap_or_else(|| ANY_REGION.to_owned()),
    })
}

fn variable(name: &str) -> Option<String> {
    env::var(name).ok().filter(|text| !text.is_empty())
}

/// Waits until everything is sent, and tells what the shared store brought and what was wrong with it.
pub fn finish(shared: Option<&SharedStore>, output: &Output) {
    let Some(shared) = shared else { return };
    shared.finish();
    let troubles = shared.troubles();
    for trouble in &troubles {
        output.aside(format!("note: {}", told(trouble)));
    }
    let statistics = shared.statistics();
    if output.is_json() {
        output.json_aside(&serde_json::json!({ "event": "shared-store", "statistics": statistics }));
        return;
    }
    if statistics.hits + statistics.sent > 0 {
        let came = format!(
            "{} fetched, {}, {} of work saved",
            words::count(usize::try_from(statistics.hits).unwrap_or(usize::MAX), "result"),
            words::size(statistics.bytes_received),
            words::duration(statistics.milliseconds_saved)
        );
        let sent = format!("{} sent, {}", statistics.sent, words::size(statistics.bytes_sent));
        output.aside(styled(FAINT, format!("shared store: {came}; {sent}")));
    }
}

fn told(trouble: &Trouble) -> String {
    match trouble {
        Trouble::Failed { detail } => format!("shared store: {detail}"),
        Trouble::GivenUp { detail } => {
            format!("shared store: {detail}; it is not used any more in this build")
        }
        Trouble::Refused { key, by_signature: true } => {
            format!(
                "shared store: the result of step {} is not signed by a trusted key and was not used",
                key.short()
            )
        }
        Trouble::Refused { key, by_signature: false } => {
            format!("shared store: the result of step {} is damaged and was not used", key.short())
        }
    }
}
