//! The zip archive of a package, read without being unpacked to a folder.

use source::UnpackLimit;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{BufReader, Read};
use zip::ZipArchive;

/// The most that the files of a package come to, in bytes.
const LARGEST: u64 = 2 << 30;
/// The longest target of a link, in bytes.
const LONGEST_TARGET: u64 = 4096;

/// What a package has at a path.
pub(super) enum Member<'a> {
    File { size: u64, executable: bool, content: &'a mut dyn Read },
    Link { target: String },
}

/// Gives each file of an archive of so many bytes to `put`, without the one folder that everything in it lies in; what
/// would leave the package is an error.
pub(super) fn each_file(
    archive: &mut ZipArchive<BufReader<File>>,
    length: u64,
    mut put: impl FnMut(&str, Member<'_>) -> Result<(), String>,
) -> Result<(), String> {
    let names = archive.file_names().map(|name| name.map(|name| name.into_owned()));
    let names: Vec<String> = names.collect::<Result<_, _>>().map_err(|error| error.to_string())?;
    let top = top_folder(&names);
    let allowed = UnpackLimit::of(length, LARGEST);
    let mut left = allowed.bytes;
    let mut seen = BTreeSet::new();
    for number in 0..archive.len() {
        let mut entry = archive.by_index(number).map_err(|error| error.to_string())?;
        let name =
            std::str::from_utf8(entry.name_raw()).map_err(|_| "a name is not UTF-8".to_owned())?.to_owned();
        if entry.is_dir() {
            continue;
        }
        let path = inside(&name)?;
        let path = path.strip_prefix(top.as_str()).unwrap_or(&path).to_owned();
        left = left.checked_sub(entry.size()).ok_or_else(|| allowed.to_string())?;
        if entry.is_symlink() {
            let mut target = String::new();
            entry
                .by_ref()
                .take(LONGEST_TARGET)
                .read_to_string(&mut target)
                .map_err(|error| error.to_string())?;
            let depth = path.matches('/').count();
            stays_inside(&target, depth).map_err(|()| format!("the link {name:?} leaves the package"))?;
            put(&path, Member::Link { target })?;
        } else {
            let executable = entry.unix_mode().unwrap_or_default() & 0o100 != 0;
            let size = entry.size();
            put(&path, Member::File { size, executable, content: &mut entry })?;
        }
        seen.insert(path);
    }
    let lies_inside = |path: &&String| path.match_indices('/').any(|(at, _)| seen.contains(&path[..at]));
    match seen.iter().find(lies_inside) {
        _ if seen.is_empty() => Err("the archive holds no files".to_owned()),
        Some(path) => Err(format!("{path:?} is inside a file")),
        None => Ok(()),
    }
}

/// The one folder that all names lie in, with a slash at its end; empty if there is none.
fn top_folder(names: &[String]) -> String {
    let first = |name: &String| name.split_once('/').map(|(folder, _)| format!("{folder}/"));
    let Some(Some(top)) = names.first().map(first) else { return String::new() };
    if names.iter().all(|name| name.starts_with(&top)) { top } else { String::new() }
}

/// A name without `.` parts, which has to stay in the package.
fn inside(name: &str) -> Result<String, String> {
    let leaves = || format!("the entry {name:?} leaves the package");
    if name.starts_with('/') || name.contains(['\\', '\0']) {
        return Err(leaves());
    }
    let parts: Vec<&str> = name.split('/').filter(|part| !matches!(*part, "" | ".")).collect();
    if parts.is_empty() || parts.contains(&"..") { Err(leaves()) } else { Ok(parts.join("/")) }
}

fn stays_inside(target: &str, mut depth: usize) -> Result<(), ()> {
    if target.starts_with('/') || target.is_empty() {
        return Err(());
    }
    for part in target.split('/') {
        depth = match part {
            ".." => depth.checked_sub(1).ok_or(())?,
            "" | "." => depth,
            _ => depth + 1,
        };
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;
    use testkit::archives::zip_archive;

    fn listed(names: &[&str]) -> Result<Vec<String>, String> {
        let bytes = zip_archive(&names.iter().map(|name| ((*name).to_owned(), b"x".to_vec())).collect());
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(&bytes).unwrap();
        let mut archive = source::open_zip(file.path(), "fog").unwrap().unwrap();
        let mut all = Vec::new();
        each_file(&mut archive, bytes.len() as u64, |path, _| {
            all.push(path.to_owned());
            Ok(())
        })?;
        Ok(all)
    }

    #[test]
    fn the_one_folder_at_the_top_is_left_out() {
        assert_eq!(listed(&["fog-1a/src/Fog.php", "fog-1a/a.php"]).unwrap(), ["src/Fog.php", "a.php"]);
        assert_eq!(listed(&["fog/a.php", "b.php"]).unwrap(), ["fog/a.php", "b.php"]);
        assert_eq!(listed(&["./a.php"]).unwrap(), ["a.php"]);
    }

    #[test]
    fn what_leaves_the_package_or_lies_in_a_file_is_refused() {
        for names in
            [&["../out"][..], &["a/../../out"], &["/etc/out"], &["a\\b"], &["x/a", "x/a/b"], &["fog/../out"]]
        {
            assert!(listed(names).is_err(), "{names:?}");
        }
        for (target, depth, stays) in
            [("../b", 1, true), ("../../b", 1, false), ("/etc", 3, false), ("a/../../b", 0, false)]
        {
            assert_eq!(stays_inside(target, depth).is_ok(), stays, "{target}");
        }
    }
}
