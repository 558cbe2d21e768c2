//! Fragments: one package's piece of a layer, normalised and already compressed.
//!
//! On disk: the compressed blocks, the raw length (8 bytes), the CRC-32 of the raw bytes (4 bytes) and
//! the CRC-32 of codec, key and all before it (4 bytes), little-endian: a fragment under another's name does not
//! pass for it. Large ones are never whole in memory. What a
//! package is was settled by its digest before: here only damage has to be found, and a SHA-256 of
//! everything, each time, would take longer than all other work on fragments that are there.

use super::codec::{BlockWriter, Codec, PIECE};
use super::entry::TarWriter;
use crate::digest::{BlobDigest, Sha256};
use crate::error::{PathContext, Result};
use crate::store::{Store, TemporaryFile};
use crc32fast::Hasher as Crc;
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// Version of the form on disk; part of the path.
const FORMAT: u32 = 4;
const NUMBERS: u64 = 8 + 4;
const SUM: u64 = 4;
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
    /// Whether the store has the fragment `key`; it may be damaged.
    pub fn is_there(store: &Store, codec: Codec, key: Sha256) -> bool {
        path(store, codec, key).exists()
    }

    /// Opens the fragment `key`; `None` when the store does not have it whole. One that is damaged is noted and removed.
    pub fn read(store: &Store, codec: Codec, key: Sha256) -> Option<Self> {
        let path = path(store, codec, key);
        let file = File::open(&path).ok()?;
        let fragment = Self::verified(file, codec, key);
        if fragment.is_none() {
            store.note_damage(&path);
            // What cannot be removed is found damaged again.
            let _ = std::fs::remove_file(&path);
        }
        fragment
    }

    /// Whether the file at `path`, in the folder that fragments of its kind have, is whole; it stays as it is. Nothing where
    /// the folder is not one of fragments of this form.
    pub fn is_whole(path: &Path) -> Option<bool> {
        let folder = path.parent()?.file_name()?.to_str()?;
        let codec = Codec::ALL.into_iter().find(|codec| folder == kind(*codec))?;
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let key = format!("sha256:{name}").parse::<BlobDigest>().ok().map(|digest| digest.0);
        let file = File::open(path).ok();
        Some(key.zip(file).is_some_and(|(key, file)| Self::verified(file, codec, key).is_some()))
    }

    fn verified(mut file: File, codec: Codec, key: Sha256) -> Option<Self> {
        let length = file.metadata().ok()?.len();
        let blocks_length = length.checked_sub(NUMBERS + SUM)?;
        let mut tail = [0; (NUMBERS + SUM) as usize];
        file.read_exact_at(&mut tail, blocks_length).ok()?;
        let mut sum = sum_for(codec, key);
        let blocks = if length <= KEPT {
            let mut bytes = Vec::new();
            file.read_to_end(&mut bytes).ok()?;
            sum.update(bytes.get(..usize::try_from(length - SUM).ok()?)?);
            bytes.truncate(usize::try_from(blocks_length).ok()?);
            Blocks::Kept(bytes)
        } else {
            let (mut whole, mut piece) = (Part { file: &file, at: 0, end: length - SUM }, vec![0; PIECE]);
            loop {
                match whole.read(&mut piece).ok()? {
                    0 => break,
                    count => sum.update(&piece[..count]),
                }
            }
            Blocks::InFile(file, blocks_length)
        };
        let (numbers, expected) = tail.split_at(NUMBERS as usize);
        let raw_length = u64::from_le_bytes(numbers[..8].try_into().ok()?);
        let crc = u32::from_le_bytes(numbers[8..].try_into().ok()?);
        (sum.finalize().to_le_bytes() == *expected).then_some(Self { blocks, codec, raw_length, crc })
    }

    /// Copies the compressed blocks.
    pub(super) fn copy_to(&self, to: &mut impl Write) -> io::Result<()> {
        match &self.blocks {
            Blocks::Kept(bytes) => to.write_all(bytes),
            Blocks::InFile(..) => io::copy(&mut self.blocks(), to).map(drop),
        }
    }

    /// Reads the compressed blocks.
    fn blocks(&self) -> Box<dyn Read + '_> {
        match &self.blocks {
            Blocks::Kept(bytes) => Box::new(&bytes[..]),
            Blocks::InFile(file, length) => Box::new(Part { file, at: 0, end: *length }),
        }
    }

    /// Length of the raw tar bytes.
    pub(crate) fn raw_length(&self) -> u64 {
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
        let mut copied = 0;
        self.codec.inflate(self.blocks(), |piece| {
            copied += piece.len() as u64;
            take(piece)
        })?;
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

/// The checksum of a fragment before its first byte.
fn sum_for(codec: Codec, key: Sha256) -> Crc {
    let mut sum = Crc::new();
    sum.update(codec.name().as_bytes());
    sum.update(key.bytes());
    sum
}

fn path(store: &Store, codec: Codec, key: Sha256) -> PathBuf {
    store.fragment_path(&kind(codec), key)
}

/// The folder of fragments that are compressed so.
fn kind(codec: Codec) -> String {
    format!("{}-{FORMAT}", codec.name())
}

/// Writes a new fragment.
pub struct FragmentWriter {
    tar: TarWriter<BlockWriter<Summed>>,
    path: PathBuf,
}

/// The new file, and the checksum of what is written to it.
struct Summed {
    file: TemporaryFile,
    sum: Crc,
}

impl Write for Summed {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.sum.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl FragmentWriter {
    /// Starts the fragment `key`; blocks are compressed on up to `threads` threads.
    pub fn new(store: &Store, codec: Codec, key: Sha256, threads: usize) -> Result<Self> {
        let to = Summed { file: store.temporary_file()?, sum: sum_for(codec, key) };
        let tar = TarWriter::new(BlockWriter::new(to, codec, threads));
        Ok(Self { tar, path: path(store, codec, key) })
    }

    /// The tar entries go here, in order of their paths.
    pub fn tar(&mut self) -> &mut TarWriter<impl Write> {
        &mut self.tar
    }

    /// Puts the fragment into the store.
    pub fn finish(self) -> Result<()> {
        let (mut to, crc, raw_length) = self.tar.into_inner().finish().at(&self.path)?;
        to.write_all(&raw_length.to_le_bytes()).at(&self.path)?;
        to.write_all(&crc.finalize().to_le_bytes()).at(&self.path)?;
        let Summed { mut file, sum } = to;
        file.write_all(&sum.finalize().to_le_bytes()).at(&self.path)?;
        file.persist_unsynced(&self.path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layer::Entry;
    use std::fs;

    #[test]
    fn damage_a_truncation_and_another_fragment_under_the_name_are_noticed() {
        let folder = std::env::temp_dir().join(format!("shtetl-fragments-{}", std::process::id()));
        let store = Store::open(&folder).unwrap();
        let [fog, quay] = ["fog", "quay"].map(|name| Sha256::of(name.as_bytes()));
        for (key, content) in [(fog, "horn"), (quay, "side")] {
            let mut writer = FragmentWriter::new(&store, Codec::Zstd, key, 1).unwrap();
            writer.tar().file(&Entry::file("app/a", 4, false), &mut content.as_bytes()).unwrap();
            writer.finish().unwrap();
        }
        let (file, other) = (path(&store, Codec::Zstd, fog), path(&store, Codec::Zstd, quay));
        let whole = fs::read(&file).unwrap();
        assert!(Fragment::read(&store, Codec::Zstd, fog).is_some() && store.take_damage().is_empty());
        for at in 0..whole.len() {
            let mut changed = whole.clone();
            changed[at] ^= 0x10;
            fs::write(&file, &changed).unwrap();
            assert!(Fragment::read(&store, Codec::Zstd, fog).is_none(), "byte {at}");
            assert!(!file.exists());
        }
        fs::write(&file, &whole[..whole.len() - 1]).unwrap();
        assert!(Fragment::read(&store, Codec::Zstd, fog).is_none());
        fs::copy(&other, &file).unwrap();
        assert!(Fragment::read(&store, Codec::Zstd, fog).is_none());
        assert_eq!(store.take_damage(), [file]);
        crate::store::remove_tree(&folder);
    }
}
