//! Fragments: one package's piece of a layer, normalised and already compressed.
//!
//! On disk: `SHTFRAG2`, the compressed blocks, the raw length (8 bytes), the CRC-32 of the raw bytes
//! (4 bytes), both little-endian, and the SHA-256 of all before it. Large ones are never whole in memory.

use super::codec::{BlockWriter, Codec};
use super::entry::TarWriter;
use crate::digest::{Hasher, HashingWriter, Sha256};
use crate::error::{PathContext, Result};
use crate::store::{Store, TemporaryFile};
use crc32fast::Hasher as Crc;
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

const MAGIC: &[u8; 8] = b"SHTFRAG2";
const HEAD: u64 = 8;
const NUMBERS: u64 = 8 + 4;
const SUM: u64 = 32;
/// So much is read at once, in bytes.
const PIECE: usize = 256 << 10;
/// Fragments up to this length in bytes are read once and kept in memory while they are used.
const KEPT: u64 = 1 << 20;

/// A fragment of the store, its checksum verified.
pub struct Fragment {
    blocks: Blocks,
    codec: Codec,
    raw_length: u64,
    crc: u32,
}

enum Blocks {
    Kept(Vec<u8>),
    /// The file, and how long the blocks in it are.
    InFile(File, u64),
}

impl Fragment {
    /// Opens the fragment `key`; `None` when the store does not have it whole.
    pub fn read(store: &Store, codec: Codec, key: Sha256) -> Option<Self> {
        let mut file = File::open(store.fragment_path(codec.name(), key)).ok()?;
        let length = file.metadata().ok()?.len();
        let blocks_length = length.checked_sub(HEAD + NUMBERS + SUM)?;
        let mut tail = [0; (NUMBERS + SUM) as usize];
        file.read_exact_at(&mut tail, HEAD + blocks_length).ok()?;
        let (blocks, sum) = if length <= KEPT {
            let mut bytes = Vec::new();
            file.read_to_end(&mut bytes).ok()?;
            let whole = bytes.get(..usize::try_from(length - SUM).ok()?)?;
            let sum = Sha256::of(whole);
            let end = usize::try_from(HEAD + blocks_length).ok()?;
            let blocks = bytes.starts_with(MAGIC).then(|| bytes[MAGIC.len()..end].to_vec())?;
            (Blocks::Kept(blocks), sum)
        } else {
            let mut magic = [0; MAGIC.len()];
            file.read_exact_at(&mut magic, 0).ok()?;
            let (sum, _) = Hasher::of_reader(&mut (&file).take(length - SUM)).ok()?;
            if magic != *MAGIC {
                return None;
            }
            (Blocks::InFile(file, blocks_length), sum)
        };
        let (numbers, expected) = tail.split_at(NUMBERS as usize);
        let raw_length = u64::from_le_bytes(numbers[..8].try_into().ok()?);
        let crc = u32::from_le_bytes(numbers[8..].try_into().ok()?);
        (sum.bytes()[..] == *expected).then_some(Self { blocks, codec, raw_length, crc })
    }

    /// Reads the compressed blocks.
    pub(super) fn blocks(&self) -> Box<dyn Read + '_> {
        match &self.blocks {
            Blocks::Kept(bytes) => Box::new(&bytes[..]),
            Blocks::InFile(file, length) => Box::new(Part { file, at: HEAD, end: HEAD + length }),
        }
    }

    /// Length of the raw tar bytes.
    pub fn raw_length(&self) -> u64 {
        self.raw_length
    }

    pub(super) fn crc(&self) -> Crc {
        Crc::new_with_initial_len(self.crc, self.raw_length)
    }

    /// Whether it is so large that work on it is worth threads.
    pub(super) fn is_large(&self) -> bool {
        matches!(self.blocks, Blocks::InFile(..))
    }

    /// Gives the raw tar bytes to `take`, piece by piece.
    pub(super) fn inflate(&self, mut take: impl FnMut(&[u8]) -> io::Result<()>) -> io::Result<()> {
        // A package may put nothing down: then there is no block to read.
        if self.raw_length == 0 {
            return Ok(());
        }
        let mut reader = self.codec.blocks_reader(self.blocks())?;
        let (mut piece, mut copied) = (vec![0; PIECE], 0);
        loop {
            match reader.read(&mut piece)? {
                0 => break,
                count => {
                    copied += count as u64;
                    take(&piece[..count])?;
                }
            }
        }
        if copied == self.raw_length { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }
}

/// A part of a file, read without the file's own place, so that several can read at once.
struct Part<'a> {
    file: &'a File,
    at: u64,
    end: u64,
}

impl Read for Part<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let left = usize::try_from(self.end - self.at).unwrap_or(usize::MAX);
        let wanted = to.len().min(left);
        let count = self.file.read_at(&mut to[..wanted], self.at)?;
        self.at += count as u64;
        Ok(count)
    }
}

/// Writes a new fragment.
pub struct FragmentWriter {
    tar: TarWriter<BlockWriter<HashingWriter<TemporaryFile>>>,
    path: PathBuf,
}

impl FragmentWriter {
    /// Starts the fragment `key`; blocks are compressed on up to `threads` threads.
    pub fn new(store: &Store, codec: Codec, key: Sha256, threads: usize) -> Result<Self> {
        let path = store.fragment_path(codec.name(), key);
        let mut file = HashingWriter::new(store.temporary_file()?);
        file.write_all(MAGIC).at(&path)?;
        Ok(Self { tar: TarWriter::new(BlockWriter::new(file, codec, threads)), path })
    }

    /// The tar entries go here, in order of their paths.
    pub fn tar(&mut self) -> &mut TarWriter<impl Write> {
        &mut self.tar
    }

    /// Puts the fragment into the store.
    pub fn finish(self) -> Result<()> {
        let (mut file, crc, raw_length) = self.tar.into_inner().finish().at(&self.path)?;
        file.write_all(&raw_length.to_le_bytes()).at(&self.path)?;
        file.write_all(&crc.finalize().to_le_bytes()).at(&self.path)?;
        let (mut file, sum) = file.finish();
        file.write_all(sum.bytes()).at(&self.path)?;
        file.publish(&self.path)
    }
}
