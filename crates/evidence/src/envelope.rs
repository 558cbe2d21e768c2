//! Signed documents (DSSE 1.0, *Dead Simple Signing Envelope*).

use crate::keys::{PrivateKey, PublicKey};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

/// The type of what is signed: a statement of in-toto.
pub const PAYLOAD_TYPE: &str = "application/vnd.in-toto+json";
/// The media type of an envelope.
pub(crate) const MEDIA_TYPE: &str = "application/vnd.dsse.envelope.v1+json";

/// A document with its signatures.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Envelope {
    /// The document, in base64.
    pub payload: String,
    /// What it is.
    pub payload_type: String,
    /// Each by one key.
    pub signatures: Vec<Signature>,
}

/// A signature.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signature {
    /// The key that may have made it; only a hint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keyid: Option<String>,
    /// In base64.
    pub sig: String,
}

impl Envelope {
    /// Signs a statement of in-toto.
    pub fn sign(payload: &[u8], key: &PrivateKey) -> Self {
        Self::sign_as(PAYLOAD_TYPE, payload, key)
    }

    /// Signs a document of a type.
    pub fn sign_as(payload_type: &str, payload: &[u8], key: &PrivateKey) -> Self {
        let signature = key.sign(&signed_bytes(payload_type, payload));
        Self {
            payload: STANDARD.encode(payload),
            payload_type: payload_type.to_owned(),
            signatures: vec![Signature { keyid: Some(key.public().id()), sig: STANDARD.encode(signature) }],
        }
    }

    /// The document, whatever its signatures; `None` if it is not base64.
    pub fn document(&self) -> Option<Vec<u8>> {
        STANDARD.decode(&self.payload).ok()
    }

    /// The first of the keys that signed it.
    pub fn signed_by<'k>(&self, keys: &'k [PublicKey]) -> Option<&'k PublicKey> {
        let bytes = signed_bytes(&self.payload_type, &self.document()?);
        let signatures: Vec<Vec<u8>> =
            self.signatures.iter().filter_map(|one| STANDARD.decode(&one.sig).ok()).collect();
        keys.iter().find(|key| signatures.iter().any(|signature| key.has_signed(&bytes, signature)))
    }
}

/// What is signed: the type and the document, each with its length ("Pre-Authentication Encoding").
fn signed_bytes(payload_type: &str, payload: &[u8]) -> Vec<u8> {
    let mut bytes = format!("DSSEv1 {} {payload_type} {} ", payload_type.len(), payload.len()).into_bytes();
    bytes.extend(payload);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::keys::{KeyKind, make};

    #[test]
    fn what_is_signed_is_as_the_specification_shows() {
        let bytes = signed_bytes("http://example.com/HelloWorld", b"hello world");
        assert_eq!(bytes, b"DSSEv1 29 http://example.com/HelloWorld 11 hello world");
    }

    #[test]
    fn only_the_key_that_signed_is_found_and_no_other_document_passes() {
        for kind in [KeyKind::Ed25519, KeyKind::P256] {
            let read = || PrivateKey::read(&make(kind, None).unwrap().0, None).unwrap();
            let (own, other) = (read(), read());
            let keys = [other.public(), own.public()];
            let signed = Envelope::sign(b"{}", &own);
            assert_eq!(signed.signed_by(&keys), Some(&keys[1]));
            assert_eq!(signed.signed_by(&keys[..1]), None);
            let forged = Envelope { payload: STANDARD.encode(b"[]"), ..signed.clone() };
            assert_eq!(forged.signed_by(&keys), None);
            let retyped = Envelope { payload_type: "text/plain".to_owned(), ..signed };
            assert_eq!(retyped.signed_by(&keys), None);
        }
    }
}
