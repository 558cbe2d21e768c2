//! Words of what comes from elsewhere.

use super::worded::{FAILED, INTERRUPTED, OUTSIDE, WRONG, Worded, at, worded};
use ::remote::RemoteError;
use render::words;

pub(super) fn words_of(wanted_by: &str, error: &RemoteError) -> Worded {
    match error {
        RemoteError::NotFound { url } => worded(
            FAILED,
            format!("{wanted_by} is not at {url}"),
            "check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from",
        ),
        RemoteError::Status { url, status, said, .. } => {
            let hint = match status {
                401 | 403 => "access denied: check the address (`shtetl addresses`) and its access rules",
                429 | 500.. => "try again later",
                _ => "check the address: `shtetl addresses` shows who said it",
            };
            Worded {
                details: said.iter().map(|said| format!("  the server says: {said}")).collect(),
                ..worded(OUTSIDE, format!("{wanted_by}: {url} answered with status {status}"), hint)
            }
        }
        RemoteError::Unreachable { url, detail } => worded(
            OUTSIDE,
            format!("{wanted_by}: no answer from {url}: {detail}"),
            "check the network; `shtetl addresses` shows who said this address",
        ),
        RemoteError::Cancelled => worded(INTERRUPTED, "interrupted; nothing half done is left behind", ""),
        RemoteError::TooLarge { url, most } => worded(
            OUTSIDE,
            format!("{wanted_by}: {url} sends more than {}, which no such document is", words::size(*most)),
            "check the address: `shtetl addresses` shows where it comes from",
        ),
        RemoteError::Io { path, source } => worded(OUTSIDE, format!("{wanted_by}: {}", at(path, source)), ""),
        RemoteError::Offline { url } => worded(
            OUTSIDE,
            format!("{wanted_by} is not in the store, and {url} may not be asked with --offline"),
            "build once without --offline, or name a folder with the packages: --address KIND=FOLDER",
        ),
        RemoteError::Integrity { url, algorithm, expected, found } => Worded {
            details: vec![
                format!("  {algorithm} locked   {expected}"),
                format!("  {algorithm} received {found}"),
            ],
            ..worded(
                FAILED,
                format!("{wanted_by}: what {url} gave is not what was locked"),
                "do not use it: find out whether the package was replaced, then lock again",
            )
        },
        RemoteError::Malformed { url, detail } => {
            worded(OUTSIDE, format!("{wanted_by}: {url} is not understood: {detail}"), "check the address")
        }
        RemoteError::Denied { url, host, credentials } => worded(
            OUTSIDE,
            match credentials {
                Some(place) => format!("{wanted_by}: {url} is refused to the credentials in {place}"),
                None => format!("{wanted_by}: {url} is refused without credentials"),
            },
            format!(
                "log in to {host} with a tool that keeps credentials in ~/.config/containers/auth.json, or name such a file in REGISTRY_AUTH_FILE"
            ),
        ),
        RemoteError::Credentials { what, detail } => worded(
            WRONG,
            format!("credentials cannot be read: {what}: {detail}"),
            "correct it, or name another file in REGISTRY_AUTH_FILE",
        ),
    }
}
