//! Wheels (the binary distribution format of PyPA): names, contents, and what is installed from them.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use content::digest::Sha256;
use pep440_rs::Version;
use remote::packages::pypi;
use std::collections::BTreeMap;
use std::io::{Cursor, Read};
use std::str::FromStr;

/// What a wheel's file name says.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct WheelName {
    pub(super) project: String,
    pub(super) version: Version,
    python: String,
    abi: String,
    platform: String,
}

impl WheelName {
    pub(super) fn parse(file: &str) -> Option<Self> {
        let parts: Vec<&str> = file.strip_suffix(".whl")?.split('-').collect();
        let (project, version, tags) = match parts[..] {
            [project, version, a, b, c] | [project, version, _, a, b, c] => (project, version, [a, b, c]),
            _ => return None,
        };
        Some(Self {
            project: pypi::canonical_name(project),
            version: Version::from_str(version).ok()?,
            python: tags[0].to_owned(),
            abi: tags[1].to_owned(),
            platform: tags[2].to_owned(),
        })
    }

    /// Whether it is pure Python for Python 3; wheels with compiled parts come with a later version.
    pub(super) fn is_pure(&self) -> bool {
        self.python.split('.').any(|t| t.starts_with("py3")) && self.abi == "none" && self.platform == "any"
    }
}

/// The version in the name of a wheel or of a source archive.
pub(super) fn version_of(file: &str) -> Option<Version> {
    if let Some(wheel) = WheelName::parse(file) {
        return Some(wheel.version);
    }
    let stem = [".tar.gz", ".zip"].iter().find_map(|end| file.strip_suffix(end))?;
    Version::from_str(stem.rsplit_once('-')?.1).ok()
}

/// Files to be installed: path from the root of the environment, content, whether executable.
pub(super) type Installed = BTreeMap<String, (Vec<u8>, bool)>;

/// What is read from a wheel besides its files.
pub(super) struct Contents {
    pub(super) files: Installed,
    pub(super) licence: Option<String>,
}

/// The largest unpacked wheel, in bytes.
const LARGEST: u64 = 1 << 30;

/// Lays out a wheel for an environment whose packages are in `site` and whose interpreter is
/// `interpreter`; both as paths, `site` from the root of the environment.
pub(super) fn lay_out(bytes: &[u8], site: &str, interpreter: &str) -> Result<Contents, String> {
    let members = read_members(bytes)?;
    let info = members
        .keys()
        .filter_map(|p| p.split_once('/').map(|(first, _)| first))
        .find(|first| first.ends_with(".dist-info"))
        .ok_or("no .dist-info folder")?
        .to_owned();
    let data = info.replace(".dist-info", ".data");
    check_record(&members, &info)?;
    let mut files = Installed::new();
    for (path, content) in &members {
        let (target, content, executable) = match path.strip_prefix(&format!("{data}/")) {
            Some(inside) => data_file(inside, content, site, interpreter)?,
            None => (format!("{site}/{path}"), content.clone(), false),
        };
        files.insert(target, (content, executable));
    }
    let entry_points = members.get(&format!("{info}/entry_points.txt"));
    let entry_points =
        String::from_utf8_lossy(entry_points.map(Vec::as_slice).unwrap_or_default()).into_owned();
    for (name, target) in console_scripts(&entry_points) {
        if name.contains('/') {
            return Err(format!("the script name {name:?} is a path"));
        }
        files.insert(format!("bin/{name}"), (script(&target, interpreter)?.into_bytes(), true));
    }
    files.insert(format!("{site}/{info}/INSTALLER"), (b"shtetl\n".to_vec(), false));
    let record = format!("{site}/{info}/RECORD");
    files.remove(&record);
    let lines = record_lines(&files, site, &record);
    files.insert(record, (lines.into_bytes(), false));
    let metadata = members.get(&format!("{info}/METADATA")).map(|m| String::from_utf8_lossy(m).into_owned());
    Ok(Contents { files, licence: metadata.as_deref().and_then(licence) })
}

fn read_members(bytes: &[u8]) -> Result<BTreeMap<String, Vec<u8>>, String> {
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|e| e.to_string())?;
    let mut members = BTreeMap::new();
    let mut room = LARGEST;
    for index in 0..archive.len() {
        let mut member = archive.by_index(index).map_err(|e| e.to_string())?;
        if member.is_dir() {
            continue;
        }
        let name = member.name().map_err(|e| e.to_string())?.into_owned();
        if name.starts_with('/')
            || name.split('/').any(|p| matches!(p, "" | "." | ".."))
            || name.contains('\\')
        {
            return Err(format!("the entry {name:?} leaves the package's folder"));
        }
        let content = content::store::read_limited(&mut member.by_ref(), room).map_err(|e| e.to_string())?;
        let content = content.ok_or("unpacks to more than 1 GiB")?;
        room -= content.len() as u64;
        if members.insert(name.clone(), content).is_some() {
            return Err(format!("the entry {name:?} is there twice"));
        }
    }
    Ok(members)
}

/// The files must be the ones that `RECORD` lists with their hashes (PyPA, "Recording installed projects").
fn check_record(members: &BTreeMap<String, Vec<u8>>, info: &str) -> Result<(), String> {
    let own = format!("{info}/RECORD");
    let record = members.get(&own).ok_or("no RECORD")?;
    let listed: BTreeMap<String, String> =
        String::from_utf8_lossy(record).lines().filter_map(record_line).collect();
    for (path, content) in members {
        let signature = [".jws", ".p7s"].iter().any(|end| *path == format!("{own}{end}"));
        if *path == own || signature {
            continue;
        }
        let hash = listed.get(path).ok_or_else(|| format!("{path} is not in RECORD"))?;
        if hash.starts_with("sha256=") && *hash != hash_of(content) {
            return Err(format!("{path} has another hash than RECORD says"));
        }
    }
    Ok(())
}

/// Path and hash of one line of comma-separated values.
fn record_line(line: &str) -> Option<(String, String)> {
    let (path, rest) = match line.strip_prefix('"') {
        Some(quoted) => {
            let end = quoted.rfind("\",")?;
            (quoted[..end].replace("\"\"", "\""), &quoted[end + 2..])
        }
        None => line.split_once(',').map(|(path, rest)| (path.to_owned(), rest))?,
    };
    Some((path, rest.split(',').next().unwrap_or_default().to_owned()))
}

fn hash_of(content: &[u8]) -> String {
    format!("sha256={}", URL_SAFE_NO_PAD.encode(Sha256::of(content).bytes()))
}

/// A file of the `.data` folder.
fn data_file(
    inside: &str,
    content: &[u8],
    site: &str,
    interpreter: &str,
) -> Result<(String, Vec<u8>, bool), String> {
    let (scheme, path) = inside.split_once('/').ok_or("a file directly in the .data folder")?;
    match scheme {
        "purelib" | "platlib" => Ok((format!("{site}/{path}"), content.to_vec(), false)),
        "scripts" => {
            let first = content.split(|b| *b == b'\n').next().unwrap_or_default();
            let content = if first.starts_with(b"#!python") {
                [format!("#!{interpreter}").as_bytes(), &content[first.len()..]].concat()
            } else {
                content.to_vec()
            };
            Ok((format!("bin/{path}"), content, true))
        }
        "data" => Ok((path.to_owned(), content.to_vec(), false)),
        other => Err(format!("the .data folder {other:?} is not supported")),
    }
}

/// `name = module:function` lines of the section `console_scripts`.
fn console_scripts(text: &str) -> Vec<(String, String)> {
    let mut inside = false;
    let mut scripts = Vec::new();
    for line in text.lines().map(str::trim) {
        if line.starts_with('[') {
            inside = line == "[console_scripts]";
        } else if inside && let Some((name, target)) = line.split_once('=') {
            scripts.push((name.trim().to_owned(), target.trim().to_owned()));
        }
    }
    scripts
}

fn script(target: &str, interpreter: &str) -> Result<String, String> {
    let target = target.split('[').next().unwrap_or(target).trim();
    let (module, function) =
        target.split_once(':').ok_or_else(|| format!("the entry point {target:?} has no function"))?;
    let is_dotted = |t: &str| !t.is_empty() && t.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '.');
    if !is_dotted(module) || !is_dotted(function) {
        return Err(format!("the entry point {target:?} is no module and function"));
    }
    let imported = function.split('.').next().unwrap_or(function);
    Ok(format!("#!{interpreter}\nimport sys\nfrom {module} import {imported}\nsys.exit({function}())\n"))
}

fn record_lines(files: &Installed, site: &str, own: &str) -> String {
    let up = "../".repeat(site.split('/').count());
    let named = |path: &str| match path.strip_prefix(&format!("{site}/")) {
        Some(inside) => inside.to_owned(),
        None => format!("{up}{path}"),
    };
    let quoted = |path: String| match path.contains([',', '"']) {
        true => format!("\"{}\"", path.replace('"', "\"\"")),
        false => path,
    };
    let line = |(path, (content, _)): (&String, &(Vec<u8>, bool))| {
        format!("{},{},{}\n", quoted(named(path)), hash_of(content), content.len())
    };
    let mut lines: Vec<String> = files.iter().map(line).collect();
    lines.push(format!("{},,\n", quoted(named(own))));
    lines.sort();
    lines.concat()
}

/// The licence of core metadata: the expression of PEP 639, else the older free text when it is short.
fn licence(metadata: &str) -> Option<String> {
    let headers = metadata.split("\n\n").next().unwrap_or(metadata);
    let field = |name: &str| {
        let value = headers.lines().find_map(|l| l.strip_prefix(name))?.trim();
        (!value.is_empty() && value.len() <= 60).then(|| value.to_owned())
    };
    field("License-Expression:").or_else(|| field("License:"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_tell_what_fits() {
        for (name, pure) in [
            ("fog_horn-1.0-py3-none-any.whl", true),
            ("fog_horn-1.0-1-py2.py3-none-any.whl", true),
            ("fog_horn-1.0-cp311-cp311-manylinux_2_17_x86_64.manylinux2014_x86_64.whl", false),
        ] {
            let parsed = WheelName::parse(name).unwrap();
            assert_eq!((parsed.project.as_str(), parsed.is_pure()), ("fog-horn", pure));
        }
        assert_eq!(WheelName::parse("fog_horn-1.0.tar.gz"), None);
    }
}
