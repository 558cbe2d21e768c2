//! Reading gzip (RFC 1952) as the usual programs do: all members one after the other, and what follows the last one
//! is not looked at. Some packages are padded with zeros.

use flate2::bufread::GzDecoder;
use std::io::{BufRead, Read, Result};

/// How every member begins (RFC 1952, 2.3.1).
const MAGIC: [u8; 2] = [0x1f, 0x8b];

/// The uncompressed bytes of a gzip file.
pub struct Gunzip<R> {
    /// Nothing once everything was read.
    member: Option<GzDecoder<R>>,
}

impl<R: BufRead> Gunzip<R> {
    /// Reads from the start of a gzip file.
    pub fn new(file: R) -> Self {
        Self { member: Some(GzDecoder::new(file)) }
    }
}

impl<R: BufRead> Read for Gunzip<R> {
    fn read(&mut self, buffer: &mut [u8]) -> Result<usize> {
        while let Some(member) = &mut self.member {
            let count = member.read(buffer)?;
            if count > 0 || buffer.is_empty() {
                return Ok(count);
            }
            let Some(mut rest) = self.member.take().map(GzDecoder::into_inner) else { break };
            // The buffer may end between the two bytes.
            let next = rest.fill_buf()?;
            if next.starts_with(&MAGIC) || next == &MAGIC[..1] {
                self.member = Some(GzDecoder::new(rest));
            }
        }
        Ok(0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use flate2::Compression;
    use flate2::write::GzEncoder;
    use std::io::Write;

    fn gzip(text: &str) -> Vec<u8> {
        let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
        encoder.write_all(text.as_bytes()).unwrap();
        encoder.finish().unwrap()
    }

    fn read(bytes: &[u8]) -> Result<String> {
        let mut text = String::new();
        Gunzip::new(bytes).read_to_string(&mut text).map(|_| text)
    }

    #[test]
    fn all_members_are_read_and_padding_is_not() {
        let two = [gzip("fog "), gzip("horn")].concat();
        assert_eq!(read(&two).unwrap(), "fog horn");
        assert_eq!(read(&[two, vec![0; 700]].concat()).unwrap(), "fog horn");
    }

    #[test]
    fn a_file_that_ends_too_early_or_is_changed_is_an_error() {
        let whole = gzip("fog horn");
        assert!(read(&whole[..whole.len() - 1]).is_err());
        let mut changed = whole;
        let sum = changed.len() - 6;
        changed[sum] ^= 1;
        assert!(read(&changed).is_err());
        assert!(read(b"fog horn").is_err());
    }
}
