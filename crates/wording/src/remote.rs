//! Words of what comes from elsewhere.

use super::worded::{FAILED, INTERRUPTED, OUTSIDE, WRONG, Worded, at, worded};
use ::remote::RemoteError;
use render::words;

pub(super) fn words_of(wanted_by: &str, error: &RemoteError) -> Worded {
    match error {
        RemoteError::NotFound { url } => worded(
            FAILED,
            format!("{wanted_by}: not found at {url}"),
            "check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from",
        ),
        RemoteError::Status { url, status, said, .. } => {
            let hint = match status {
                401 | 403 => "access denied: check the address (`shtetl addresses`) and its access rules",
                429 | 500.. => "try again later",
                _ => "check the address: `shtetl addresses` shows what set it",
            };
            Worded {
                details: said.iter().map(|said| format!("  the server says: {said}")).collect(),
                ..worded(OUTSIDE, format!("{wanted_by}: {url} answered with HTTP status {status}"), hint)
            }
        }
        RemoteError::Unreachable { url, detail } => worded(
            OUTSIDE,
            format!("{wanted_by}: no answer from {url}: {detail}"),
            "check the network; `shtetl addresses` shows what set this address",
        ),
        RemoteError::Cancelled => worded(INTERRUPTED, "interrupted; nothing incomplete was left behind", ""),
        RemoteError::TooLarge { url, most } => worded(
            OUTSIDE,
            format!(
                "{wanted_by}: {url} sent more than {}, too much for this kind of document",
                words::size(*most)
            ),
            "check the address: `shtetl addresses` shows where it comes from",
        ),
        RemoteError::Io { path, source } => worded(OUTSIDE, format!("{wanted_by}: {}", at(path, source)), ""),
        RemoteError::Offline { url } => worded(
            OUTSIDE,
            format!("{wanted_by} is not in the store, and --offline forbids asking {url}"),
            "build once without --offline, or name a folder with the packages: --address KIND=FOLDER",
        ),
        RemoteError::Integrity { url, algorithm, expected, found } => Worded {
            details: vec![
                format!("  {algorithm} expected {expected}"),
                format!("  {algorithm} received {found}"),
            ],
            ..worded(
                FAILED,
                format!("{wanted_by}: the content from {url} does not have the expected hash"),
                "do not use it; find out whether the package was replaced, then lock again",
            )
        },
        RemoteError::Malformed { url, detail } => worded(
            OUTSIDE,
            format!("{wanted_by}: unexpected answer from {url}: {detail}"),
            "check the address",
        ),
        RemoteError::Denied { url, host, credentials } => worded(
            OUTSIDE,
            match credentials {
                Some(place) => format!("{wanted_by}: {url} does not accept the credentials from {place}"),
                None => format!("{wanted_by}: {url} requires credentials"),
            },
            format!(
                "log in to {host} with a tool that stores credentials in ~/.config/containers/auth.json, or set REGISTRY_AUTH_FILE to such a file"
            ),
        ),
        RemoteError::Credentials { what, detail } => worded(
            WRONG,
            format!("cannot read credentials: {what}: {detail}"),
            "correct it, or set REGISTRY_AUTH_FILE to another file",
        ),
    }
}
