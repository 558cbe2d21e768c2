//! Package files: an `ar` archive whose member `data.tar` holds what is installed (deb(5)).

use flate2::read::MultiGzDecoder;
use lzma_rust2::XzReader;
use std::io::{self, Read};

/// The tar bytes of the files that a package installs.
pub fn data_of(package: &[u8]) -> io::Result<Box<dyn Read + '_>> {
    let bad = |detail: &str| io::Error::new(io::ErrorKind::InvalidData, detail.to_owned());
    let mut rest = package.strip_prefix(b"!<arch>\n").ok_or_else(|| bad("no ar archive"))?;
    while rest.len() >= 60 {
        let (head, after) = rest.split_at(60);
        let field = |range: std::ops::Range<usize>| String::from_utf8_lossy(&head[range]).trim().to_owned();
        let name = field(0..16).trim_end_matches('/').to_owned();
        let size: usize = field(48..58).parse().map_err(|_| bad("a member without length"))?;
        let member = after.get(..size).ok_or_else(|| bad("cut off"))?;
        match name.as_str() {
            "data.tar" => return Ok(Box::new(member)),
            "data.tar.xz" => return Ok(Box::new(XzReader::new(member, true))),
            "data.tar.gz" => return Ok(Box::new(MultiGzDecoder::new(member))),
            "data.tar.zst" => return Ok(Box::new(zstd::Decoder::with_buffer(member)?)),
            _ => {}
        }
        // Members begin at even places.
        rest = after.get(size + size % 2..).unwrap_or_default();
    }
    Err(bad("no data.tar in it"))
}
