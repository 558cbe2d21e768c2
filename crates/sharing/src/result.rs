//! The signed document of one step: what it left behind.

use content::StepKey;
use engine::Produced;
use evidence::{Envelope, PrivateKey, PublicKey};
use serde::{Deserialize, Serialize};

/// The type of what is signed.
pub(crate) const PAYLOAD_TYPE: &str = "application/vnd.shtetl.step-result.v1+json";
/// The longest document of a step, in bytes.
pub(crate) const LONGEST: u64 = 32 << 20;

/// What a step left behind.
#[derive(Serialize, Deserialize)]
struct SharedResult {
    format: String,
    /// The key of the step: a result counts for this step only.
    key: StepKey,
    produced: Produced,
    /// How long it took where it ran.
    milliseconds: u64,
}

/// The format of [`SharedResult`].
const FORMAT: &str = "shtetl/step-result/1";

/// Why a document is not used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Refused {
    /// It is no such document.
    Malformed,
    /// Nobody who is trusted signed it.
    Signature,
    /// It is the result of another step.
    OtherStep,
}

/// Signs what a step left behind.
pub(crate) fn sign(key: StepKey, produced: &Produced, milliseconds: u64, signer: &PrivateKey) -> Vec<u8> {
    let result = SharedResult { format: FORMAT.to_owned(), key, produced: produced.clone(), milliseconds };
    // Plain data with text keys can always be written.
    let payload = serde_json::to_vec(&result).unwrap_or_default();
    serde_json::to_vec(&Envelope::sign_as(PAYLOAD_TYPE, &payload, signer)).unwrap_or_default()
}

/// Reads what a step left behind, if somebody who is trusted says so.
pub(crate) fn read(bytes: &[u8], key: StepKey, trusted: &[PublicKey]) -> Result<(Produced, u64), Refused> {
    let envelope: Envelope = serde_json::from_slice(bytes).map_err(|_| Refused::Malformed)?;
    if envelope.payload_type != PAYLOAD_TYPE {
        return Err(Refused::Malformed);
    }
    envelope.signed_by(trusted).ok_or(Refused::Signature)?;
    let payload = envelope.document().ok_or(Refused::Malformed)?;
    let result: SharedResult = serde_json::from_slice(&payload).map_err(|_| Refused::Malformed)?;
    if result.format != FORMAT {
        return Err(Refused::Malformed);
    }
    if result.key != key {
        return Err(Refused::OtherStep);
    }
    Ok((result.produced, result.milliseconds))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use content::digest::Sha256;
    use content::layer::{Codec, WrittenLayer};
    use content::{BlobDigest, DiffId};
    use evidence::{KeyKind, make};

    pub(crate) fn produced(blob: &[u8]) -> Produced {
        let layer = WrittenLayer {
            digest: BlobDigest::of(blob),
            diff_id: DiffId(Sha256::of(blob)),
            size: blob.len() as u64,
            raw_size: 1,
            codec: Codec::Zstd,
        };
        Produced { layer, packages: Vec::new() }
    }

    pub(crate) fn key(text: &str) -> StepKey {
        StepKey(Sha256::of(text.as_bytes()))
    }

    pub(crate) fn signer() -> PrivateKey {
        PrivateKey::read(&make(KeyKind::Ed25519, None).unwrap().0, None).unwrap()
    }

    #[test]
    fn a_result_counts_for_its_own_step_and_with_a_trusted_signature_only() {
        let (own, other) = (signer(), signer());
        let signed = sign(key("tides"), &produced(b"water"), 7, &own);
        let trusted = [own.public()];
        assert_eq!(read(&signed, key("tides"), &trusted), Ok((produced(b"water"), 7)));
        assert_eq!(read(&signed, key("fares"), &trusted), Err(Refused::OtherStep));
        assert_eq!(read(&signed, key("tides"), &[other.public()]), Err(Refused::Signature));
        assert_eq!(read(&signed, key("tides"), &[]), Err(Refused::Signature));
        assert_eq!(read(&signed[..40], key("tides"), &trusted), Err(Refused::Malformed));
    }
}
