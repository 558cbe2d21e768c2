//! The file of a gem: an archive with its metadata, and one with its files.

use crate::specification::{LARGEST as LARGEST_METADATA, Specification};
use source::{Gunzip, UnpackLimit};
use std::collections::BTreeSet;
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::{Component, Path};
use tar::{Archive, Entry, EntryType};

/// The most that the files of a gem come to, in bytes.
const LARGEST: u64 = 2 << 30;

/// What a gem puts at a path of its folder.
pub(super) enum Member<'a> {
    File { size: u64, executable: bool, content: &'a mut dyn Read },
    Link { target: String },
}

/// What a gem says of itself.
pub(super) fn specification(file: impl Read + Seek) -> Result<Specification, String> {
    let text = with_part(file, "metadata.gz", |part| {
        let mut text = String::new();
        let unpacked = Gunzip::new(BufReader::new(part)).take(LARGEST_METADATA + 1).read_to_string(&mut text);
        if unpacked.map_err(told)? as u64 > LARGEST_METADATA {
            return Err("its metadata are too long".to_owned());
        }
        Ok(text)
    })?;
    Specification::parse(&text).map_err(|detail| format!("its metadata: {detail}"))
}

/// Gives each file of a gem to `put`; what would leave its folder is an error.
pub(super) fn each_file(
    mut file: impl Read + Seek,
    mut put: impl FnMut(&str, Member<'_>) -> Result<(), String>,
) -> Result<(), String> {
    let length =
        file.seek(SeekFrom::End(0)).and_then(|length| file.rewind().map(|()| length)).map_err(told)?;
    let allowed = UnpackLimit::of(length, LARGEST);
    with_part(file, "data.tar.gz", |part| {
        let mut unpacked = Gunzip::new(BufReader::new(part)).take(allowed.bytes);
        let done = each_entry(&mut unpacked, &mut put);
        // What ends there is no damage.
        if unpacked.limit() == 0 { Err(allowed.to_string()) } else { done }
    })
}

fn each_entry(
    data: impl Read,
    put: &mut dyn FnMut(&str, Member<'_>) -> Result<(), String>,
) -> Result<(), String> {
    let mut paths = Paths::default();
    for entry in Archive::new(data).entries().map_err(told)? {
        let mut entry = entry.map_err(told)?;
        let Some(path) = inside(&entry.path().map_err(told)?)? else { continue };
        match entry.header().entry_type() {
            EntryType::Directory => {}
            EntryType::Regular | EntryType::Continuous => {
                paths.add(&path)?;
                let executable = entry.header().mode().map_err(told)? & 0o111 != 0;
                let size = entry.size();
                put(&path, Member::File { size, executable, content: &mut entry })?;
            }
            EntryType::Symlink => {
                paths.add(&path)?;
                let target = link_inside(&path, &entry)?;
                put(&path, Member::Link { target })?;
            }
            other => return Err(format!("{path}: entries of type {other:?} are not supported")),
        }
    }
    paths.checked()
}

/// Does something with a part of the outer archive.
fn with_part<T>(
    mut file: impl Read + Seek,
    name: &str,
    then: impl FnOnce(&mut dyn Read) -> Result<T, String>,
) -> Result<T, String> {
    file.rewind().map_err(told)?;
    let mut archive = Archive::new(file);
    for entry in archive.entries().map_err(told)? {
        let mut entry = entry.map_err(told)?;
        if entry.path().is_ok_and(|path| path.as_os_str() == name) {
            return then(&mut entry);
        }
    }
    Err(format!("it has no {name}, so it is not a gem"))
}

fn told(error: io::Error) -> String {
    error.to_string()
}

/// The paths of a gem, which has to have each once, and no file inside of a file.
#[derive(Default)]
struct Paths(BTreeSet<String>);

impl Paths {
    fn add(&mut self, path: &str) -> Result<(), String> {
        match self.0.insert(path.to_owned()) {
            true => Ok(()),
            false => Err(format!("duplicate entry {path:?}")),
        }
    }

    fn checked(&self) -> Result<(), String> {
        let lies_inside =
            |path: &&String| path.match_indices('/').any(|(at, _)| self.0.contains(&path[..at]));
        match self.0.iter().find(lies_inside) {
            Some(path) => Err(format!("{path:?} is inside a file")),
            None => Ok(()),
        }
    }
}

/// The path below the gem's folder; nothing for the folder itself.
fn inside(path: &Path) -> Result<Option<String>, String> {
    let mut parts = Vec::new();
    for part in path.components() {
        match part {
            Component::Normal(name) => {
                parts.push(
                    name.to_str().ok_or_else(|| format!("{:?} is not UTF-8", path.display().to_string()))?,
                );
            }
            Component::CurDir => {}
            _ => {
                return Err(format!(
                    "the entry {:?} points outside the gem's folder",
                    path.display().to_string()
                ));
            }
        }
    }
    Ok((!parts.is_empty()).then(|| parts.join("/")))
}

/// The target of a link, which has to stay in the gem's folder.
fn link_inside(path: &str, entry: &Entry<'_, impl Read>) -> Result<String, String> {
    let target = entry.link_name().map_err(told)?.ok_or("a link has no target")?;
    let leaves = || format!("the link {path:?} points outside the gem's folder");
    let mut depth = path.matches('/').count();
    for part in target.components() {
        match part {
            Component::Normal(_) => depth += 1,
            Component::CurDir => {}
            Component::ParentDir => depth = depth.checked_sub(1).ok_or_else(leaves)?,
            _ => return Err(leaves()),
        }
    }
    Ok(target.to_str().ok_or_else(leaves)?.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;
    use testkit::archives::{gem, gem_of_entries};

    fn listed(gem: Vec<u8>) -> Result<Vec<String>, String> {
        let mut all = Vec::new();
        each_file(Cursor::new(gem), |path, member| {
            all.push(match member {
                Member::File { size, executable, .. } => {
                    format!("{path} {size}{}", if executable { " x" } else { "" })
                }
                Member::Link { target } => format!("{path} -> {target}"),
            });
            Ok(())
        })?;
        Ok(all)
    }

    #[test]
    fn files_and_what_a_gem_says_of_itself_are_read() {
        let file = gem("fog", "1.0", "executables:\n- fog\n", &[("lib/fog.rb", "FOG = 1"), ("bin/fog", "")]);
        assert_eq!(specification(Cursor::new(&file)).unwrap().commands, ["fog"]);
        assert_eq!(listed(file).unwrap(), ["lib/fog.rb 7", "bin/fog 0 x"]);
    }

    #[test]
    fn hostile_files_are_refused() {
        let file = |path: &str| (path.to_owned(), None);
        let link = |path: &str, target: &str| (path.to_owned(), Some(target.to_owned()));
        let cases = [
            (vec![file("../out")], "points outside the gem's folder"),
            (vec![file("/etc/out")], "points outside the gem's folder"),
            (vec![link("lib/a", "../../out")], "points outside the gem's folder"),
            (vec![link("a", "/etc")], "points outside the gem's folder"),
            (vec![file("a"), file("a")], "duplicate"),
            (vec![file("a"), file("a/b")], "inside a file"),
            (vec![link("a", "b"), file("a/c")], "inside a file"),
        ];
        for (entries, told) in cases {
            let error = listed(gem_of_entries("fog", "1.0", &entries)).unwrap_err();
            assert!(error.contains(told), "{entries:?}: {error}");
        }
        assert_eq!(
            listed(gem_of_entries("fog", "1.0", &[link("lib/a", "../b")])).unwrap(),
            ["lib/a -> ../b"]
        );
        for bytes in [Vec::new(), vec![0; 4096], b"ferry".repeat(500)] {
            assert!(listed(bytes.clone()).is_err() && specification(Cursor::new(bytes)).is_err());
        }
    }

    #[test]
    fn what_unpacks_to_far_too_much_is_refused() {
        let zeros = "\0".repeat(140 << 20);
        let error = listed(gem("fog", "1.0", "", &[("lib/fog.rb", &zeros)])).unwrap_err();
        assert!(error.contains("it unpacks to more than"), "{error}");
    }
}
