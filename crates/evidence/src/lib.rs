//! Evidence of images, from their record alone: what is in them, how they came about, and who says so.
//!
//! | module | owns |
//! | --- | --- |
//! | `cyclonedx`, `spdx_document` | bills of materials (CycloneDX 1.6, SPDX 2.3) |
//! | `provenance` | how an image was built (in-toto Statement v1, SLSA provenance v1) |
//! | `envelope`, `keys` | signatures (DSSE) and the keys for them (PKCS#8) |
//! | `artefacts` | all of it as files and as artefacts of a registry |
//! | `osv`, `advisories`, `affected_versions`, `cvss` | what is known of weaknesses of the packages (OSV), and how bad it is |
//! | `verification` | an image against its record, its evidence and the keys that are trusted |
#![forbid(unsafe_code)]

mod acceptance;
mod advisories;
mod affected;
mod affected_versions;
mod artefacts;
mod cvss;
mod cyclonedx;
mod envelope;
mod hashes;
mod keys;
mod osv;
mod provenance;
mod spdx_document;
mod verification;

pub use acceptance::{Acceptance, Accepted};
pub use advisories::{Found, find};
pub use affected::{Affected, Severity};
pub use affected_versions::compare as compare_of_kind;
pub use artefacts::{Artefact, KNOWN_FILES, of_image};
pub use envelope::{Envelope, PAYLOAD_TYPE};
pub use keys::{KeyFault, KeyKind, PrivateKey, PublicKey, make};
pub use osv::{Advisory, AdvisoryFault, read as read_advisories};
pub use verification::{Evidence, Finding, Verdict, verify};

/// The program that makes evidence, as documents name it.
pub(crate) const TOOL: &str = "shtetl";
/// Its version.
pub(crate) const TOOL_VERSION: &str = env!("CARGO_PKG_VERSION");
