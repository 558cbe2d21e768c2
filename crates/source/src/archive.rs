//! Archives with an app in them: zip, and tar plain or compressed. The contents tell which, not the name.

use crate::gunzip::Gunzip;
use crate::unpacking::Unpacking;
use content::ContentError;
use content::store::{FileMemo, Signature, Store, remove_tree};
use model::error::SourceError;
use model::folder::entries;
use model::{Error, PathFacts, Result};
use std::fs::{self, File};
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use tar::EntryType;

/// How files are put together in one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    Zip,
    Tar,
    TarGzip,
    TarZstd,
}

impl Form {
    /// Told by the first bytes of the file; `None` when it is not an archive.
    pub(super) fn of(file: &Path) -> Result<Option<Self>> {
        let mut start = Vec::new();
        File::open(file).facts(file)?.take(512).read_to_end(&mut start).facts(file)?;
        Ok(match start[..] {
            [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => Some(Self::Zip),
            [0x1f, 0x8b, ..] => Some(Self::TarGzip),
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Self::TarZstd),
            _ if start.get(257..262) == Some(b"ustar") => Some(Self::Tar),
            _ => None,
        })
    }
}

/// The files of an archive, written to a folder of the store; that of an archive that was seen
/// before is there already. `now` is in nanoseconds since 1970.
pub(super) fn unpacked(file: &Path, form: Form, store: &Store, now: i64) -> Result<PathBuf> {
    let label = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let memo_name = "archives.json";
    let mut memo = FileMemo::load(store, memo_name);
    let signature = Signature::of(&fs::metadata(file).facts(file)?);
    let digest = memo.digest(&file.display().to_string(), file, signature, now)?;
    memo.save(store, memo_name)?;
    let name = format!("archive-{}", digest.0.hex());
    top_folder(store.tree_or(&name, || unpack(file, form, &label, store)?.finish())?)
}

/// Unpacks the archive of a package, called `label`, into the empty folder `to`, without the one folder that
/// everything in it lies in.
pub fn unpack_package(file: &Path, label: &str, store: &Store, to: &Path) -> Result<()> {
    let form = Form::of(file)?.ok_or_else(|| malformed(label, "it is not an archive"))?;
    let whole = unpack(file, form, label, store)?.finish()?;
    let moved = top_folder(whole.clone()).and_then(|top| fs::rename(&top, to).facts(to));
    remove_tree(&whole);
    moved
}

fn unpack(file: &Path, form: Form, label: &str, store: &Store) -> Result<Unpacking> {
    let opened = File::open(file).facts(file)?;
    let mut unpacking = Unpacking::new(label, opened.metadata().facts(file)?.len(), store)?;
    let from = BufReader::new(opened);
    match form {
        Form::Zip => unpack_zip(file, label, &mut unpacking)?,
        Form::Tar => unpack_tar(from, label, &mut unpacking)?,
        Form::TarGzip => unpack_tar(Gunzip::new(from), label, &mut unpacking)?,
        Form::TarZstd => {
            unpack_tar(zstd::Decoder::with_buffer(from).facts(file)?, label, &mut unpacking)?;
        }
    }
    Ok(unpacking)
}

/// Many archives hold one folder with everything in it: that is the app's folder then.
fn top_folder(folder: PathBuf) -> Result<PathBuf> {
    Ok(match &entries(&folder)?[..] {
        [only] if only.is_dir() && !only.is_symlink() => only.clone(),
        _ => folder,
    })
}

/// Notes that one operating system's archiver adds about files.
fn is_noise(path: &str) -> bool {
    path.starts_with("__MACOSX/") || path.rsplit('/').next() == Some(".DS_Store")
}

fn unpack_tar(from: impl Read, label: &str, into: &mut Unpacking) -> Result<()> {
    let bad = |error: std::io::Error| malformed(label, &error.to_string());
    let mut archive = tar::Archive::new(from);
    for entry in archive.entries().map_err(bad)? {
        let mut entry = entry.map_err(bad)?;
        let path =
            String::from_utf8(entry.path_bytes().into_owned()).map_err(|error| not_utf8(error.as_bytes()))?;
        let link = entry.link_name().map_err(bad)?.map(|l| l.to_string_lossy().into_owned());
        let no_target = |path: &str| malformed(label, &format!("the link {path:?} has no target"));
        match entry.header().entry_type() {
            EntryType::Directory | EntryType::XGlobalHeader => {}
            _ if is_noise(&path) => {}
            EntryType::Regular | EntryType::Continuous => {
                let executable = entry.header().mode().map_err(bad)? & 0o100 != 0;
                into.file(&path, executable, &mut entry)?;
            }
            EntryType::Symlink => into.link(&path, &link.ok_or_else(|| no_target(&path))?)?,
            EntryType::Link => into.copy(&path, &link.ok_or_else(|| no_target(&path))?)?,
            _ => return Err(malformed(label, &format!("{path:?} is not a file, folder or link"))),
        }
    }
    Ok(())
}

/// How many entries a zip archive says that it has (APPNOTE, section 4.3.16); nothing when they are too many for the place.
fn counted_entries(file: &Path) -> Result<Option<u64>> {
    const SIGNATURE: &[u8; 4] = b"PK\x05\x06";
    /// The record, and the longest comment after it.
    const LONGEST: u64 = 22 + 0xffff;
    let mut opened = File::open(file).facts(file)?;
    let length = opened.metadata().facts(file)?.len();
    opened.seek(SeekFrom::Start(length.saturating_sub(LONGEST))).facts(file)?;
    let mut end = Vec::new();
    opened.read_to_end(&mut end).facts(file)?;
    let at = end.windows(4).rposition(|four| four == SIGNATURE);
    let count = at.and_then(|at| Some(u16::from_le_bytes(end.get(at + 10..at + 12)?.try_into().ok()?)));
    Ok(count.filter(|count| *count != u16::MAX).map(u64::from))
}

/// Opens the zip archive of something called `label`, which has no name twice; nothing for what is no zip archive.
pub fn open_zip(file: &Path, label: &str) -> Result<Option<zip::ZipArchive<BufReader<File>>>> {
    if !matches!(Form::of(file)?, Some(Form::Zip)) {
        return Ok(None);
    }
    let counted = counted_entries(file)?;
    let from = BufReader::new(File::open(file).facts(file)?);
    let archive = zip::ZipArchive::new(from).map_err(|error| malformed(label, &error.to_string()))?;
    // The reader keeps only the last entry of a name, others the first.
    match counted.is_some_and(|counted| counted != archive.len() as u64) {
        true => Err(malformed(label, "it has a duplicate name")),
        false => Ok(Some(archive)),
    }
}

fn unpack_zip(file: &Path, label: &str, into: &mut Unpacking) -> Result<()> {
    let bad = |error: zip::result::ZipError| malformed(label, &error.to_string());
    let Some(mut archive) = open_zip(file, label)? else {
        return Err(malformed(label, "it is not an archive"));
    };
    for number in 0..archive.len() {
        let mut entry = archive.by_index(number).map_err(bad)?;
        let path = std::str::from_utf8(entry.name_raw()).map_err(|_| not_utf8(entry.name_raw()))?.to_owned();
        if entry.is_dir() || is_noise(&path) {
            continue;
        }
        if entry.is_symlink() {
            let mut target = String::new();
            entry
                .by_ref()
                .take(4096)
                .read_to_string(&mut target)
                .map_err(|e| malformed(label, &e.to_string()))?;
            into.link(&path, &target)?;
        } else {
            let executable = entry.unix_mode().unwrap_or_default() & 0o100 != 0;
            into.file(&path, executable, &mut entry)?;
        }
    }
    Ok(())
}

fn not_utf8(name: &[u8]) -> Error {
    use std::os::unix::ffi::OsStrExt;
    Error::Source(SourceError::FileName { path: PathBuf::from(std::ffi::OsStr::from_bytes(name)) })
}

fn malformed(label: &str, detail: &str) -> Error {
    ContentError::Malformed { what: label.to_owned(), detail: detail.to_owned() }.into()
}
