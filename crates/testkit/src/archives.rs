//! Writes package archives whose bytes depend on their contents only.

use flate2::{Compression, GzBuilder};
use ring::digest::{SHA256, SHA512, digest};
use std::io::{Cursor, Write};
use tar::{EntryType, Header};
use zip::write::SimpleFileOptions;

/// Files by path.
pub type Files = Vec<(String, Vec<u8>)>;

/// An npm tarball: everything under `package/`.
pub fn npm_tarball(files: &Files) -> Vec<u8> {
    let entries = files.iter().map(|(path, bytes)| (format!("package/{path}"), bytes.clone()));
    tarball(&entries.collect())
}

/// A gzip-compressed tar archive with exactly these names, whatever they are.
pub fn tarball(files: &Files) -> Vec<u8> {
    gzip(&tar_archive(files))
}

/// A tar archive with exactly these names, whatever they are.
pub fn tar_archive(files: &Files) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    for (path, bytes) in files {
        let mut header = Header::new_ustar();
        // Written directly: hostile names are wanted, too.
        header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
        header.set_entry_type(EntryType::Regular);
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        header.set_mtime(315_619_200);
        header.set_cksum();
        tar.append(&header, &bytes[..]).expect("writing to memory cannot fail");
    }
    tar.into_inner().expect("writing to memory cannot fail")
}

/// The file of a gem with these files; `more` are further lines of its metadata.
pub fn gem(name: &str, version: &str, more: &str, files: &[(&str, &str)]) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    for (path, text) in files {
        let mode = if path.contains("bin/") { 0o755 } else { 0o644 };
        append(&mut tar, path, (EntryType::Regular, mode), text.as_bytes());
    }
    gem_of(name, version, more, &tar.into_inner().expect("writing to memory cannot fail"))
}

/// The file of a gem with exactly these entries, whatever they are: empty files, and links with their targets.
pub fn gem_of_entries(name: &str, version: &str, entries: &[(String, Option<String>)]) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    for (path, target) in entries {
        let mut header = Header::new_ustar();
        header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
        header.set_entry_type(if target.is_some() { EntryType::Symlink } else { EntryType::Regular });
        if let Some(target) = target {
            header.set_link_name_literal(target).expect("a short target");
        }
        header.set_size(0);
        header.set_mode(0o644);
        header.set_cksum();
        tar.append(&header, &[][..]).expect("writing to memory cannot fail");
    }
    gem_of(name, version, "", &tar.into_inner().expect("writing to memory cannot fail"))
}

fn gem_of(name: &str, version: &str, more: &str, data: &[u8]) -> Vec<u8> {
    let metadata = format!(
        "--- !ruby/object:Gem::Specification\nname: {name}\nversion: !ruby/object:Gem::Version\n  version: '{version}'\n\
         platform: ruby\nrequire_paths:\n- lib\n{more}"
    );
    let mut outer = tar::Builder::new(Vec::new());
    for (path, bytes) in [("metadata.gz", gzip(metadata.as_bytes())), ("data.tar.gz", gzip(data))] {
        append(&mut outer, path, (EntryType::Regular, 0o444), &bytes);
    }
    outer.into_inner().expect("writing to memory cannot fail")
}

fn append(tar: &mut tar::Builder<Vec<u8>>, path: &str, (kind, mode): (EntryType, u32), bytes: &[u8]) {
    let mut header = Header::new_ustar();
    header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
    header.set_entry_type(kind);
    header.set_size(bytes.len() as u64);
    header.set_mode(mode);
    header.set_mtime(315_619_200);
    header.set_cksum();
    tar.append(&header, bytes).expect("writing to memory cannot fail");
}

/// The bytes, compressed.
pub fn gzip(raw: &[u8]) -> Vec<u8> {
    let mut gzip = GzBuilder::new().operating_system(255).write(Vec::new(), Compression::new(9));
    gzip.write_all(raw).expect("writing to memory cannot fail");
    gzip.finish().expect("writing to memory cannot fail")
}

/// A pure wheel: the files, and a `.dist-info` with `metadata` and, if not empty, `entry_points`.
pub fn wheel(project: &str, version: &str, files: &Files, metadata: &str, entry_points: &str) -> Vec<u8> {
    let info = format!("{project}-{version}.dist-info");
    let mut all = files.clone();
    all.push((format!("{info}/METADATA"), metadata.into()));
    let tags = "Wheel-Version: 1.0\nGenerator: testkit\nRoot-Is-Purelib: true\nTag: py3-none-any\n";
    all.push((format!("{info}/WHEEL"), tags.into()));
    if !entry_points.is_empty() {
        all.push((format!("{info}/entry_points.txt"), entry_points.into()));
    }
    let mut record: String =
        all.iter().map(|(p, b)| format!("{p},sha256={},{}\n", url_base64(b), b.len())).collect();
    record.push_str(&format!("{info}/RECORD,,\n"));
    all.push((format!("{info}/RECORD"), record.into_bytes()));
    zip_archive(&all)
}

/// A zip archive with exactly these names.
pub fn zip_archive(files: &Files) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let options =
        SimpleFileOptions::default().last_modified_time(zip::DateTime::default()).unix_permissions(0o644);
    for (path, bytes) in files {
        zip.start_file(path.as_str(), options).expect("writing to memory cannot fail");
        zip.write_all(bytes).expect("writing to memory cannot fail");
    }
    zip.finish().expect("writing to memory cannot fail").into_inner()
}

fn url_base64(bytes: &[u8]) -> String {
    base64(digest(&SHA256, bytes).as_ref())
        .replace('+', "-")
        .replace('/', "_")
        .trim_end_matches('=')
        .to_owned()
}

/// Subresource integrity as npm writes it.
pub fn sha512_integrity(bytes: &[u8]) -> String {
    format!("sha512-{}", base64(digest(&SHA512, bytes).as_ref()))
}

/// Hexadecimal SHA-256.
pub fn sha256_hex(bytes: &[u8]) -> String {
    digest(&SHA256, bytes).as_ref().iter().map(|b| format!("{b:02x}")).collect()
}

fn base64(bytes: &[u8]) -> String {
    const SIGNS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut text = String::new();
    for chunk in bytes.chunks(3) {
        let padded = [chunk[0], *chunk.get(1).unwrap_or(&0), *chunk.get(2).unwrap_or(&0)];
        let bits = u32::from_be_bytes([0, padded[0], padded[1], padded[2]]);
        for position in 0..4 {
            let index = (bits >> (18 - 6 * position)) as usize & 63;
            text.push(if position <= chunk.len() { char::from(SIGNS[index]) } else { '=' });
        }
    }
    text
}

/// The files of a zip archive.
pub fn zip_members(bytes: &[u8]) -> Files {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).expect("an archive written here");
    (0..archive.len())
        .map(|index| {
            let mut member = archive.by_index(index).expect("a member");
            let mut content = Vec::new();
            std::io::copy(&mut member, &mut content).expect("an archive written here");
            (member.name().expect("a plain name").into_owned(), content)
        })
        .collect()
}
