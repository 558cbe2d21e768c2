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

/// The files of evidence, and what each is.
pub const KNOWN_FILES: [(&str, &str); 4] = [
    ("packages.cdx.json", cyclonedx::MEDIA_TYPE),
    ("packages.spdx.json", spdx_document::MEDIA_TYPE),
    ("provenance.dsse.json", envelope::MEDIA_TYPE),
    ("provenance.json", PAYLOAD_TYPE),
];

/// A document about an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Artefact {
    /// The name of its file.
    pub file: &'static str,
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
    let document = |file, media_type, about, document: &Value| {
        Ok::<_, model::Error>(Artefact { file, media_type, about, bytes: to_json(document)? })
    };
    let mut all = vec![
        document(
            "packages.cdx.json",
            cyclonedx::MEDIA_TYPE,
            "packages, in CycloneDX",
            &cyclonedx::document(image),
        )?,
        document(
            "packages.spdx.json",
            spdx_document::MEDIA_TYPE,
            "packages, in SPDX",
            &spdx_document::document(image),
        )?,
    ];
    let byproducts: Vec<Byproduct<'_>> = all
        .iter()
        .map(|one| Byproduct {
            name: one.file,
            media_type: one.media_type,
            digest: BlobDigest::of(&one.bytes),
        })
        .collect();
    let statement = to_json(&statement(image, &byproducts))?;
    all.push(match key {
        Some(key) => Artefact {
            file: "provenance.dsse.json",
            media_type: envelope::MEDIA_TYPE,
            about: "how it was built, signed",
            bytes: to_json(&Envelope::sign(&statement, key))?,
        },
        None => Artefact {
            file: "provenance.json",
            media_type: PAYLOAD_TYPE,
            about: "how it was built, not signed",
            bytes: statement,
        },
    });
    Ok(all)
}
