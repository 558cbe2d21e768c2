//! Module proxies of Go, and the module hashes (the Go modules reference, "GOPROXY protocol" and "Authenticating
//! modules").

use crate::address::Address;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use content::digest::{Hasher, Sha256};
use semver::Version;
use std::io::{self, Read, Seek, Write};
use zip::ZipArchive;

/// The most that the files of a module come to, in bytes (the reference, "File path and size constraints").
const LARGEST: u64 = 500 << 20;

/// Where a proxy has a file of a module in a version: `mod`, `zip` or `info`.
pub fn file(proxy: &Address, module: &str, version: &str, ending: &str) -> Address {
    proxy.join(&path(module, version, ending))
}

/// The same, from the root of the proxy.
pub fn path(module: &str, version: &str, ending: &str) -> String {
    format!("{}/@v/{}.{ending}", escaped(module), escaped(version))
}

/// With `!` and the small letter for each capital: some file systems do not tell them apart.
fn escaped(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for c in text.chars() {
        if c.is_ascii_uppercase() {
            escaped.push('!');
        }
        escaped.push(c.to_ascii_lowercase());
    }
    escaped
}

/// The newest version of a module, a release before any other (the Go modules reference, "GOPROXY protocol": `@v/list`, and
/// `@latest`, which a proxy need not have, for modules without versions).
pub fn newest(fetcher: &Fetcher, proxy: &Address, module: &str) -> Result<String> {
    #[derive(serde::Deserialize)]
    #[serde(rename_all = "PascalCase")]
    struct Latest {
        version: String,
    }
    let list = fetcher.get(&proxy.join(&format!("{}/@v/list", escaped(module))), "text/plain")?;
    let list = String::from_utf8_lossy(&list);
    let number = |line: &str| Some((Version::parse(line.strip_prefix('v')?).ok()?, line.to_owned()));
    let numbers = list.lines().filter_map(|line| number(line.trim()));
    if let Some((_, newest)) = numbers.max_by_key(|(version, _)| (version.pre.is_empty(), version.clone())) {
        return Ok(newest);
    }
    let address = proxy.join(&format!("{}/@latest", escaped(module)));
    let bytes = fetcher.get(&address, "application/json")?;
    let malformed =
        |e: serde_json::Error| RemoteError::Malformed { url: address.to_string(), detail: e.to_string() };
    Ok(serde_json::from_slice::<Latest>(&bytes).map_err(malformed)?.version)
}

/// The `go.mod` of a module in a version.
pub fn manifest(fetcher: &Fetcher, proxy: &Address, module: &str, version: &str) -> Result<Vec<u8>> {
    fetcher.get(&file(proxy, module, version, "mod"), "*/*")
}

/// Writes the archive of a module in a version into what `open` opens.
pub fn archive<W: Write>(
    fetcher: &Fetcher,
    proxy: &Address,
    (module, version): (&str, &str),
    open: impl FnMut() -> io::Result<W>,
) -> Result<W> {
    fetcher.get_into(&file(proxy, module, version, "zip"), open)
}

/// The hash of a `go.mod`, as `go.sum` has it.
pub fn manifest_hash(bytes: &[u8]) -> String {
    h1(vec![("go.mod".to_owned(), Sha256::of(bytes))])
}

/// The hash of an archive, as `go.sum` has it: over the names and contents of the files in it.
pub fn archive_hash(archive: impl Read + Seek, label: &str) -> Result<String> {
    let malformed = |detail: String| RemoteError::Malformed { url: label.to_owned(), detail };
    let mut zip = ZipArchive::new(archive).map_err(|e| malformed(e.to_string()))?;
    let mut files = Vec::with_capacity(zip.len());
    let mut left = LARGEST;
    for number in 0..zip.len() {
        let mut member = zip.by_index(number).map_err(|e| malformed(e.to_string()))?;
        let name = String::from_utf8(member.name_raw().to_vec()).map_err(|e| malformed(e.to_string()))?;
        let mut limited = Read::by_ref(&mut member).take(left + 1);
        let (digest, length) = Hasher::of_reader(&mut limited).map_err(|e| malformed(e.to_string()))?;
        left = left.checked_sub(length).ok_or_else(|| malformed("more than 500 MiB".to_owned()))?;
        files.push((name, digest));
    }
    Ok(h1(files))
}

/// SHA-256 over a line with digest and name of each file, in order.
fn h1(mut files: Vec<(String, Sha256)>) -> String {
    files.sort_by(|a, b| a.0.cmp(&b.0));
    let lines: String = files.iter().map(|(name, digest)| format!("{}  {name}\n", digest.hex())).collect();
    format!("h1:{}", STANDARD.encode(Sha256::of(lines.as_bytes()).bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn capitals_are_escaped_in_paths_and_versions() {
        assert_eq!(
            path("example.org/Ferry/Buoy", "v1.0.0-RC1", "zip"),
            "example.org/!ferry/!buoy/@v/v1.0.0-!r!c1.zip"
        );
    }

    #[test]
    fn hashes_are_those_of_the_reference() {
        // Computed apart from this program, after the reference.
        let manifest = b"module ferry.example/tide\n\ngo 1.22\n";
        assert_eq!(manifest_hash(manifest), "h1:6NpN2FL4MMQDvMLiZSW5dyeFnSF5flgwIWSxGwnFFSU=");
        let mut zip = zip::ZipWriter::new(io::Cursor::new(Vec::new()));
        // The order in the archive does not matter.
        for (name, bytes) in [("tide.go", &b"package tide\n"[..]), ("go.mod", manifest)] {
            let options = zip::write::SimpleFileOptions::default();
            zip.start_file(format!("ferry.example/tide@v1.0.0/{name}"), options).unwrap();
            zip.write_all(bytes).unwrap();
        }
        let hash = archive_hash(zip.finish().unwrap(), "tide").unwrap();
        assert_eq!(hash, "h1:6QflgRNOlgwwxwvEaA4eKJP0abZId0PhXRWrYE6d1mA=");
    }
}
