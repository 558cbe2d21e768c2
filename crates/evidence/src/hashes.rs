//! Hashes of packages as documents write them.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// A hash: its algorithm as in `sha256`, and its value in hexadecimal digits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Hash {
    pub(crate) algorithm: &'static str,
    pub(crate) hex: String,
}

/// The hashes in what a package is locked with: `sha256:HEX`, or Subresource Integrity (`sha512-BASE64`), several with
/// spaces between. Forms of a single ecosystem are passed over.
pub(crate) fn of_integrity(integrity: &str) -> Vec<Hash> {
    integrity.split_whitespace().filter_map(one).collect()
}

fn one(text: &str) -> Option<Hash> {
    let known =
        |name: &str| ["md5", "sha1", "sha256", "sha384", "sha512"].into_iter().find(|known| *known == name);
    if let Some((algorithm, hex)) = text.split_once(':') {
        let is_hex = !hex.is_empty() && hex.bytes().all(|byte| byte.is_ascii_hexdigit());
        return Some(Hash { algorithm: known(algorithm)?, hex: is_hex.then(|| hex.to_lowercase())? });
    }
    let (algorithm, value) = text.split_once('-')?;
    let bytes = STANDARD.decode(value.split('?').next()?).ok()?;
    Some(Hash { algorithm: known(algorithm)?, hex: bytes.iter().map(|byte| format!("{byte:02x}")).collect() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hashes_are_read_in_both_notations() {
        let read = |text: &str| -> Vec<String> {
            of_integrity(text).into_iter().map(|hash| format!("{} {}", hash.algorithm, hash.hex)).collect()
        };
        assert_eq!(read("sha256:AB12"), ["sha256 ab12"]);
        assert_eq!(read("sha1-qw== sha512-/w=="), ["sha1 ab", "sha512 ff"]);
        for text in ["", "h1:abc=", "sha256:", "sha256:xyz", "crc32:ab", "sha512-*"] {
            assert_eq!(read(text), [""; 0], "{text}");
        }
    }
}
