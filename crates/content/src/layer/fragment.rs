//! Fragments: one package's piece of a layer, normalised and already compressed.
//!
//! On disk: `SHTFRAG1`, the raw length (8 bytes), the CRC-32 of the raw bytes (4 bytes), both
//! little-endian, the compressed blocks, and the SHA-256 of all before it.

use super::codec::{BlockWriter, Codec};
use super::entry::TarWriter;
use crate::digest::{Hasher, Sha256};
use crate::error::{PathContext, Result};
use crate::store::{Store, TemporaryFile};
use crc32fast::Hasher as Crc;
use std::fs;
use std::io::{self, Write};

const MAGIC: &[u8; 8] = b"SHTFRAG1";
const HEAD: usize = 8 + 8 + 4;
const TAIL: usize = 32;

/// A fragment read from the store, its checksum verified.
pub struct Fragment {
    bytes: Vec<u8>,
    codec: Codec,
}

impl Fragment {
    /// Reads the fragment `key`; `None` when the store does not have it whole.
    pub fn read(store: &Store, codec: Codec, key: Sha256) -> Option<Self> {
        let bytes = fs::read(store.fragment_path(codec.name(), key)).ok()?;
        let sound = bytes.len() >= HEAD + TAIL
            && bytes.starts_with(MAGIC)
            && Sha256::of(&bytes[..bytes.len() - TAIL]).bytes() == &bytes[bytes.len() - TAIL..];
        sound.then_some(Self { bytes, codec })
    }

    /// The compressed blocks.
    pub(super) fn blocks(&self) -> &[u8] {
        &self.bytes[HEAD..self.bytes.len() - TAIL]
    }

    /// Length of the raw tar bytes.
    pub fn raw_length(&self) -> u64 {
        let mut length = [0; 8];
        length.copy_from_slice(&self.bytes[8..16]);
        u64::from_le_bytes(length)
    }

    pub(super) fn crc(&self) -> Crc {
        let mut crc = [0; 4];
        crc.copy_from_slice(&self.bytes[16..20]);
        Crc::new_with_initial_len(u32::from_le_bytes(crc), self.raw_length())
    }

    /// Writes the raw tar bytes to `to`.
    pub(super) fn inflate(&self, to: &mut dyn Write) -> io::Result<()> {
        // A package may put nothing down: then there is no block to read.
        if self.raw_length() == 0 {
            return Ok(());
        }
        let copied = io::copy(&mut self.codec.blocks_reader(self.blocks())?, to)?;
        if copied == self.raw_length() { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }
}

/// Writes a new fragment.
pub struct FragmentWriter {
    tar: TarWriter<BlockWriter<Vec<u8>>>,
    codec: Codec,
}

impl FragmentWriter {
    /// Starts a fragment.
    pub fn new(codec: Codec) -> Self {
        Self { tar: TarWriter::new(BlockWriter::new(Vec::new(), codec, 1)), codec }
    }

    /// The tar entries go here, in order of their paths.
    pub fn tar(&mut self) -> &mut TarWriter<impl Write> {
        &mut self.tar
    }

    /// Puts the fragment into the store as `key` and gives it back for use.
    pub fn finish(self, store: &Store, key: Sha256) -> Result<Fragment> {
        let path = store.fragment_path(self.codec.name(), key);
        let (blocks, crc, raw_length) = self.tar.into_inner().finish().at(&path)?;
        let mut bytes = Vec::with_capacity(HEAD + blocks.len() + TAIL);
        bytes.extend(MAGIC);
        bytes.extend(raw_length.to_le_bytes());
        bytes.extend(crc.finalize().to_le_bytes());
        bytes.extend(blocks);
        let mut hasher = Hasher::new();
        hasher.update(&bytes);
        bytes.extend(hasher.finish().bytes());
        let mut file: TemporaryFile = store.temporary_file()?;
        file.write_all(&bytes).at(&path)?;
        file.publish(&path)?;
        Ok(Fragment { bytes, codec: self.codec })
    }
}
