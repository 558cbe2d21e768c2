//! Signatures of releases: OpenPGP (RFC 9580), cleartext framework.
//!
//! A key counts when its own signatures hold: a subkey must be bound to its primary key as a signing
//! key, with the primary key signed back; neither may be revoked or past its time when the
//! release was signed.

use pgp::composed::{CleartextSignedMessage, Deserializable, SignedPublicKey};
use pgp::crypto::hash::HashAlgorithm;
use pgp::packet::{Signature, SignatureType};
use pgp::types::{KeyDetails, VerifyingKey};

/// Keys whose signatures are trusted.
#[derive(Default)]
pub struct Signatures {
    keys: Vec<SignedPublicKey>,
}

/// Why the signature of a text does not hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignatureFault {
    /// It is not signed, or broken.
    NotSigned,
    /// No known key has signed it; the ids of those that have.
    UnknownKeys(Vec<String>),
    /// A known key has signed something else.
    Wrong,
    /// The key was revoked, is past its time, or may not sign.
    UnfitKey,
    /// The signature holds, but what is signed is no release.
    NotARelease,
    /// A keyring cannot be read.
    BadKeyring,
}

impl Signatures {
    /// Adds the keys of a keyring, binary or with armour.
    pub fn add(&mut self, keyring: &[u8]) -> Result<(), SignatureFault> {
        let bad = |_| SignatureFault::BadKeyring;
        let before = self.keys.len();
        let keys: Vec<_> = if keyring.starts_with(b"-----") {
            SignedPublicKey::from_armor_many(keyring).map_err(bad)?.0.collect()
        } else {
            SignedPublicKey::from_bytes_many(keyring).map_err(bad)?.collect()
        };
        for key in keys {
            self.keys.push(key.map_err(bad)?);
        }
        if self.keys.len() == before { Err(SignatureFault::BadKeyring) } else { Ok(()) }
    }

    /// What was signed, if one of the keys has signed it. `now` is in seconds since 1970.
    pub(super) fn verified_text(&self, message: &str, now: i64) -> Result<String, SignatureFault> {
        let (message, _) = CleartextSignedMessage::from_string(message.trim_start())
            .map_err(|_| SignatureFault::NotSigned)?;
        let text = message.signed_text();
        let mut fault = None;
        for signature in message.signatures() {
            match self.judge(signature, text.as_bytes(), now) {
                Ok(()) => return Ok(text),
                // A known key tells more than an unknown one.
                Err(SignatureFault::UnknownKeys(_)) => {}
                Err(other) => fault = Some(other),
            }
        }
        let ids = message.signatures().iter().flat_map(|s| s.issuer_key_id()).map(|id| id.to_string());
        Err(fault.unwrap_or_else(|| SignatureFault::UnknownKeys(ids.collect())))
    }

    fn judge(&self, signature: &Signature, text: &[u8], now: i64) -> Result<(), SignatureFault> {
        let strong = [HashAlgorithm::Sha256, HashAlgorithm::Sha384, HashAlgorithm::Sha512];
        let made = signature.created().map_or(i64::MAX, |t| i64::from(t.as_secs()));
        let kind = matches!(signature.typ(), Some(SignatureType::Binary | SignatureType::Text));
        let mut fault = SignatureFault::UnknownKeys(Vec::new());
        for key in &self.keys {
            let signed_by = |k: &dyn KeyDetails| {
                signature.issuer_key_id().contains(&&k.legacy_key_id())
                    || signature.issuer_fingerprint().contains(&&k.fingerprint())
            };
            let fit = if signed_by(&key.primary_key) {
                verdict(signature, &key.primary_key, text, primary_is_fit(key, made))
            } else if let Some(subkey) = key.public_subkeys.iter().find(|s| signed_by(&s.key)) {
                let fit = primary_is_fit(key, made) && subkey_is_fit(key, subkey, made);
                verdict(signature, &subkey.key, text, fit)
            } else {
                continue;
            };
            let strong = signature.hash_alg().is_some_and(|h| strong.contains(&h));
            let timely =
                made <= now + CLOCK_SLACK && !is_over(signature.signature_expiration_time(), made, now);
            match fit {
                Ok(()) if strong && kind && timely => return Ok(()),
                Ok(()) => fault = SignatureFault::UnfitKey,
                Err(other) => fault = other,
            }
        }
        Err(fault)
    }
}

/// Clocks differ, in seconds.
const CLOCK_SLACK: i64 = 24 * 3600;

fn verdict(
    signature: &Signature,
    key: &impl VerifyingKey,
    text: &[u8],
    fit: bool,
) -> Result<(), SignatureFault> {
    match (signature.verify(key, text), fit) {
        (Err(_), _) => Err(SignatureFault::Wrong),
        (Ok(()), false) => Err(SignatureFault::UnfitKey),
        (Ok(()), true) => Ok(()),
    }
}

fn is_over(lasts: Option<pgp::types::Duration>, from: i64, at: i64) -> bool {
    lasts.is_some_and(|d| d.as_secs() != 0 && from.saturating_add(i64::from(d.as_secs())) < at)
}

/// Neither revoked nor past its time, and one of its own certifications holds.
fn primary_is_fit(key: &SignedPublicKey, made: i64) -> bool {
    let primary = &key.primary_key;
    let revoked = key.details.revocation_signatures.iter().any(|s| s.verify_key(primary).is_ok());
    let born = i64::from(primary.created_at().as_secs());
    let own = key.details.users.iter().flat_map(|user| {
        user.signatures
            .iter()
            .filter(|s| s.verify_certification(primary, pgp::types::Tag::UserId, &user.id).is_ok())
    });
    let direct = key.details.direct_signatures.iter().filter(|s| s.verify_key(primary).is_ok());
    // The newest one says how long the key lasts.
    let newest = own.chain(direct).max_by_key(|s| s.created().map(|t| t.as_secs()));
    !revoked && newest.is_some_and(|s| !is_over(s.key_expiration_time(), born, made))
}

fn subkey_is_fit(key: &SignedPublicKey, subkey: &pgp::composed::SignedPublicSubKey, made: i64) -> bool {
    let primary = &key.primary_key;
    let born = i64::from(subkey.key.created_at().as_secs());
    let holds = |s: &&Signature| s.verify_subkey_binding(primary, &subkey.key).is_ok();
    let revoked =
        subkey.signatures.iter().any(|s| s.typ() == Some(SignatureType::SubkeyRevocation) && holds(&s));
    let bound =
        subkey.signatures.iter().filter(|s| s.typ() == Some(SignatureType::SubkeyBinding)).filter(holds);
    let newest = bound.max_by_key(|s| s.created().map(|t| t.as_secs()));
    !revoked
        && newest.is_some_and(|s| {
            let signed_back = s
                .embedded_signature()
                .is_some_and(|e| e.verify_primary_key_binding(&subkey.key, primary).is_ok());
            s.key_flags().sign() && signed_back && !is_over(s.key_expiration_time(), born, made)
        })
}
