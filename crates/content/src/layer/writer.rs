//! Writes a layer blob into the store.

use super::codec::{BlockWriter, Codec};
use super::entry::TarWriter;
use super::fragment::Fragment;
use crate::digest::{BlobDigest, DiffId, Hasher, HashingReader, HashingWriter};
use crate::error::{ContentError, PathContext, Result};
use crate::layer::verify::verify;
use crate::store::{Store, TemporaryFile};
use crc32fast::Hasher as Crc;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::{self, BufReader, Read, Write};

/// A finished layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct WrittenLayer {
    /// Digest of the compressed blob.
    pub digest: BlobDigest,
    /// Digest of the tar bytes.
    pub diff_id: DiffId,
    /// Length of the compressed blob in bytes.
    pub size: u64,
    /// Length of the tar bytes.
    pub raw_size: u64,
    /// How it is compressed.
    pub codec: Codec,
}

/// A layer that is being written.
pub struct LayerWriter<'s> {
    store: &'s Store,
    codec: Codec,
    threads: usize,
    blob: HashingWriter<TemporaryFile>,
    raw: Hasher,
    raw_length: u64,
    crc: Crc,
    adopted: Option<WrittenLayer>,
}

impl<'s> LayerWriter<'s> {
    /// Starts a layer; blocks are compressed on up to `threads` threads.
    pub fn new(store: &'s Store, codec: Codec, threads: usize) -> Result<Self> {
        let mut blob = HashingWriter::new(store.temporary_file()?);
        blob.write_all(codec.prologue())?;
        let raw = Hasher::new();
        Ok(Self { store, codec, threads, blob, raw, raw_length: 0, crc: Crc::new(), adopted: None })
    }

    /// The codec of this layer; fragments must have the same.
    pub fn codec(&self) -> Codec {
        self.codec
    }

    /// The store that the layer goes into.
    pub fn store(&self) -> &'s Store {
        self.store
    }

    /// Appends entries that `write` writes in order.
    pub fn part<E: From<io::Error>>(
        &mut self,
        write: impl FnOnce(&mut TarWriter<&mut dyn Write>) -> Result<(), E>,
    ) -> Result<(), E> {
        let mut blocks = BlockWriter::new(&mut self.blob, self.codec, self.threads);
        let mut tee = Tee { hasher: &mut self.raw, next: &mut blocks };
        write(&mut TarWriter::new(&mut tee))?;
        let (_, crc, length) = blocks.finish()?;
        self.crc.combine(&crc);
        self.raw_length += length;
        Ok(())
    }

    /// Appends a package that was compressed before.
    pub fn fragment(&mut self, fragment: &Fragment) -> Result<()> {
        if fragment.is_large() {
            self.copy_and_hash(fragment)?;
        } else {
            fragment.copy_to(&mut self.blob)?;
            fragment.inflate(|piece| {
                self.raw.update(piece);
                Ok(())
            })?;
        }
        self.crc.combine(&fragment.crc());
        self.raw_length += fragment.raw_length();
        Ok(())
    }

    /// Copies the blocks and hashes what they hold, each on a thread: one file read twice, at once.
    fn copy_and_hash(&mut self, fragment: &Fragment) -> io::Result<()> {
        let (blob, raw) = (&mut self.blob, &mut self.raw);
        std::thread::scope(|scope| {
            let copying = scope.spawn(move || fragment.copy_to(blob));
            let (sender, pieces) = std::sync::mpsc::sync_channel::<Vec<u8>>(4);
            let inflating = scope.spawn(move || {
                // If the receiver is gone, another thread reports the error.
                let gone = |_| io::Error::from(io::ErrorKind::BrokenPipe);
                fragment.inflate(|piece| sender.send(piece.to_vec()).map_err(gone))
            });
            for piece in pieces {
                raw.update(&piece);
            }
            let ended_early = |_| Err(io::Error::other("a thread ended early"));
            copying.join().unwrap_or_else(ended_early)?;
            inflating.join().unwrap_or_else(ended_early)
        })
    }

    /// Takes a finished blob of the store for the whole layer, in place of anything that is written. Its content must be
    /// that of `diff_id`, and lead nobody out who unpacks it.
    pub fn adopt(&mut self, digest: BlobDigest, codec: Codec, diff_id: DiffId) -> Result<()> {
        let path = self.store.blob_path(digest);
        let file = File::open(&path).at(&path)?;
        let size = file.metadata().at(&path)?.len();
        let mut compressed = HashingReader::new(BufReader::new(file));
        let verified = verify(codec.layer_reader(&mut compressed).at(&path)?, &digest.to_string());
        io::copy(&mut compressed, &mut io::sink()).at(&path)?;
        if compressed.finish() != digest.0 {
            return Err(self.store.damaged_blob(digest));
        }
        let (found, raw_size) = verified?;
        if DiffId(found) != diff_id {
            return Err(ContentError::DigestMismatch {
                what: format!("layer {}", path.display()),
                expected: diff_id.to_string(),
                found: DiffId(found).to_string(),
            });
        }
        self.adopted = Some(WrittenLayer { digest, diff_id, size, raw_size, codec });
        Ok(())
    }

    /// Appends the entries of a whole tar archive of others as they are, as long as they lead nobody out. `label` names
    /// the archive in errors.
    pub fn archive(&mut self, archive: &mut dyn Read, label: &str) -> Result<()> {
        let mut blocks = BlockWriter::new(&mut self.blob, self.codec, self.threads);
        let mut tee = Tee { hasher: &mut self.raw, next: &mut blocks };
        verify(BufReader::new(Passing { from: archive, to: &mut tee }), label)?;
        let (_, crc, length) = blocks.finish()?;
        self.crc.combine(&crc);
        self.raw_length += length;
        Ok(())
    }

    /// Ends the archive and puts the blob into the store.
    pub fn finish(mut self) -> Result<WrittenLayer> {
        if let Some(adopted) = self.adopted {
            return Ok(adopted);
        }
        // Two zero blocks end a tar archive (POSIX.1-2001, pax, "ustar Interchange Format").
        let end = [0; 1024];
        self.raw.update(&end);
        self.raw_length += end.len() as u64;
        self.crc.update(&end);
        let closing = self.codec.block(&end)?;
        self.blob.write_all(&closing)?;
        let epilogue = self.codec.epilogue(&self.crc, self.raw_length);
        self.blob.write_all(&epilogue)?;
        let (mut file, digest) = self.blob.finish();
        let digest = BlobDigest(digest);
        let path = self.store.blob_path(digest);
        let size = file.size().at(&path)?;
        self.store.publish_blob(file, digest)?;
        let diff_id = DiffId(self.raw.finish());
        Ok(WrittenLayer { digest, diff_id, size, raw_size: self.raw_length, codec: self.codec })
    }
}

/// Passes on what is read through it.
struct Passing<'a, W> {
    from: &'a mut dyn Read,
    to: W,
}

impl<W: Write> Read for Passing<'_, W> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let count = self.from.read(to)?;
        self.to.write_all(&to[..count])?;
        Ok(count)
    }
}

/// Hashes what flows on to the next writer.
struct Tee<'a> {
    hasher: &'a mut Hasher,
    next: &'a mut dyn Write,
}

impl Write for Tee<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.next.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        Ok(written)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.next.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::Sha256;
    use crate::layer::{Entry, Fragment, FragmentWriter};

    fn mixed_layer(store: &Store, codec: Codec, threads: usize) -> WrittenLayer {
        // Two and a half blocks that do not compress to nothing.
        let big: Vec<u8> = (0..10_500_000_u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        // One that is read as it is needed, and one that is kept in memory.
        let noise: Vec<u8> = (0..600_000_u64)
            .flat_map(|i| (i * i).wrapping_mul(0x9e37_79b9_7f4a_7c15).to_be_bytes())
            .step_by(3)
            .collect();
        for (name, content) in [("b", &b"two"[..]), ("c", &noise)] {
            let mut fragment =
                FragmentWriter::new(store, codec, Sha256::of(name.as_bytes()), threads).unwrap();
            let entry = Entry::file(format!("app/{name}"), content.len() as u64, false);
            fragment.tar().file(&entry, &mut &content[..]).unwrap();
            fragment.finish().unwrap();
        }
        let mut layer = LayerWriter::new(store, codec, threads).unwrap();
        layer
            .part::<io::Error>(|tar| {
                tar.entry(&Entry::folder("app"))?;
                tar.file(&Entry::file("app/a", big.len() as u64, true), &mut &big[..])
            })
            .unwrap();
        for name in ["b", "c"] {
            layer.fragment(&Fragment::read(store, codec, Sha256::of(name.as_bytes())).unwrap()).unwrap();
        }
        layer.finish().unwrap()
    }

    #[test]
    fn bytes_do_not_depend_on_threads_and_a_plain_reader_reads_them() {
        for codec in [Codec::Zstd, Codec::Gzip] {
            let folder =
                std::env::temp_dir().join(format!("shtetl-layer-{}-{}", codec.name(), std::process::id()));
            let store = Store::open(&folder).unwrap();
            let one = mixed_layer(&store, codec, 1);
            assert_eq!(one, mixed_layer(&store, codec, 5));
            let blob = File::open(store.blob_path(one.digest)).unwrap();
            let mut reader: Box<dyn Read> = match codec {
                Codec::Zstd => Box::new(zstd::stream::read::Decoder::new(blob).unwrap()),
                // A single-member reader: it checks the combined checksum and stops at the end.
                Codec::Gzip => Box::new(flate2::read::GzDecoder::new(blob)),
            };
            let (found, length) = Hasher::of_reader(&mut reader).unwrap();
            assert_eq!((DiffId(found), length), (one.diff_id, one.raw_size));
            drop(reader);
            crate::store::remove_tree(&folder);
        }
    }
}
