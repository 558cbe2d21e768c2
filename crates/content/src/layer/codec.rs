//! Compression of independent blocks that can be put one after the other.
//!
//! zstd: every block is a frame (RFC 8878, 3.1: frames may be concatenated). gzip: the whole layer
//! is **one** member (RFC 1952), as some readers stop after the first; every block is raw deflate
//! data (RFC 1951) that ends on a byte boundary by a sync flush, and the checksum of the member is
//! combined from those of the parts.

use crc32fast::Hasher as Crc;
use flate2::read::DeflateDecoder;
use flate2::{Compress, Compression, FlushCompress, Status};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::io::{self, BufReader, Read, Write};
use std::sync::{Mutex, PoisonError};
use std::thread::JoinHandle;
use zstd::bulk::Compressor;
use zstd::zstd_safe::DCtx;

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

/// So much is read at once, in bytes.
pub(super) const PIECE: usize = 256 << 10;

const ZSTD_LEVEL: i32 = 3;
const GZIP_LEVEL: u32 = 6;
const GZIP_HEADER: [u8; 10] = [0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff];
/// An empty final deflate block with fixed codes.
const DEFLATE_END: [u8; 2] = [3, 0];

impl Codec {
    /// All of them.
    pub(super) const ALL: [Self; 2] = [Self::Zstd, Self::Gzip];

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

    /// Gives the raw bytes of blocks that were compressed by [`Codec::block`] to `take`, piece by piece.
    pub(super) fn inflate(
        self,
        blocks: impl Read,
        take: impl FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<()> {
        static KEPT: Pool<(DCtx<'static>, Vec<u8>)> = Pool::new();
        let make = || Ok((DCtx::create(), vec![0; PIECE]));
        KEPT.with(make, |(context, piece)| match self {
            Self::Zstd => {
                let blocks = BufReader::with_capacity(PIECE, blocks);
                pass_on(zstd::stream::read::Decoder::with_context(blocks, context), piece, take)
            }
            // The end of the deflate stream is kept with the layer, not with its parts.
            Self::Gzip => pass_on(DeflateDecoder::new(blocks.chain(&DEFLATE_END[..])), piece, take),
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

/// Reads to the end, a piece at a time.
fn pass_on(
    mut from: impl Read,
    piece: &mut [u8],
    mut take: impl FnMut(&[u8]) -> io::Result<()>,
) -> io::Result<()> {
    loop {
        match from.read(piece)? {
            0 => return Ok(()),
            count => take(&piece[..count])?,
        }
    }
}

/// One frame; the bytes do not depend on what its compressor compressed before.
fn zstd_frame(raw: &[u8]) -> io::Result<Vec<u8>> {
    static KEPT: Pool<Compressor<'static>> = Pool::new();
    KEPT.with(|| Compressor::new(ZSTD_LEVEL), |compressor| compressor.compress(raw))
}

/// What costs more to make than to use for a small package: there are as many as are used at once, however
/// many threads there are.
struct Pool<T>(Mutex<Vec<T>>);

impl<T> Pool<T> {
    const fn new() -> Self {
        Self(Mutex::new(Vec::new()))
    }

    /// Does `work` with one that is free, else with a new one.
    fn with<R>(
        &self,
        make: impl FnOnce() -> io::Result<T>,
        work: impl FnOnce(&mut T) -> io::Result<R>,
    ) -> io::Result<R> {
        let free = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = free().pop();
        let mut one = kept.map_or_else(make, Ok)?;
        let done = work(&mut one)?;
        free().push(one);
        Ok(done)
    }
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

/// Compresses a stream in blocks, in order; with several threads, while the next block arrives.
pub(super) struct BlockWriter<W: Write> {
    to: W,
    codec: Codec,
    threads: usize,
    block: Vec<u8>,
    /// Blocks that are being compressed, in order.
    at_work: VecDeque<JoinHandle<io::Result<Vec<u8>>>>,
    crc: Crc,
    raw_length: u64,
}

impl<W: Write> BlockWriter<W> {
    pub(super) fn new(to: W, codec: Codec, threads: usize) -> Self {
        let (block, at_work) = (Vec::new(), VecDeque::new());
        Self { to, codec, threads: threads.max(1), block, at_work, crc: Crc::new(), raw_length: 0 }
    }

    /// Compresses what is left; gives the writer, the checksum and length of the raw bytes.
    pub(super) fn finish(mut self) -> io::Result<(W, Crc, u64)> {
        // A single block is not worth a thread.
        if self.at_work.is_empty() && !self.block.is_empty() {
            self.to.write_all(&self.codec.block(&self.block)?)?;
        } else if !self.block.is_empty() {
            self.hand_over()?;
        }
        while let Some(block) = self.at_work.pop_front() {
            self.collect(block)?;
        }
        Ok((self.to, self.crc, self.raw_length))
    }

    /// Has the block compressed.
    fn hand_over(&mut self) -> io::Result<()> {
        let (block, codec) = (std::mem::take(&mut self.block), self.codec);
        if self.threads == 1 {
            let compressed = codec.block(&block)?;
            // The room is used again.
            self.block = block;
            self.block.clear();
            return self.to.write_all(&compressed);
        }
        while self.at_work.len() >= self.threads {
            let Some(first) = self.at_work.pop_front() else { break };
            self.collect(first)?;
        }
        self.at_work.push_back(std::thread::spawn(move || codec.block(&block)));
        Ok(())
    }

    fn collect(&mut self, block: JoinHandle<io::Result<Vec<u8>>>) -> io::Result<()> {
        let ended_early = |_| Err(io::Error::other("a compressing thread ended early"));
        self.to.write_all(&block.join().unwrap_or_else(ended_early)?)
    }
}

impl<W: Write> Write for BlockWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.block.len() == BLOCK {
            self.hand_over()?;
        }
        let taken = bytes.len().min(BLOCK - self.block.len());
        self.block.extend_from_slice(&bytes[..taken]);
        self.crc.update(&bytes[..taken]);
        self.raw_length += taken as u64;
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
