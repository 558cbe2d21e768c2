//! Words of bases and runtimes.

use super::worded::{FAILED, OUTSIDE, WRONG, Worded, worded};
use ::remote::RemoteError;
use model::error::BaseError;
use render::words;

pub(super) fn words_of(error: &BaseError) -> Worded {
    match error {
        BaseError::Image { base, source } => image(base, source),
        BaseError::PlatformNotInBase { base, platform } => worded(
            WRONG,
            format!("the base {base} is not available for {platform}"),
            match base.as_str() {
                "host" => "it is captured from this machine; choose another in [base] from",
                _ => "images can be built for linux/amd64 and linux/arm64",
            },
        ),
        BaseError::RuntimeMissing { runtime, searched } => {
            let program = if *runtime == "python" { "python3" } else { runtime };
            let folders: Vec<_> = searched.iter().map(|p| p.display().to_string()).collect();
            Worded {
                details: vec![format!("  searched: {}", folders.join(", "))],
                ..worded(
                    OUTSIDE,
                    format!(
                        "the base `host` takes {runtime} from this machine, which does not have {program}"
                    ),
                    format!(
                        "install {program} so that it is in PATH; nothing else of the language is needed"
                    ),
                )
            }
        }
        BaseError::RuntimeMismatch { runtime, found, origin, wanted, place } => worded(
            FAILED,
            format!("{} requires {runtime} {wanted}, but the base {origin} has {found}", words::place(place)),
            match origin.as_str() {
                "host" => format!("install a matching {runtime} on this machine, or change the constraint"),
                _ => "choose another base: in shtetl.toml, under [base]: from = …; or change the constraint"
                    .to_owned(),
            },
        ),
        BaseError::NoSuchVersion { runtime, wanted, place, base, registry } => worded(
            FAILED,
            format!(
                "{}{runtime} {wanted} is required, but neither {base} nor {registry} has such a version",
                place.as_ref().map(|p| format!("{}: ", words::place(p))).unwrap_or_default()
            ),
            "change the constraint; `shtetl runtimes` lists the available versions",
        ),
        BaseError::NoBuildRoot { base } => worded(
            FAILED,
            format!("a build is needed, but the base {base} provides no build environment"),
            "choose a Debian base, or empty, in [base] from; or build before, include the result with [source] include, and set run = false under [build]",
        ),
        BaseError::RuntimeNotInBase { runtime, base } => worded(
            FAILED,
            format!("the base {base} has no {runtime}"),
            "choose another base: in shtetl.toml, under [base]: from = …",
        ),
        BaseError::Capture { path, detail } => worded(
            OUTSIDE,
            format!("{} cannot be captured: {detail}", path.display()),
            "check that the runtime works on this machine",
        ),
    }
}

/// The same trouble as with packages, with other advice.
fn image(base: &str, error: &RemoteError) -> Worded {
    let plain = super::remote::words_of(&format!("base image {base}"), error);
    let hint = match error {
        RemoteError::NotFound { .. } => "check name, tag and platform in [base] from",
        RemoteError::Status { status: 429 | 500.., .. } => "try again later",
        RemoteError::Offline { .. } => "build once without --offline, or name a layout folder: oci:./FOLDER",
        RemoteError::Integrity { .. } => {
            "do not use it: the registry serves content that does not match its own documents"
        }
        RemoteError::Denied { .. } | RemoteError::Credentials { .. } => return plain,
        _ => "check the reference in [base] from",
    };
    Worded { hint: Some(hint.to_owned()), ..plain }
}
