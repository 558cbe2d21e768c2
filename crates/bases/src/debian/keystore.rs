//! Certificates in the form in which Java keeps the ones that it trusts (JKS, version 2): big-endian
//! numbers, and at the end a SHA-1 over the password that everybody knows and all before it.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest};

const MAGIC: u32 = 0xfeed_feed;
const VERSION: u32 = 2;
/// The kind of an entry that holds a certificate and no key.
const TRUSTED: u32 = 2;
/// 2 January 1980 in milliseconds since 1970: every file of an image has this time.
const TIME: u64 = 315_619_200_000;
/// It keeps nothing secret: it is the one that Java assumes.
const PASSWORD: &str = "changeit";
/// What the format mixes into its checksum.
const SALT: &[u8] = b"Mighty Aphrodite";

/// A store of the certificates in these files (path and PEM text).
pub(super) fn write<'a>(files: impl Iterator<Item = (&'a str, &'a str)>) -> Vec<u8> {
    let certificates: Vec<(String, Vec<u8>)> = files
        .filter_map(|(path, pem)| {
            let file = path.rsplit('/').next()?;
            let alias = file.trim_end_matches(".crt").to_lowercase().replace(|c: char| !c.is_ascii(), "_");
            Some((alias, der(pem)?))
        })
        .collect();
    let mut store = Vec::new();
    for number in [MAGIC, VERSION, length(&certificates)] {
        store.extend(number.to_be_bytes());
    }
    for (alias, certificate) in &certificates {
        store.extend(TRUSTED.to_be_bytes());
        text(&mut store, alias);
        store.extend(TIME.to_be_bytes());
        text(&mut store, "X.509");
        store.extend(length(certificate).to_be_bytes());
        store.extend(certificate);
    }
    let mut checked: Vec<u8> = PASSWORD.encode_utf16().flat_map(u16::to_be_bytes).collect();
    checked.extend(SALT);
    checked.extend(&store);
    store.extend(digest(&SHA1_FOR_LEGACY_USE_ONLY, &checked).as_ref());
    store
}

fn length<T>(items: &[T]) -> u32 {
    u32::try_from(items.len()).unwrap_or(u32::MAX)
}

fn text(store: &mut Vec<u8>, text: &str) {
    store.extend(u16::try_from(text.len()).unwrap_or(u16::MAX).to_be_bytes());
    store.extend(text.as_bytes());
}

/// The bytes of the first certificate in a PEM text (RFC 7468).
fn der(pem: &str) -> Option<Vec<u8>> {
    let (_, inside) = pem.split_once("-----BEGIN CERTIFICATE-----")?;
    let (inside, _) = inside.split_once("-----END CERTIFICATE-----")?;
    STANDARD.decode(inside.split_whitespace().collect::<String>()).ok()
}
