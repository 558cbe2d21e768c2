//! Bodies that come in pieces.

use std::io::{self, BufRead, BufReader, Read};

/// What a body in pieces has as its digest (`STREAMING-…`).
pub(crate) const IN_PIECES: &str = "STREAMING-";
/// The longest line before a piece.
const LONGEST_LINE: u64 = 8 << 10;

/// Reads the data of a body in pieces, which is also how HTTP sends a body whose length it does not know (RFC 9112, 7.1): `SIZE;chunk-signature=…`, a line break, so many bytes, a line break; a piece of no
/// bytes is the last one, and checksums may follow it. The signatures of pieces are not looked at: that of the request is.
pub(crate) struct Pieces<R> {
    from: BufReader<R>,
    left: u64,
    is_over: bool,
}

impl<R: Read> Pieces<R> {
    pub fn new(from: R) -> Self {
        Self { from: BufReader::new(from), left: 0, is_over: false }
    }

    fn line(&mut self) -> io::Result<String> {
        let mut line = String::new();
        let read = self.from.by_ref().take(LONGEST_LINE).read_line(&mut line)?;
        if read == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        Ok(line.trim_end_matches(['\r', '\n']).to_owned())
    }

    fn next_piece(&mut self) -> io::Result<()> {
        let line = self.line()?;
        let size = line.split(';').next().unwrap_or_default();
        self.left = u64::from_str_radix(size, 16).map_err(|_| io::Error::from(io::ErrorKind::InvalidData))?;
        if self.left == 0 {
            self.is_over = true;
            // Checksums may follow, each on a line; an empty line, or the end, is the end.
            while self.line().is_ok_and(|line| !line.is_empty()) {}
        }
        Ok(())
    }
}

impl<R: Read> Read for Pieces<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        if self.left == 0 && !self.is_over {
            self.next_piece()?;
        }
        if self.is_over || to.is_empty() {
            return Ok(0);
        }
        let most = usize::try_from(self.left).unwrap_or(usize::MAX).min(to.len());
        let read = self.from.read(&mut to[..most])?;
        if read == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.left -= read as u64;
        if self.left == 0 {
            self.line()?;
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pieces_are_put_together_and_a_cut_one_is_an_error() {
        let body = "5;chunk-signature=ab\r\ntide \r\n4;chunk-signature=cd\r\ntime\r\n0;chunk-signature=ef\r\n\
                    x-amz-checksum-crc32:AAAA\r\n\r\n";
        let read = |text: &str| {
            let mut data = String::new();
            Pieces::new(text.as_bytes()).read_to_string(&mut data).map(|_| data)
        };
        assert_eq!(read(body).unwrap(), "tide time");
        assert!(read(&body[..30]).is_err());
        assert!(read("zz\r\n").is_err());
    }
}
