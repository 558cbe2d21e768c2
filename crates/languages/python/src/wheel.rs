//! Wheels (the binary distribution format of PyPA): names, contents, and what is installed from them.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use content::digest::Sha256;
use engine::Recipe;
use pep440_rs::Version;
use remote::packages::pypi::canonical_name;
use source::UnpackLimit;
use std::collections::BTreeMap;
use std::io::{self, Read, Seek};
use std::str::FromStr;

/// How wheels are put down.
pub(super) const RECIPE: Recipe = Recipe::new("wheel", 6);

/// Where packages are put in an environment; paths from its root.
pub(super) struct Scheme<'a> {
    /// The folder of packages.
    pub(super) site: &'a str,
    /// Major and minor version of Python.
    pub(super) series: &'a str,
    /// The interpreter, as scripts name it.
    pub(super) interpreter: &'a str,
}

/// A wheel that is about to be installed.
pub(super) struct Layout {
    /// By path from the root of the environment, in order.
    files: BTreeMap<String, Installed>,
    pub(super) licence: Option<String>,
    /// The project and version that it says it is of.
    pub(super) project: String,
    pub(super) version: String,
}

/// One file to be installed.
struct Installed {
    content: Content,
    executable: bool,
}

enum Content {
    /// A member of the archive, by its number, with its size in bytes.
    Member(usize, u64),
    Made(Vec<u8>),
}

/// Unpacked wheels are no larger than this, in bytes.
const LARGEST: u64 = 8 << 30;
/// Members that are read as a whole are no larger than this, in bytes.
const LARGEST_TEXT: u64 = 64 << 20;

/// The core metadata in a wheel.
pub(super) fn metadata<R: Read + Seek>(archive: &mut Archive<R>) -> Result<String, String> {
    let is_it = |n: &String| n.ends_with(".dist-info/METADATA") && n.matches('/').count() == 1;
    let inside = archive.file_names().flatten().map(|name| name.into_owned()).find(is_it);
    let inside = inside.ok_or("no METADATA in it")?;
    let mut member = archive.by_name(&inside).map_err(|e| e.to_string())?;
    let text = content::store::read_limited(&mut member, LARGEST_TEXT).map_err(|e| e.to_string())?;
    Ok(String::from_utf8_lossy(&text.ok_or("its METADATA has more than 64 MiB")?).into_owned())
}

/// What core metadata says a package needs, in PEP 508.
pub(super) fn needs(metadata: &str) -> Vec<String> {
    let headers = metadata.split("\n\n").next().unwrap_or_default();
    headers.lines().filter_map(|l| Some(l.strip_prefix("Requires-Dist:")?.trim().to_owned())).collect()
}

/// The archive of a wheel.
pub(super) type Archive<R> = zip::ZipArchive<R>;

impl Layout {
    /// Lays out a wheel for an environment.
    pub(super) fn of<R: Read + Seek>(archive: &mut Archive<R>, scheme: &Scheme<'_>) -> Result<Self, String> {
        let members = members_of(archive)?;
        let info = members
            .keys()
            .filter_map(|path| path.split_once('/').map(|(first, _)| first))
            .find(|first| first.ends_with(".dist-info"))
            .ok_or("no .dist-info folder")?
            .to_owned();
        let (project, version) = info.trim_end_matches(".dist-info").split_once('-').unwrap_or((&info, ""));
        let (project, version) = (project.to_owned(), version.to_owned());
        let data = info.replace(".dist-info", ".data");
        let mut read = |path: &str| -> Result<Option<String>, String> {
            let Some(member) = members.get(&format!("{info}/{path}")) else { return Ok(None) };
            Ok(Some(String::from_utf8_lossy(&read_member(archive, member.number)?).into_owned()))
        };
        let record = read("RECORD")?.ok_or("no RECORD")?;
        let entry_points = read("entry_points.txt")?.unwrap_or_default();
        let licence = read("METADATA")?.as_deref().and_then(licence);
        let recorded: BTreeMap<String, (String, String)> = record.lines().filter_map(record_line).collect();
        check_record(&members, &recorded, &info)?;
        let mut files = BTreeMap::new();
        let mut known = BTreeMap::new();
        for (path, member) in &members {
            let plain = Content::Member(member.number, member.size);
            let (target, content, executable) = match path.strip_prefix(&format!("{data}/")) {
                Some(inside) => data_file(archive, inside, member, (scheme, &project))?,
                None => (format!("{}/{path}", scheme.site), plain, member.executable),
            };
            if let (Content::Member(..), Some(said)) = (&content, recorded.get(path)) {
                known.insert(target.clone(), said.clone());
            }
            files.insert(target, Installed { content, executable });
        }
        for (name, target) in scripts(&entry_points) {
            if name.contains('/') {
                return Err(format!("the script name {name:?} must not be a path"));
            }
            let content = Content::Made(script(&target, scheme.interpreter)?.into_bytes());
            files.insert(format!("bin/{name}"), Installed { content, executable: true });
        }
        let made = |text: String| Installed { content: Content::Made(text.into_bytes()), executable: false };
        files.insert(format!("{}/{info}/INSTALLER", scheme.site), made("shtetl\n".to_owned()));
        let record = format!("{}/{info}/RECORD", scheme.site);
        files.remove(&record);
        let lines = record_lines(&files, &known, scheme.site, &record);
        files.insert(record, made(lines));
        Ok(Self { files, licence, project, version })
    }

    /// Whether the wheel says that it is this version of this project.
    pub(super) fn is_of(&self, project: &str, version: &Version) -> bool {
        let is_version = Version::from_str(&self.version).is_ok_and(|own| own == *version);
        canonical_name(&self.project) == canonical_name(project) && is_version
    }

    /// Gives every file to `put`, in the order of their paths: path, size in bytes, whether it is
    /// executable, content.
    pub(super) fn each<R: Read + Seek>(
        &self,
        archive: &mut Archive<R>,
        mut put: impl FnMut(&str, u64, bool, &mut dyn Read) -> io::Result<()>,
    ) -> io::Result<()> {
        for (path, Installed { content, executable }) in &self.files {
            match content {
                Content::Made(bytes) => put(path, bytes.len() as u64, *executable, &mut &bytes[..])?,
                Content::Member(number, size) => {
                    let mut member = archive.by_index(*number).map_err(io::Error::other)?;
                    put(path, *size, *executable, &mut member)?;
                }
            }
        }
        Ok(())
    }
}

/// A file of the archive.
struct Member {
    number: usize,
    size: u64,
    executable: bool,
}

fn members_of<R: Read + Seek>(archive: &mut Archive<R>) -> Result<BTreeMap<String, Member>, String> {
    let mut members = BTreeMap::new();
    // What comes before the directory of the archive is nearly all of it.
    let allowed = UnpackLimit::of(archive.central_directory_start(), LARGEST);
    let mut room = allowed.bytes;
    for number in 0..archive.len() {
        let member = archive.by_index(number).map_err(|e| e.to_string())?;
        if member.is_dir() {
            continue;
        }
        let name = member.name().map_err(|e| e.to_string())?.into_owned();
        if name.starts_with('/')
            || name.split('/').any(|p| matches!(p, "" | "." | ".."))
            || name.contains('\\')
        {
            return Err(format!("the entry {name:?} points outside the package's folder"));
        }
        room = room.checked_sub(member.size()).ok_or_else(|| allowed.to_string())?;
        // As pip takes it: what is not said to be a regular file (POSIX.1, <sys/stat.h>) is no program.
        let is_program = |mode: u32| mode & 0o170_000 == 0o100_000 && mode & 0o111 != 0;
        let executable = member.unix_mode().is_some_and(is_program);
        if members.insert(name.clone(), Member { number, size: member.size(), executable }).is_some() {
            return Err(format!("duplicate entry {name:?}"));
        }
    }
    Ok(members)
}

fn read_member<R: Read + Seek>(archive: &mut Archive<R>, number: usize) -> Result<Vec<u8>, String> {
    let mut member = archive.by_index(number).map_err(|e| e.to_string())?;
    let content = content::store::read_limited(&mut member, LARGEST_TEXT).map_err(|e| e.to_string())?;
    content.ok_or_else(|| "a text file of more than 64 MiB".to_owned())
}

/// The files must be the ones that `RECORD` lists (PyPA, "Recording installed projects"). Their contents
/// were settled by the hash of the whole.
fn check_record(
    members: &BTreeMap<String, Member>,
    recorded: &BTreeMap<String, (String, String)>,
    info: &str,
) -> Result<(), String> {
    let own = format!("{info}/RECORD");
    let signature = |path: &str| [".jws", ".p7s"].iter().any(|end| path == format!("{own}{end}"));
    let listed = |path: &str| recorded.contains_key(path) || path == own || signature(path);
    match members.keys().find(|path| !listed(path)) {
        Some(path) => Err(format!("{path} is not in RECORD")),
        None => Ok(()),
    }
}

/// Path, hash and size of one line of comma-separated values.
fn record_line(line: &str) -> Option<(String, (String, String))> {
    let (path, rest) = match line.strip_prefix('"') {
        Some(quoted) => {
            let end = quoted.rfind("\",")?;
            (quoted[..end].replace("\"\"", "\""), &quoted[end + 2..])
        }
        None => line.split_once(',').map(|(path, rest)| (path.to_owned(), rest))?,
    };
    let (hash, size) = rest.split_once(',').unwrap_or((rest, ""));
    Some((path, (hash.to_owned(), size.trim().to_owned())))
}

fn hash_of(content: &[u8]) -> String {
    format!("sha256={}", URL_SAFE_NO_PAD.encode(Sha256::of(content).bytes()))
}

/// A file of the `.data` folder: target, content, whether it is executable.
fn data_file<R: Read + Seek>(
    archive: &mut Archive<R>,
    inside: &str,
    member: &Member,
    (scheme, project): (&Scheme<'_>, &str),
) -> Result<(String, Content, bool), String> {
    let (folder, path) = inside.split_once('/').ok_or("a file directly in the .data folder")?;
    let plain = Content::Member(member.number, member.size);
    match folder {
        "purelib" | "platlib" => Ok((format!("{}/{path}", scheme.site), plain, member.executable)),
        "headers" => {
            Ok((format!("include/site/python{}/{project}/{path}", scheme.series), plain, member.executable))
        }
        "data" => Ok((path.to_owned(), plain, member.executable)),
        "scripts" => {
            let target = format!("bin/{path}");
            if member.size > LARGEST_TEXT {
                return Ok((target, plain, true));
            }
            let content = read_member(archive, member.number)?;
            let first = content.split(|b| *b == b'\n').next().unwrap_or_default();
            if !first.starts_with(b"#!python") {
                return Ok((target, plain, true));
            }
            let made = [format!("#!{}", scheme.interpreter).as_bytes(), &content[first.len()..]].concat();
            Ok((target, Content::Made(made), true))
        }
        other => Err(format!("the .data folder {other:?} is not known")),
    }
}

/// `name = module:function` lines of the sections of scripts.
fn scripts(text: &str) -> Vec<(String, String)> {
    let mut inside = false;
    let mut scripts = Vec::new();
    for line in text.lines().map(str::trim) {
        if line.starts_with('[') {
            inside = matches!(line, "[console_scripts]" | "[gui_scripts]");
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
        return Err(format!("the entry point {target:?} is not MODULE:FUNCTION"));
    }
    let imported = function.split('.').next().unwrap_or(function);
    // A child process (multiprocessing) imports this script again: only the first process may run it.
    Ok(format!(
        "#!{interpreter}\nimport sys\nfrom {module} import {imported}\nif __name__ == \"__main__\":\n    sys.exit({function}())\n"
    ))
}

/// The new `RECORD`; the wheel's hashes of unchanged files are reused.
fn record_lines(
    files: &BTreeMap<String, Installed>,
    known: &BTreeMap<String, (String, String)>,
    site: &str,
    own: &str,
) -> String {
    let up = "../".repeat(site.split('/').count());
    let named = |path: &str| match path.strip_prefix(&format!("{site}/")) {
        Some(inside) => inside.to_owned(),
        None => format!("{up}{path}"),
    };
    let quoted = |path: String| match path.contains([',', '"']) {
        true => format!("\"{}\"", path.replace('"', "\"\"")),
        false => path,
    };
    let line = |(path, file): (&String, &Installed)| {
        let (hash, size) = match (&file.content, known.get(path)) {
            (Content::Made(bytes), _) => (hash_of(bytes), bytes.len().to_string()),
            (Content::Member(_, size), Some((hash, _))) => (hash.clone(), size.to_string()),
            (Content::Member(_, size), None) => (String::new(), size.to_string()),
        };
        format!("{},{hash},{size}\n", quoted(named(path)))
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
    fn a_command_that_is_imported_again_starts_nothing() {
        let text = script("tides.cli:app.main", "/usr/bin/python3").unwrap();
        let (before, after) = text.split_once("if __name__ == \"__main__\":\n").unwrap();
        assert_eq!(before, "#!/usr/bin/python3\nimport sys\nfrom tides.cli import app\n");
        assert_eq!(after, "    sys.exit(app.main())\n");
        assert!(script("tides.cli", "").is_err() && script("tides:os.system('x')", "").is_err());
    }
}
