//! The evidence of an image as files, each of which can be attached to it in a registry.

use crate::envelope::{self, Envelope, PAYLOAD_TYPE};
use crate::keys::PrivateKey;
use crate::provenance::{Byproduct, statement};
use crate::{cyclonedx, spdx_document};
use content::BlobDigest;
use content::image::to_json;
use model::Result;
use serde_json::Value;
use workshop::inspect::OpenImage;

const CYCLONEDX: &str = ".cdx.json";
const SPDX: &str = ".spdx.json";
const SIGNED: &str = ".dsse.json";
const PLAIN: &str = "provenance.json";

/// How the names of files of evidence end, and what each is.
pub const KNOWN_FILES: [(&str, &str); 4] = [
    (CYCLONEDX, cyclonedx::MEDIA_TYPE),
    (SPDX, spdx_document::MEDIA_TYPE),
    (SIGNED, envelope::MEDIA_TYPE),
    (PLAIN, PAYLOAD_TYPE),
];

/// A document about an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Artefact {
    /// The name of its file.
    pub file: String,
    /// What it is.
    pub media_type: &'static str,
    /// What it says, in a few words.
    pub about: &'static str,
    /// The document.
    pub bytes: Vec<u8>,
}

/// The evidence of an image: two bills of materials, and how it was built; the last vouches for the others, and is signed
/// where there is a key. The same image, version and key give the same bytes, with a key on P-256 except for the signature.
pub fn of_image(image: &OpenImage, key: Option<&PrivateKey>) -> Result<Vec<Artefact>> {
    let mut all = Vec::new();
    for of_platform in image.platforms() {
        // With several platforms, each has lists of its own.
        let suffix = match image.others.is_empty() {
            true => String::new(),
            false => format!("-{}", of_platform.record.platform.replace('/', "-")),
        };
        let mut add = |ending: &str, media_type, about, document: &Value| {
            let file = format!("packages{suffix}{ending}");
            all.push(Artefact { file, media_type, about, bytes: to_json(document)? });
            Ok::<_, model::Error>(())
        };
        let cyclonedx = cyclonedx::document(&of_platform);
        add(CYCLONEDX, cyclonedx::MEDIA_TYPE, "packages, in CycloneDX", &cyclonedx)?;
        let spdx = spdx_document::document(&of_platform);
        add(SPDX, spdx_document::MEDIA_TYPE, "packages, in SPDX", &spdx)?;
    }
    let byproducts: Vec<Byproduct<'_>> = all
        .iter()
        .map(|one| Byproduct {
            name: &one.file,
            media_type: one.media_type,
            digest: BlobDigest::of(&one.bytes),
        })
        .collect();
    let statement = to_json(&statement(image, &byproducts))?;
    all.push(match key {
        Some(key) => Artefact {
            file: format!("provenance{SIGNED}"),
            media_type: envelope::MEDIA_TYPE,
            about: "how it was built, signed",
            bytes: to_json(&Envelope::sign(&statement, key))?,
        },
        None => Artefact {
            file: PLAIN.to_owned(),
            media_type: PAYLOAD_TYPE,
            about: "how it was built, not signed",
            bytes: statement,
        },
    });
    Ok(all)
}
