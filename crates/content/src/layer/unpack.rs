//! Unpacks a layer into a folder without trusting it.

use super::codec::Codec;
use crate::digest::{DiffId, HashingReader};
use crate::error::{ContentError, PathContext, Result};
use rustix::fd::OwnedFd;
use rustix::fs::{self as fs, AtFlags, CWD, FileType, Mode, OFlags, ResolveFlags, XattrFlags};
use std::borrow::Cow;
use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::{Component, Path, PathBuf};
use tar::EntryType;

/// Whom unpacked files belong to on this machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Owners {
    /// The calling user.
    Caller,
    /// The owners that the layer names, moved up to ids that no user on this machine has. It needs the superuser.
    Shifted {
        /// The id of the image's superuser on this machine.
        first: u32,
        /// How many ids there are from there on.
        count: u32,
    },
}

/// Permissions that files on this machine can have: never those that run a program as its owner or group.
const MODES: u32 = 0o1777;

/// Unpacks the layer blob at `blob` into the existing folder `into` and checks its `diff_id`. Entries that would
/// leave the folder are refused; devices are left out, and set-user-id and set-group-id bits are dropped.
pub fn unpack(blob: &Path, codec: Codec, diff_id: DiffId, into: &Path, owners: Owners) -> Result<()> {
    let file = BufReader::new(File::open(blob).at(blob)?);
    let hashed = HashingReader::new(codec.layer_reader(file).at(blob)?);
    let root = fs::openat(CWD, into, OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty()).at(into)?;
    let target = Target { root, label: blob.display().to_string(), owners };
    target.give_to_root(&target.root, ".").at(into)?;
    let mut archive = tar::Archive::new(hashed);
    for entry in archive.entries().at(blob)? {
        target.put(entry.at(blob)?)?;
    }
    let mut rest = archive.into_inner();
    io::copy(&mut rest, &mut io::sink()).at(blob)?;
    let found = DiffId(rest.finish());
    if found == diff_id {
        return Ok(());
    }
    Err(ContentError::DigestMismatch {
        what: format!("layer {}", blob.display()),
        expected: diff_id.to_string(),
        found: found.to_string(),
    })
}

/// The id of nobody.
const NOBODY: u32 = 65_534;
/// How the names of entries begin that say that something is gone.
const WHITEOUT: &str = ".wh.";
/// After that beginning: everything of lower layers in the folder is gone.
const OPAQUE: &str = ".wh..opq";

/// Makes something; what an earlier entry of the same name made is removed for it.
fn in_place_of<T>(
    parent: &OwnedFd,
    name: &str,
    make: impl Fn() -> rustix::io::Result<T>,
) -> rustix::io::Result<T> {
    match make() {
        Err(rustix::io::Errno::EXIST) => {
            fs::unlinkat(parent, name, AtFlags::empty())?;
            make()
        }
        made => made,
    }
}

/// Gives a file the time that the layer says, as every container engine does: some programs note it. A folder's changes
/// with what is put into it.
fn set_time(entry: &tar::Entry<'_, impl Read>, parent: &OwnedFd, name: &str) -> io::Result<()> {
    let header = entry.header();
    let Ok(tv_sec) = i64::try_from(header.mtime()?) else { return Ok(()) };
    let time = fs::Timespec { tv_sec, tv_nsec: 0 };
    let both = fs::Timestamps { last_access: time, last_modification: time };
    match header.entry_type() {
        EntryType::Directory => Ok(()),
        _ => Ok(fs::utimensat(parent, name, &both, AtFlags::SYMLINK_NOFOLLOW)?),
    }
}

struct Target {
    root: OwnedFd,
    label: String,
    owners: Owners,
}

impl Target {
    /// What a link leads to.
    fn target(&self, entry: &tar::Entry<'_, impl Read>) -> Result<PathBuf> {
        let target = entry.link_name().at(&self.label)?;
        let none = || ContentError::Malformed {
            what: self.label.clone(),
            detail: format!("the link {} has no target", String::from_utf8_lossy(&entry.path_bytes())),
        };
        target.map(Cow::into_owned).ok_or_else(none)
    }

    fn put(&self, mut entry: tar::Entry<'_, impl Read>) -> Result<()> {
        let path = entry.path().at(&self.label)?.into_owned();
        let shown = path.display().to_string();
        let Some((parents, name)) = self.split(&path)? else { return Ok(()) };
        let parent = self.folder(&parents, &shown)?;
        if let Some(gone) = name.strip_prefix(WHITEOUT) {
            return self.put_whiteout(&parent, gone).at(&shown);
        }
        let mode = Mode::from_raw_mode(entry.header().mode().at(&self.label)? & MODES);
        match entry.header().entry_type() {
            EntryType::Directory => match fs::mkdirat(&parent, &name, mode) {
                Err(rustix::io::Errno::EXIST) => {}
                made => made.at(&shown)?,
            },
            EntryType::Regular | EntryType::Continuous => {
                // Only ever a new file: nothing that an earlier entry made is written through.
                let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
                let made = in_place_of(&parent, &name, || fs::openat(&parent, &name, flags, mode));
                io::copy(&mut entry, &mut File::from(made.at(&shown)?)).at(&shown)?;
            }
            EntryType::Symlink => {
                let link = self.target(&entry)?;
                in_place_of(&parent, &name, || fs::symlinkat(&link, &parent, &name)).at(&shown)?;
            }
            EntryType::Link => {
                let other = self.target(&entry)?;
                let Some((parents, other)) = self.split(&other)? else { return Ok(()) };
                let from = self.folder(&parents, &shown)?;
                let link = || fs::linkat(&from, &other, &parent, &name, AtFlags::empty());
                return in_place_of(&parent, &name, link).at(&shown);
            }
            // The container runtime provides devices.
            EntryType::Char | EntryType::Block | EntryType::Fifo => return Ok(()),
            other => {
                return Err(self.malformed(&shown, format!("entries of type {other:?} are not supported")));
            }
        }
        self.finish(&entry, &parent, &name, mode).at(&shown)
    }

    /// What says that something of a lower layer is gone (OCI image specification, "Whiteouts"), as an
    /// overlay file system says it.
    fn put_whiteout(&self, parent: &OwnedFd, gone: &str) -> io::Result<()> {
        if gone == OPAQUE {
            let attribute = match self.owners {
                Owners::Shifted { .. } => "trusted.overlay.opaque",
                Owners::Caller => "user.overlay.opaque",
            };
            return Ok(fs::fsetxattr(parent, attribute, b"y", XattrFlags::empty())?);
        }
        let make = || fs::mknodat(parent, gone, FileType::CharacterDevice, Mode::empty(), 0);
        Ok(in_place_of(parent, gone, make)?)
    }

    fn finish(
        &self,
        entry: &tar::Entry<'_, impl Read>,
        parent: &OwnedFd,
        name: &str,
        mode: Mode,
    ) -> io::Result<()> {
        if let Owners::Shifted { first, count } = self.owners {
            // An id beyond the range belongs to nobody in the process either.
            let shifted = |id: u64| first + u32::try_from(id).ok().filter(|id| *id < count).unwrap_or(NOBODY);
            let uid = fs::Uid::from_raw(shifted(entry.header().uid()?));
            let gid = fs::Gid::from_raw(shifted(entry.header().gid()?));
            fs::chownat(parent, name, Some(uid), Some(gid), AtFlags::SYMLINK_NOFOLLOW)?;
        }
        let kind = FileType::from_raw_mode(fs::statat(parent, name, AtFlags::SYMLINK_NOFOLLOW)?.st_mode);
        if kind != FileType::Symlink {
            // The process's umask took bits away when the entry was made.
            fs::chmodat(parent, name, mode, AtFlags::empty())?;
        }
        set_time(entry, parent, name)
    }

    /// The parent folders and the name; `None` for the root itself.
    fn split(&self, path: &Path) -> Result<Option<(Vec<String>, String)>> {
        let escape = || ContentError::Escape { what: self.label.clone(), entry: path.display().to_string() };
        let mut parts = Vec::new();
        for part in path.components() {
            match part {
                Component::Normal(name) => parts.push(name.to_str().ok_or_else(escape)?.to_owned()),
                Component::CurDir => {}
                _ => return Err(escape()),
            }
        }
        let Some(name) = parts.pop() else { return Ok(None) };
        Ok(Some((parts, name)))
    }

    /// Opens a folder beneath the root, making what is missing, through no symbolic link.
    fn folder(&self, parts: &[String], shown: &str) -> Result<OwnedFd> {
        let flags = OFlags::DIRECTORY | OFlags::CLOEXEC;
        let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
        let mut here = fs::openat2(&self.root, ".", flags, Mode::empty(), resolve).at(shown)?;
        for part in parts {
            match fs::mkdirat(&here, part, Mode::from_raw_mode(0o755)) {
                Err(rustix::io::Errno::EXIST) => {}
                made => made.and_then(|()| self.give_to_root(&here, part)).at(shown)?,
            }
            here = match fs::openat2(&here, part, flags, Mode::empty(), resolve) {
                Err(rustix::io::Errno::LOOP | rustix::io::Errno::NOTDIR) => {
                    return Err(ContentError::Escape { what: self.label.clone(), entry: shown.to_owned() });
                }
                opened => opened.at(shown)?,
            };
        }
        Ok(here)
    }

    /// Gives a folder that no entry made to the superuser of the image.
    fn give_to_root(&self, parent: &OwnedFd, name: &str) -> rustix::io::Result<()> {
        let Owners::Shifted { first, .. } = self.owners else { return Ok(()) };
        let (uid, gid) = (fs::Uid::from_raw(first), fs::Gid::from_raw(first));
        fs::chownat(parent, name, Some(uid), Some(gid), AtFlags::SYMLINK_NOFOLLOW)
    }

    fn malformed(&self, entry: &str, detail: String) -> ContentError {
        ContentError::Malformed { what: format!("{} in {}", entry, self.label), detail }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::Sha256;
    use crate::layer::codec::Codec;
    use std::fs;
    use std::os::unix::fs::{FileTypeExt, MetadataExt};
    use tar::Header;

    /// A layer with these entries: path, type, mode, target, content; gives its blob and the digest of its bytes.
    fn layer(folder: &Path, entries: &[(&str, EntryType, u32, &str, &str)]) -> (PathBuf, DiffId) {
        let mut tar = tar::Builder::new(Vec::new());
        for (path, kind, mode, target, content) in entries {
            let mut header = Header::new_ustar();
            header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
            header.set_entry_type(*kind);
            header.set_mode(*mode);
            header.set_uid(1_000);
            header.set_gid(0);
            header.set_mtime(1_000);
            header.set_size(content.len() as u64);
            header.set_link_name_literal(target).unwrap();
            header.set_cksum();
            tar.append(&header, content.as_bytes()).unwrap();
        }
        let raw = tar.into_inner().unwrap();
        let blob = folder.join("layer.tar.zst");
        fs::write(&blob, zstd::encode_all(&raw[..], 1).unwrap()).unwrap();
        (blob, DiffId(Sha256::of(&raw)))
    }

    fn unpacked(
        entries: &[(&str, EntryType, u32, &str, &str)],
        owners: Owners,
    ) -> (tempfile::TempDir, Result<()>) {
        let folder = tempfile::tempdir().unwrap();
        let (blob, diff_id) = layer(folder.path(), entries);
        let into = folder.path().join("root");
        fs::create_dir(&into).unwrap();
        let done = unpack(&blob, Codec::Zstd, diff_id, &into, owners);
        (folder, done)
    }

    #[test]
    fn files_and_links_have_the_times_of_the_layer() {
        let entries = [
            ("horn", EntryType::Regular, 0o644, "", "loud"),
            ("link", EntryType::Symlink, 0o777, "nowhere", ""),
        ];
        let (folder, done) = unpacked(&entries, Owners::Caller);
        done.unwrap();
        for entry in ["root/horn", "root/link"] {
            assert_eq!(fs::symlink_metadata(folder.path().join(entry)).unwrap().mtime(), 1_000);
        }
    }

    #[test]
    fn nothing_on_the_host_runs_as_its_owner_and_no_device_is_made() {
        let entries = [
            ("bin", EntryType::Directory, 0o2755, "", ""),
            ("bin/raise", EntryType::Regular, 0o6755, "", "program"),
            ("tmp", EntryType::Directory, 0o1777, "", ""),
            ("null", EntryType::Char, 0o666, "", ""),
            ("disk", EntryType::Block, 0o666, "", ""),
        ];
        let (folder, done) = unpacked(&entries, Owners::Caller);
        done.unwrap();
        let mode = |inside: &str| fs::metadata(folder.path().join("root").join(inside)).unwrap().mode();
        assert_eq!(mode("bin") & 0o7777, 0o755);
        assert_eq!(mode("bin/raise") & 0o7777, 0o755);
        assert_eq!(mode("tmp") & 0o7777, 0o1777);
        for entry in fs::read_dir(folder.path().join("root")).unwrap() {
            let kind = entry.unwrap().file_type().unwrap();
            assert!(!kind.is_char_device() && !kind.is_block_device());
        }
    }

    #[test]
    #[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
    fn owners_are_moved_to_ids_that_nobody_has() {
        if !rustix::process::geteuid().is_root() {
            println!("not tried: only the superuser gives files to others");
            return;
        }
        let owners = Owners::Shifted { first: 1_900_000_000, count: 65_536 };
        let entries = [
            ("app", EntryType::Directory, 0o755, "", ""),
            ("app/raise", EntryType::Regular, 0o4755, "", "program"),
        ];
        let (folder, done) = unpacked(&entries, owners);
        done.unwrap();
        let facts = fs::metadata(folder.path().join("root/app/raise")).unwrap();
        assert_eq!((facts.uid(), facts.gid()), (1_900_001_000, 1_900_000_000));
        assert_eq!(facts.mode() & 0o7777, 0o755);
    }

    #[test]
    fn an_entry_gets_out_of_its_folder_on_no_way() {
        let outside = "/etc";
        for entries in [
            vec![("../out", EntryType::Regular, 0o644, "", "x")],
            vec![("app/../../out", EntryType::Regular, 0o644, "", "x")],
            vec![
                ("etc", EntryType::Symlink, 0o777, outside, ""),
                ("etc/out", EntryType::Regular, 0o644, "", "x"),
            ],
            vec![("up", EntryType::Symlink, 0o777, "..", ""), ("up/out", EntryType::Regular, 0o644, "", "x")],
        ] {
            let (folder, done) = unpacked(&entries, Owners::Caller);
            assert!(matches!(done, Err(ContentError::Escape { .. })), "{entries:?}: {done:?}");
            assert!(!folder.path().join("out").exists() && !Path::new("/etc/out").exists());
        }
    }

    #[test]
    fn other_bytes_than_the_digest_says_are_an_error() {
        let folder = tempfile::tempdir().unwrap();
        let (blob, _) = layer(folder.path(), &[("a", EntryType::Regular, 0o644, "", "x")]);
        let into = folder.path().join("root");
        fs::create_dir(&into).unwrap();
        let done = unpack(&blob, Codec::Zstd, DiffId(Sha256::of(b"another")), &into, Owners::Caller);
        assert!(matches!(done, Err(ContentError::DigestMismatch { .. })));
    }
}
