//! Checks a foreign layer before it may become part of an image: unpacking must not write outside
//! of the folder that it is unpacked into.

use crate::digest::{HashingReader, Sha256};
use crate::error::{ContentError, PathContext, Result};
use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::io::{self, Read};
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};
use tar::EntryType;

/// The most bytes that one name has on file systems of Linux, and a whole path (limits.h).
const LONGEST_NAME: usize = 255;
const LONGEST_PATH: usize = 4096;
/// The folder whose devices are ignored: container runtimes mount their own over it.
const DEVICES: &str = "dev";
/// How the names of entries begin that say that something is gone (OCI image specification, "Whiteouts").
const WHITEOUT: &[u8] = b".wh.";

/// Reads a whole layer; gives the digest and the number of its tar bytes. `label` names it in errors.
pub(super) fn verify(layer: impl Read, label: &str) -> Result<(Sha256, u64)> {
    let mut archive = tar::Archive::new(Counting { from: HashingReader::new(layer), count: 0 });
    let mut look = Look { label, links: BTreeSet::new() };
    for entry in archive.entries().at(label)? {
        look.at(&entry.at(label)?)?;
    }
    let mut rest = archive.into_inner();
    let mut piece = [0; 8192];
    loop {
        match rest.read(&mut piece).at(label)? {
            0 => break,
            count if piece[..count].iter().any(|byte| *byte != 0) => {
                return Err(look.malformed("there is data after its end".to_owned()));
            }
            _ => {}
        }
    }
    Ok((rest.from.finish(), rest.count))
}

struct Look<'a> {
    label: &'a str,
    /// Paths that are symbolic links by now.
    links: BTreeSet<PathBuf>,
}

impl Look<'_> {
    fn at(&mut self, entry: &tar::Entry<'_, impl Read>) -> Result<()> {
        let written = entry.path_bytes();
        let path = self.inside(&written)?;
        if path.ancestors().skip(1).any(|above| self.links.contains(above)) {
            return Err(self.escape(&written));
        }
        if let Some(gone) = path.file_name().and_then(|name| name.as_bytes().strip_prefix(WHITEOUT))
            && matches!(gone, b"" | b"." | b"..")
        {
            return Err(self.malformed(format!("the entry {} has no name", path.display())));
        }
        self.links.remove(&path);
        let kind = entry.header().entry_type();
        match kind {
            EntryType::Regular | EntryType::Continuous | EntryType::Directory | EntryType::Fifo => {}
            EntryType::Symlink => drop(self.links.insert(path)),
            EntryType::Link => {
                let target = entry.link_name_bytes();
                let target =
                    target.ok_or_else(|| self.malformed(format!("{} links to nothing", path.display())))?;
                let other = self.inside(&target)?;
                if other.ancestors().skip(1).any(|above| self.links.contains(above)) {
                    return Err(self.escape(&target));
                }
            }
            EntryType::Char | EntryType::Block if path.starts_with(DEVICES) => {}
            EntryType::Char | EntryType::Block => {
                return Err(self.malformed(format!("{} is a device", path.display())));
            }
            other => {
                return Err(self.malformed(format!("{} has the unsupported type {other:?}", path.display())));
            }
        }
        Ok(())
    }

    /// The path that a name stands for, which has to be inside.
    fn inside(&self, name: &[u8]) -> Result<PathBuf> {
        let path = Path::new(OsStr::from_bytes(name));
        let mut inside = PathBuf::new();
        for part in path.components() {
            match part {
                Component::Normal(name) if name.len() <= LONGEST_NAME => inside.push(name),
                Component::CurDir => {}
                Component::Normal(_) => {
                    return Err(self.malformed("it has a name that is too long".to_owned()));
                }
                _ => return Err(self.escape(name)),
            }
        }
        if name.len() > LONGEST_PATH || name.contains(&0) {
            return Err(self.malformed("it has an invalid path".to_owned()));
        }
        Ok(inside)
    }

    fn escape(&self, name: &[u8]) -> ContentError {
        let entry = String::from_utf8_lossy(name).into_owned();
        ContentError::Escape { what: self.label.to_owned(), entry }
    }

    fn malformed(&self, detail: String) -> ContentError {
        ContentError::Malformed { what: self.label.to_owned(), detail }
    }
}

/// Counts what is read through it.
struct Counting<R> {
    from: R,
    count: u64,
}

impl<R: Read> Read for Counting<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let count = self.from.read(to)?;
        self.count += count as u64;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tar::Header;

    fn layer(entries: &[(&str, EntryType, &str)]) -> Vec<u8> {
        let mut tar = tar::Builder::new(Vec::new());
        for (path, kind, target) in entries {
            let mut header = Header::new_gnu();
            header.set_entry_type(*kind);
            header.set_size(0);
            header.set_mode(0o644);
            header.as_mut_bytes()[..path.len().min(100)]
                .copy_from_slice(&path.as_bytes()[..path.len().min(100)]);
            header.set_link_name_literal(target).unwrap();
            header.set_cksum();
            tar.append(&header, io::empty()).unwrap();
        }
        tar.into_inner().unwrap()
    }

    #[test]
    fn an_ordinary_layer_passes_with_its_digest() {
        let bytes = layer(&[
            ("./", EntryType::Directory, ""),
            ("usr/bin/node", EntryType::Regular, ""),
            ("usr/bin/nodejs", EntryType::Symlink, "/usr/bin/node"),
            ("usr/bin/same", EntryType::Link, "usr/bin/node"),
            ("dev/null", EntryType::Char, ""),
            ("etc/.wh.passwd", EntryType::Regular, ""),
            ("etc/.wh..wh..opq", EntryType::Regular, ""),
            ("bin", EntryType::Symlink, "usr/bin"),
        ]);
        let (digest, length) = verify(&bytes[..], "layer").unwrap();
        assert!(digest == Sha256::of(&bytes) && length == bytes.len() as u64);
    }

    #[test]
    fn whatever_would_lead_out_is_refused() {
        use EntryType::{Block, Char, Link, Regular, Symlink};
        let bad: [&[(&str, EntryType, &str)]; 10] = [
            &[("../../x", Regular, "")],
            &[("/etc/passwd", Regular, "")],
            &[("a/../../x", Regular, "")],
            &[("passwd", Link, "/etc/passwd")],
            &[("passwd", Link, "../etc/passwd")],
            &[("etc", Symlink, "/etc"), ("etc/passwd", Regular, "")],
            &[("etc", Symlink, "/etc"), ("passwd", Link, "etc/passwd")],
            &[("disk", Block, "")],
            &[("usr/null", Char, "")],
            &[("etc/.wh...", Regular, "")],
        ];
        for entries in bad {
            assert!(verify(&layer(entries)[..], "layer").is_err(), "{entries:?}");
        }
        // The link is gone when the folder comes.
        let replaced =
            [("etc", Symlink, "/etc"), ("etc", EntryType::Directory, ""), ("etc/passwd", Regular, "")];
        assert!(verify(&layer(&replaced)[..], "layer").is_ok());
    }

    #[test]
    fn nothing_hides_behind_the_end() {
        let mut bytes = layer(&[("a", EntryType::Regular, "")]);
        bytes.extend(layer(&[("b", EntryType::Regular, "")]));
        assert!(verify(&bytes[..], "layer").is_err());
    }

    #[test]
    fn names_that_no_file_can_have_are_refused() {
        let mut tar = tar::Builder::new(Vec::new());
        let mut header = Header::new_gnu();
        header.set_size(0);
        header.set_cksum();
        tar.append_data(&mut header, "x".repeat(256), io::empty()).unwrap();
        assert!(verify(&tar.into_inner().unwrap()[..], "layer").is_err());
    }
}
