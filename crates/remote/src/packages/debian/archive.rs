//! Package files: an `ar` archive whose member `data.tar` holds what is installed (deb(5)).

use flate2::read::MultiGzDecoder;
use liblzma::read::XzDecoder;
use std::io::{self, Read};
use std::ops::Range;

/// The tar bytes of the files that a package installs.
pub fn data_of<'r>(mut package: impl Read + 'r) -> io::Result<Box<dyn Read + 'r>> {
    let bad = |detail: &str| io::Error::new(io::ErrorKind::InvalidData, detail.to_owned());
    let mut magic = [0; 8];
    package.read_exact(&mut magic).map_err(|_| bad("no ar archive"))?;
    if magic != *b"!<arch>\n" {
        return Err(bad("no ar archive"));
    }
    let mut head = [0; 60];
    while package.read_exact(&mut head).is_ok() {
        let field = |range: Range<usize>| String::from_utf8_lossy(&head[range]).trim().to_owned();
        let name = field(0..16).trim_end_matches('/').to_owned();
        let size: u64 = field(48..58).parse().map_err(|_| bad("a member without length"))?;
        match name.as_str() {
            "data.tar" => return Ok(Box::new(package.take(size))),
            "data.tar.xz" => return Ok(Box::new(XzDecoder::new_multi_decoder(package.take(size)))),
            "data.tar.gz" => return Ok(Box::new(MultiGzDecoder::new(package.take(size)))),
            "data.tar.zst" => return Ok(Box::new(zstd::Decoder::new(package.take(size))?)),
            _ => {}
        }
        // Members begin at even places.
        let skipped = size + size % 2;
        if io::copy(&mut package.by_ref().take(skipped), &mut io::sink())? < skipped {
            return Err(bad("cut off"));
        }
    }
    Err(bad("no data.tar in it"))
}
