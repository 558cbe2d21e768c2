//! Tar entries with nothing of the host in them (POSIX.1-2001 pax interchange format).

use std::io::{self, Read, Write};

/// The modification time of every file in a layer, in seconds since 1970: 2 January 1980, the
/// first day that every format a file may later be packed into (zip among them) can say in every
/// time zone. The image's own creation time follows `SOURCE_DATE_EPOCH`; layers do not, so that
/// they stay shared.
pub const FILE_TIME: u64 = 315_619_200;

const BLOCK: usize = 512;

/// The numeric owner of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Owner {
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
}

impl Owner {
    /// The superuser, who owns all that the application should not change.
    pub const ROOT: Self = Self { uid: 0, gid: 0 };
}

/// What an entry is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// A folder.
    Folder,
    /// A regular file of this many bytes.
    File {
        /// Length in bytes.
        size: u64,
    },
    /// A symbolic link with this target.
    Link {
        /// The target as written in the link.
        target: String,
    },
}

/// One entry of a layer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The path from the root of the image, without leading or trailing slash.
    pub path: String,
    /// What it is.
    pub kind: Kind,
    /// Permission bits.
    pub mode: u32,
    /// Who owns it.
    pub owner: Owner,
}

impl Entry {
    /// A folder that everybody may enter.
    pub fn folder(path: impl Into<String>) -> Self {
        Self { path: path.into(), kind: Kind::Folder, mode: 0o755, owner: Owner::ROOT }
    }

    /// A file that everybody may read, and run when `executable`.
    pub fn file(path: impl Into<String>, size: u64, executable: bool) -> Self {
        let mode = if executable { 0o755 } else { 0o644 };
        Self { path: path.into(), kind: Kind::File { size }, mode, owner: Owner::ROOT }
    }

    /// A symbolic link.
    pub fn link(path: impl Into<String>, target: impl Into<String>) -> Self {
        let kind = Kind::Link { target: target.into() };
        Self { path: path.into(), kind, mode: 0o777, owner: Owner::ROOT }
    }
}

/// Writes entries as tar bytes, without the end-of-archive blocks.
pub struct TarWriter<W: Write> {
    to: W,
}

/// Whether a part of a path hides files of lower layers.
pub fn is_whiteout(path: &str) -> bool {
    path.split('/').any(|part| part.starts_with(WHITEOUT))
}

/// How names begin that hide files of lower layers.
const WHITEOUT: &str = ".wh.";

/// A name that must not get into a layer by accident.
#[derive(Debug, thiserror::Error)]
#[error("{0} would hide files of lower layers")]
pub(crate) struct Whiteout(pub(crate) String);

impl<W: Write> TarWriter<W> {
    /// Writes to `to`.
    pub fn new(to: W) -> Self {
        Self { to }
    }

    /// The writer underneath.
    pub fn into_inner(self) -> W {
        self.to
    }

    /// Writes a folder or link.
    pub fn entry(&mut self, entry: &Entry) -> io::Result<()> {
        self.file(entry, &mut io::empty())
    }

    /// Writes an entry with its contents; a file that is shorter or longer than it says is an error, and so is a name that
    /// every runtime would take for the order to hide a file of a lower layer (OCI image specification, *Whiteouts*).
    pub fn file(&mut self, entry: &Entry, contents: &mut dyn Read) -> io::Result<()> {
        if is_whiteout(&entry.path) {
            return Err(io::Error::other(Whiteout(entry.path.clone())));
        }
        let (flag, size, target) = match &entry.kind {
            Kind::Folder => (b'5', 0, ""),
            Kind::File { size } => (b'0', *size, ""),
            Kind::Link { target } => (b'2', 0, target.as_str()),
        };
        let mut name = entry.path.clone();
        if entry.kind == Kind::Folder {
            name.push('/');
        }
        self.extended(&name, target, size)?;
        self.to.write_all(&header(&name, target, flag, entry.mode, entry.owner, size))?;
        let copied = io::copy(&mut contents.take(size), &mut self.to)?;
        if copied != size || contents.read(&mut [0])? != 0 {
            let changed = format!("{} changed while it was read", entry.path);
            return Err(io::Error::new(io::ErrorKind::InvalidInput, changed));
        }
        self.pad(size)
    }

    /// A pax header for what the plain header cannot hold.
    fn extended(&mut self, name: &str, target: &str, size: u64) -> io::Result<()> {
        let mut records = String::new();
        let mut add = |key: &str, value: &str| records.push_str(&pax_record(key, value));
        if name.len() > 100 || !name.is_ascii() {
            add("path", name);
        }
        if target.len() > 100 || !target.is_ascii() {
            add("linkpath", target);
        }
        if size >= 1 << 33 {
            add("size", &size.to_string());
        }
        if records.is_empty() {
            return Ok(());
        }
        let length = records.len() as u64;
        self.to.write_all(&header("pax", "", b'x', 0o644, Owner::ROOT, length))?;
        self.to.write_all(records.as_bytes())?;
        self.pad(length)
    }

    fn pad(&mut self, size: u64) -> io::Result<()> {
        let over = (size % BLOCK as u64) as usize;
        if over == 0 {
            return Ok(());
        }
        self.to.write_all(&[0; BLOCK][over..])
    }
}

/// `length key=value\n`, where the length counts its own digits.
fn pax_record(key: &str, value: &str) -> String {
    let rest = key.len() + value.len() + 3;
    let mut length = rest + rest.to_string().len();
    length = rest + length.to_string().len();
    format!("{length} {key}={value}\n")
}

fn header(name: &str, target: &str, flag: u8, mode: u32, owner: Owner, size: u64) -> [u8; BLOCK] {
    let mut block = [0; BLOCK];
    let mut text = |at: usize, room: usize, value: &[u8]| {
        let length = value.len().min(room);
        block[at..at + length].copy_from_slice(&value[..length]);
    };
    text(0, 100, name.as_bytes());
    text(100, 8, format!("{mode:07o}").as_bytes());
    text(108, 8, format!("{:07o}", owner.uid).as_bytes());
    text(116, 8, format!("{:07o}", owner.gid).as_bytes());
    // A size beyond eleven octal digits stands in the pax header.
    let plain = if size >= 1 << 33 { 0 } else { size };
    text(124, 12, format!("{plain:011o}").as_bytes());
    text(136, 12, format!("{FILE_TIME:011o}").as_bytes());
    text(148, 8, b"        ");
    text(156, 1, &[flag]);
    text(157, 100, target.as_bytes());
    text(257, 8, b"ustar\x0000");
    let sum: u32 = block.iter().map(|b| u32::from(*b)).sum();
    block[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    block
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_and_foreign_names_survive_an_independent_reader() {
        let long = format!("app/{}/fähre.txt", "deep/".repeat(40).trim_end_matches('/'));
        let mut tar = TarWriter::new(Vec::new());
        tar.entry(&Entry::folder("app")).unwrap();
        tar.file(&Entry::file(&long, 5, true), &mut &b"tides"[..]).unwrap();
        tar.entry(&Entry::link("app/link", format!("../{long}"))).unwrap();
        let mut bytes = tar.into_inner();
        bytes.extend([0; 1024]);

        let mut archive = tar::Archive::new(&bytes[..]);
        let mut found = Vec::new();
        for entry in archive.entries().unwrap() {
            let mut entry = entry.unwrap();
            let mut contents = String::new();
            entry.read_to_string(&mut contents).unwrap();
            let path = entry.path().unwrap().to_str().unwrap().to_owned();
            let target = entry.link_name().unwrap().map(|t| t.to_str().unwrap().to_owned());
            found.push((path, entry.header().mode().unwrap(), target, contents));
        }
        assert_eq!(found[0], ("app/".to_owned(), 0o755, None, String::new()));
        assert_eq!(found[1], (long.clone(), 0o755, None, "tides".to_owned()));
        assert_eq!(found[2], ("app/link".to_owned(), 0o777, Some(format!("../{long}")), String::new()));
    }

    #[test]
    fn a_file_that_grew_or_shrank_is_an_error() {
        for contents in [&b"longer than said"[..], b"s"] {
            let entry = Entry::file("log", 4, false);
            assert!(TarWriter::new(Vec::new()).file(&entry, &mut &contents[..]).is_err());
        }
    }
}
