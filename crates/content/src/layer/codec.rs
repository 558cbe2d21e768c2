//! Compression of independent blocks that can be put one after the other.
//!
//! zstd: every block is a frame (RFC 8878, 3.1: frames may be concatenated). gzip: the whole layer
//! is **one** member (RFC 1952), as some readers stop after the first; every block is raw deflate
//! data (RFC 1951) that ends on a byte boundary by a sync flush, and the checksum of the member is
//! combined from those of the parts.

use crc32fast::Hasher as Crc;
use flate2::{Compress, Compression, FlushCompress, Status};
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::io::{self, Read, Write};

/// How layers are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Codec {
    /// Zstandard, level 3.
    #[default]
    Zstd,
    /// gzip, level 6, for readers that know nothing newer.
    Gzip,
}

/// A block holds this many bytes before compression; only the last of a part holds fewer.
pub(super) const BLOCK: usize = 4 << 20;

const ZSTD_LEVEL: i32 = 3;
const GZIP_LEVEL: u32 = 6;
const GZIP_HEADER: [u8; 10] = [0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff];
/// An empty final deflate block with fixed codes.
const DEFLATE_END: [u8; 2] = [3, 0];

impl Codec {
    /// The lower-case name, as in options and folder names.
    pub fn name(self) -> &'static str {
        match self {
            Self::Zstd => "zstd",
            Self::Gzip => "gzip",
        }
    }

    /// The media type of a layer (OCI image specification, layer media types).
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Zstd => "application/vnd.oci.image.layer.v1.tar+zstd",
            Self::Gzip => "application/vnd.oci.image.layer.v1.tar+gzip",
        }
    }

    /// The codec of a layer's media type.
    pub fn of_media_type(media_type: &str) -> Option<Self> {
        [Self::Zstd, Self::Gzip].into_iter().find(|c| c.media_type() == media_type)
    }

    /// Compresses one block.
    pub(super) fn block(self, raw: &[u8]) -> io::Result<Vec<u8>> {
        match self {
            Self::Zstd => zstd_frame(raw),
            Self::Gzip => deflate(raw),
        }
    }

    /// What stands before the first block of a layer.
    pub(super) fn prologue(self) -> &'static [u8] {
        match self {
            Self::Zstd => &[],
            Self::Gzip => &GZIP_HEADER,
        }
    }

    /// What stands after the last block of a layer with this checksum.
    pub(super) fn epilogue(self, crc: &Crc, raw_length: u64) -> Vec<u8> {
        match self {
            Self::Zstd => Vec::new(),
            Self::Gzip => {
                let mut end = DEFLATE_END.to_vec();
                end.extend(crc.clone().finalize().to_le_bytes());
                // RFC 1952: the input size modulo 2^32.
                end.extend((raw_length as u32).to_le_bytes());
                end
            }
        }
    }

    /// Reads the raw bytes of blocks that were compressed by [`Codec::block`].
    pub(super) fn blocks_reader<'a>(self, blocks: impl Read + 'a) -> io::Result<Box<dyn Read + 'a>> {
        Ok(match self {
            Self::Zstd => Box::new(zstd::stream::read::Decoder::new(blocks)?),
            // The end of the deflate stream is kept with the layer, not with its parts.
            Self::Gzip => {
                let whole = blocks.chain(&DEFLATE_END[..]);
                Box::new(flate2::read::DeflateDecoder::new(whole))
            }
        })
    }

    /// Reads the raw bytes of a whole layer.
    pub fn layer_reader<'a>(self, layer: impl Read + 'a) -> io::Result<Box<dyn Read + 'a>> {
        Ok(match self {
            Self::Zstd => Box::new(zstd::stream::read::Decoder::new(layer)?),
            Self::Gzip => Box::new(flate2::read::MultiGzDecoder::new(layer)),
        })
    }
}

/// One frame. Making a compressor costs more than compressing a small package with it, so each
/// thread keeps one; the bytes do not depend on what it compressed before.
fn zstd_frame(raw: &[u8]) -> io::Result<Vec<u8>> {
    thread_local! {
        static KEPT: RefCell<Option<zstd::bulk::Compressor<'static>>> = const { RefCell::new(None) };
    }
    KEPT.with_borrow_mut(|kept| {
        let compressor = match kept {
            Some(compressor) => compressor,
            None => kept.insert(zstd::bulk::Compressor::new(ZSTD_LEVEL)?),
        };
        compressor.compress(raw)
    })
}

fn deflate(raw: &[u8]) -> io::Result<Vec<u8>> {
    let mut state = Compress::new(Compression::new(GZIP_LEVEL), false);
    let mut out = Vec::with_capacity(raw.len() / 2 + 64);
    loop {
        let taken = usize::try_from(state.total_in()).map_err(io::Error::other)?;
        out.reserve(out.capacity().max(4096));
        let status = state.compress_vec(&raw[taken..], &mut out, FlushCompress::Sync)?;
        let all_in = state.total_in() == raw.len() as u64;
        // Room left in the output means that the flush is complete.
        if status != Status::BufError && all_in && out.len() < out.capacity() {
            return Ok(out);
        }
    }
}

/// Compresses a stream in blocks, several at a time, in order.
pub(super) struct BlockWriter<W: Write> {
    to: W,
    codec: Codec,
    threads: usize,
    waiting: Vec<Vec<u8>>,
    crc: Crc,
    raw_length: u64,
}

impl<W: Write> BlockWriter<W> {
    pub(super) fn new(to: W, codec: Codec, threads: usize) -> Self {
        Self { to, codec, threads: threads.max(1), waiting: Vec::new(), crc: Crc::new(), raw_length: 0 }
    }

    /// Compresses what is left; gives the writer, the checksum and length of the raw bytes.
    pub(super) fn finish(mut self) -> io::Result<(W, Crc, u64)> {
        self.compress_waiting()?;
        Ok((self.to, self.crc, self.raw_length))
    }

    fn compress_waiting(&mut self) -> io::Result<()> {
        let blocks = std::mem::take(&mut self.waiting);
        let codec = self.codec;
        let done: Vec<io::Result<Vec<u8>>> = match &blocks[..] {
            [] => Vec::new(),
            [one] => vec![codec.block(one)],
            several => std::thread::scope(|scope| {
                let at_work: Vec<_> = several.iter().map(|b| scope.spawn(move || codec.block(b))).collect();
                let join = |t: std::thread::ScopedJoinHandle<'_, _>| {
                    t.join().unwrap_or_else(|_| Err(io::Error::other("a compressing thread ended early")))
                };
                at_work.into_iter().map(join).collect()
            }),
        };
        for block in done {
            self.to.write_all(&block?)?;
        }
        Ok(())
    }
}

impl<W: Write> Write for BlockWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let full = self.waiting.last().is_none_or(|b| b.len() == BLOCK);
        if full {
            if self.waiting.len() == self.threads {
                self.compress_waiting()?;
            }
            self.waiting.push(Vec::new());
        }
        let Some(block) = self.waiting.last_mut() else { return Ok(0) };
        let taken = bytes.len().min(BLOCK - block.len());
        block.extend_from_slice(&bytes[..taken]);
        self.crc.update(&bytes[..taken]);
        self.raw_length += taken as u64;
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
