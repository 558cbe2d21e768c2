//! Words of pins and packages of a distribution.

use super::worded::{FAILED, Worded, worded};
use ::remote::packages::debian::SignatureFault;
use model::error::PinError;

pub(super) fn words_of(error: &PinError) -> Worded {
    match error {
        PinError::Conflict { suite, package, excluded } => worded(
            FAILED,
            format!("{package} and {excluded} of {suite} cannot be installed together: they conflict"),
            "remove one of them, or whatever needs it, from [base] packages",
        ),
        PinError::Unmet { suite, wanted, chain } => Worded {
            details: chain.iter().map(|name| format!("  needed by {name}")).rev().collect(),
            ..worded(
                FAILED,
                format!("nothing in {suite} provides {wanted}"),
                if chain.is_empty() {
                    "correct the name in [base] packages, or the name of a required extension"
                } else {
                    "the archive may be incomplete: `shtetl addresses` shows which one is asked"
                },
            )
        },
        PinError::Signature { what, fault } => {
            let detail = match fault {
                SignatureFault::NotSigned => "it is not signed".to_owned(),
                SignatureFault::UnknownKeys(ids) => {
                    format!("no trusted key has signed it; signed by {}", ids.join(", "))
                }
                SignatureFault::Wrong => "the signature does not match the text".to_owned(),
                SignatureFault::UnfitKey => {
                    "the key that signed it is revoked, expired or too weak".to_owned()
                }
                SignatureFault::NotARelease => "it is not a release file of a suite".to_owned(),
                SignatureFault::BadKeyring => "there is no key in it".to_owned(),
            };
            worded(
                FAILED,
                format!("signature verification failed for {what}: {detail}"),
                "do not use it; an archive with its own keys needs [base] keyring = FILE",
            )
        }
        PinError::ReleaseOver { what, until } => worded(
            FAILED,
            format!(
                "{what} was valid until {until}: the archive is an outdated copy, or updates are being withheld"
            ),
            "update the copy; to use it anyway, in shtetl.toml, under [base]: outdated = true",
        ),
        PinError::Missing { base, file_is_there } => worded(
            FAILED,
            if *file_is_there {
                format!("shtetl.lock does not pin everything that {base} has to provide")
            } else {
                format!("there is no shtetl.lock that pins {base}")
            },
            "build once without --locked, and commit shtetl.lock",
        ),
    }
}
