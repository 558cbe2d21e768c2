//! What Maven made, taken apart into the form that it starts from: a changed class changes a small layer only.

use crate::made::Made;
use crate::project::{Kind, START, Startable};
use crate::web_archive;
use content::layer::{Entry, LayerWriter};
use content::store::Store;
use engine::download_buffer::{rewind, spool};
use model::error::StepError;
use model::folder::entries;
use model::{Error, PathFacts, Result};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use tempfile::SpooledTempFile;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, DateTime, ZipArchive, ZipWriter};

/// The folder of the app, from the root of the image.
pub(crate) const APP: &str = "app";
/// Where libraries are, in it.
pub(crate) const LIBRARIES: &str = "lib";
const CLASSES: &str = "classes";
/// The same in one archive.
const CLASSES_JAR: &str = "classes.jar";
const MANIFEST: &str = "META-INF/MANIFEST.MF";
/// Options of every app: most of the memory that a container is given is for objects, and a process that has no more
/// of it ends, so that its supervisor can restart it.
const OPTIONS: &str = "-XX:MaxRAMPercentage=75\n-XX:+ExitOnOutOfMemoryError\n";
/// The archive of the classes that are loaded at the start, in the folder of the app.
pub(crate) const ARCHIVE: &str = "start.jsa";
/// How Java is told of it; where it does not fit, Java starts as ever.
pub(crate) const SHARED_CLASSES: &str = "-XX:SharedArchiveFile=";
/// The largest manifest that is read, in bytes.
const LARGEST_MANIFEST: u64 = 1 << 20;
/// What a build writes besides the app itself.
const BESIDE: [&str; 5] = ["-sources.", "-javadoc.", "-tests.", "-test-sources.", "original-"];
/// Where executable archives have the classes and the libraries of the app.
const EXECUTABLE: [(&str, &[&str]); 2] = [
    ("BOOT-INF/classes/", &["BOOT-INF/lib/"]),
    ("WEB-INF/classes/", &["WEB-INF/lib/", "WEB-INF/lib-provided/"]),
];
/// The loader of executable archives, which is not needed.
const LOADER: &str = "org/springframework/boot/loader/";
/// The file that lists the libraries of an executable archive in their order.
const ORDER: &str = "-INF/classpath.idx";

/// Where the content of a file of the app is.
enum Content {
    /// A file.
    File(PathBuf),
    /// A member of the archive.
    Member(usize),
    Text(String),
    /// Written just now, with its size.
    Written(SpooledTempFile, u64),
}

/// The files of the app by their path in its folder.
type Files = BTreeMap<String, Content>;

/// An archive that was built.
struct Jar {
    path: PathBuf,
    zip: ZipArchive<File>,
    manifest: BTreeMap<String, String>,
}

/// Puts the app that the build of its module made into a layer. For a fast start, its own classes are in an archive: Java
/// shares no classes of folders.
pub(crate) fn pack(
    source: &Path,
    app: &Startable,
    fast_start: bool,
    layer: &mut LayerWriter<'_>,
) -> Result<()> {
    let mut options = OPTIONS.to_owned();
    if fast_start {
        options.push_str(&format!("{SHARED_CLASSES}/{APP}/{ARCHIVE}\n"));
    }
    let mut files = Files::new();
    let made = Made::new(source.canonicalize().facts(source)?);
    let target = &source.join(&app.folder).join("target");
    let fast = target.join("quarkus-app");
    if made.has_file(&fast.join("quarkus-run.jar")) {
        add_folder(&made, &fast, "quarkus-app", &mut files)?;
        let text = format!("{options}-jar\n{}\n", quoted(&format!("/{APP}/quarkus-app/quarkus-run.jar")));
        files.insert(START.to_owned(), Content::Text(text));
        return write(files, None, layer);
    }
    if app.kind == Kind::Web {
        let mut archive = chosen(&made, target, true)?;
        all_members(&mut archive, web_archive::SITE, &mut files)?;
        files.insert(START.to_owned(), Content::Text(format!("{options}{}", web_archive::START_WORDS)));
        return write(files, Some(&mut archive), layer);
    }
    let main = app.main.as_deref();
    let mut jar = chosen(&made, target, main.is_some())?;
    let starts = jar.manifest.get("Start-Class").or_else(|| jar.manifest.get("Main-Class"));
    let class = starts.cloned().or_else(|| main.map(str::to_owned)).unwrap_or_default();
    let class_path = match executable(&mut jar, &mut files)? {
        Some(class_path) if fast_start => {
            let (classes, size) = in_one_archive(&mut jar, &mut files, layer.store())?;
            files.insert(CLASSES_JAR.to_owned(), Content::Written(classes, size));
            let libraries = class_path.into_iter().skip(1);
            std::iter::once(CLASSES_JAR.to_owned()).chain(libraries).collect()
        }
        Some(class_path) => class_path,
        None => beside(&made, &jar, target, &mut files)?,
    };
    let absolute: Vec<String> = class_path.iter().map(|entry| format!("/{APP}/{entry}")).collect();
    let text = format!("{options}-cp\n{}\n{class}\n", quoted(&absolute.join(":")));
    files.insert(START.to_owned(), Content::Text(text));
    write(files, Some(&mut jar), layer)
}

/// The archive that is the app: one that starts by itself, the largest first; else any, where the class is known.
fn chosen(source: &Made, target: &Path, class_is_known: bool) -> Result<Jar> {
    let all = if source.has_folder(target) { entries(target)? } else { Vec::new() };
    let mut jars = Vec::new();
    let mut made = Vec::new();
    for path in all {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let is_archive = name.ends_with(".jar") || name.ends_with(".war");
        if !is_archive || !source.has_file(&path) || BESIDE.iter().any(|part| name.contains(part)) {
            continue;
        }
        let size = path.metadata().facts(&path)?.len();
        let mut zip = match ZipArchive::new(File::open(&path).facts(&path)?) {
            Ok(zip) => zip,
            Err(_) => continue,
        };
        let manifest = manifest_of(&mut zip);
        made.push(format!("target/{name}"));
        let starts = manifest.contains_key("Main-Class");
        jars.push((starts, size, Jar { path, zip, manifest }));
    }
    jars.retain(|(starts, ..)| *starts || class_is_known);
    let best = jars.into_iter().max_by_key(|(starts, size, _)| (*starts, *size));
    let none =
        || Error::Step(StepError::NotMade { wanted: "a jar that says its Main-Class".to_owned(), made });
    best.map(|(_, _, jar)| jar).ok_or_else(none)
}

/// The main attributes of a manifest (the JAR file specification, "JAR Manifest").
fn manifest_of(zip: &mut ZipArchive<File>) -> BTreeMap<String, String> {
    let mut text = String::new();
    if let Ok(member) = zip.by_name(MANIFEST) {
        // What is not text has no attributes.
        let _ = member.take(LARGEST_MANIFEST).read_to_string(&mut text);
    }
    attributes(&text)
}

fn attributes(text: &str) -> BTreeMap<String, String> {
    // A line that begins with a space goes on with the one before.
    let whole = text.replace("\r\n", "\n").replace("\n ", "");
    let main = whole.split("\n\n").next().unwrap_or_default();
    let pairs = main.lines().filter_map(|line| line.split_once(':'));
    pairs.map(|(name, value)| (name.trim().to_owned(), value.trim().to_owned())).collect()
}

/// Takes an executable archive apart; gives its class path, or nothing for another kind of archive.
fn executable(jar: &mut Jar, files: &mut Files) -> Result<Option<Vec<String>>> {
    let names: Vec<String> = jar.zip.file_names().filter_map(|name| Some(name.ok()?.into_owned())).collect();
    let is_one = |(classes, _): &&(&str, &[&str])| names.iter().any(|name| name.starts_with(classes));
    if !jar.manifest.contains_key("Start-Class") {
        return Ok(None);
    }
    let Some((classes, libraries)) = EXECUTABLE.iter().find(is_one) else { return Ok(None) };
    let mut found = Vec::new();
    let mut order = Vec::new();
    for index in 0..jar.zip.len() {
        let mut member = jar.zip.by_index(index).map_err(|error| damaged(&jar.path, &error))?;
        let name = String::from_utf8_lossy(member.name_raw()).into_owned();
        if member.is_dir() || name.starts_with(LOADER) {
            continue;
        }
        if name.ends_with(ORDER) {
            let mut text = String::new();
            member.read_to_string(&mut text).facts(&jar.path)?;
            order = text.lines().filter_map(library_in_line).collect();
            continue;
        }
        let library = libraries.iter().find_map(|folder| name.strip_prefix(folder));
        let place = match (library, name.strip_prefix(classes)) {
            (Some(library), _) => {
                found.push(library.to_owned());
                format!("{LIBRARIES}/{library}")
            }
            (None, Some(class)) => format!("{CLASSES}/{class}"),
            // Indexes and whatever else only the loader reads.
            (None, None) if name.starts_with("BOOT-INF/") || name == MANIFEST => continue,
            (None, None) => format!("{CLASSES}/{name}"),
        };
        if !is_plain(&place) {
            return Err(damaged(&jar.path, &format!("a member is called {name:?}")));
        }
        files.insert(place, Content::Member(index));
    }
    found.sort();
    // Libraries that the index does not list come after those that it does.
    let unlisted: Vec<String> = found.iter().filter(|name| !order.contains(name)).cloned().collect();
    order.retain(|name| found.contains(name));
    let listed = order.into_iter().chain(unlisted).map(|name| format!("{LIBRARIES}/{name}"));
    Ok(Some(std::iter::once(CLASSES.to_owned()).chain(listed).collect()))
}

/// Takes the app's own classes out of its files, and writes them into an archive of their own; gives its size, too.
fn in_one_archive(jar: &mut Jar, files: &mut Files, store: &Store) -> Result<(SpooledTempFile, u64)> {
    let within = format!("{CLASSES}/");
    let own: Vec<String> = files.keys().filter(|place| place.starts_with(&within)).cloned().collect();
    // The layer is compressed as a whole.
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Stored)
        .last_modified_time(DateTime::default())
        .unix_permissions(0o644);
    let mut archive = ZipWriter::new(spool(store));
    let mut last = String::new();
    for place in own {
        let Some(Content::Member(index)) = files.remove(&place) else { continue };
        let name = &place[within.len()..];
        // Some frameworks look for the entries of folders.
        for (at, _) in name.match_indices('/').filter(|(at, _)| !last.starts_with(&name[..=*at])) {
            archive.add_directory(&name[..at], options).map_err(|error| damaged(&jar.path, &error))?;
        }
        let mut member = jar.zip.by_index(index).map_err(|error| damaged(&jar.path, &error))?;
        archive.start_file(name, options).map_err(|error| damaged(&jar.path, &error))?;
        io::copy(&mut member, &mut archive).facts(&jar.path)?;
        last = name.to_owned();
    }
    let mut archive = archive.finish().map_err(|error| damaged(&jar.path, &error))?;
    let size = rewind(&mut archive)?;
    Ok((archive, size))
}

/// All members of an archive, below a folder.
fn all_members(jar: &mut Jar, folder: &str, files: &mut Files) -> Result<()> {
    for index in 0..jar.zip.len() {
        let member = jar.zip.by_index(index).map_err(|error| damaged(&jar.path, &error))?;
        let name = String::from_utf8_lossy(member.name_raw()).into_owned();
        if member.is_dir() {
            continue;
        }
        let place = format!("{folder}/{name}");
        if !is_plain(&place) {
            return Err(damaged(&jar.path, &format!("a member is called {name:?}")));
        }
        files.insert(place, Content::Member(index));
    }
    Ok(())
}

/// Whether a path leads nowhere else.
fn is_plain(path: &str) -> bool {
    path.split('/').all(|part| !matches!(part, "" | "." | ".."))
}

/// `- "BOOT-INF/lib/fog-1.0.jar"`: the name of the file.
fn library_in_line(line: &str) -> Option<String> {
    let path = line.trim().strip_prefix("- ")?.trim_matches('"');
    Some(path.rsplit('/').next()?.to_owned())
}

/// An archive as it is, with the libraries beside it; gives the class path.
fn beside(made: &Made, jar: &Jar, target: &Path, files: &mut Files) -> Result<Vec<String>> {
    let name = jar.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut class_path = vec![name.clone()];
    files.insert(name, Content::File(jar.path.clone()));
    // What its manifest names counts in that order; what was copied beside it, by name.
    let named = jar.manifest.get("Class-Path").map(String::as_str).unwrap_or_default();
    let mut libraries: Vec<PathBuf> = named.split_whitespace().map(|entry| target.join(entry)).collect();
    let is_whole = !libraries.is_empty() && libraries.iter().all(|path| made.has_file(path));
    libraries.retain(|path| made.has_file(path));
    let copied = target.join("dependency");
    // A manifest may name what was never put beside the archive.
    if !is_whole && made.has_folder(&copied) {
        libraries = entries(&copied)?;
        libraries.retain(|path| made.has_file(path));
    }
    for path in libraries {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let place = format!("{LIBRARIES}/{name}");
        class_path.push(place.clone());
        files.insert(place, Content::File(path));
    }
    Ok(class_path)
}

fn add_folder(made: &Made, folder: &Path, at: &str, files: &mut Files) -> Result<()> {
    for path in entries(folder)? {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let place = format!("{at}/{name}");
        let is_link = path.symlink_metadata().is_ok_and(|metadata| metadata.is_symlink());
        if made.has_folder(&path) && !is_link {
            add_folder(made, &path, &place, files)?;
        } else if made.has_file(&path) {
            files.insert(place, Content::File(path));
        }
    }
    Ok(())
}

fn write(files: Files, mut jar: Option<&mut Jar>, layer: &mut LayerWriter<'_>) -> Result<()> {
    layer.part::<Error>(|tar| {
        tar.entry(&Entry::folder(APP))?;
        let mut last = String::new();
        for (place, content) in files {
            let place = format!("{APP}/{place}");
            for (at, _) in
                place.match_indices('/').skip(1).filter(|(at, _)| !last.starts_with(&place[..=*at]))
            {
                tar.entry(&Entry::folder(&place[..at]))?;
            }
            match content {
                Content::File(path) => {
                    let mut file = File::open(&path).facts(&path)?;
                    let size = fs::metadata(&path).facts(&path)?.len();
                    tar.file(&Entry::file(place.as_str(), size, false), &mut file)?;
                }
                Content::Member(index) => {
                    let Some(jar) = jar.as_deref_mut() else { continue };
                    let mut member = jar.zip.by_index(index).map_err(|error| damaged(&jar.path, &error))?;
                    let entry = Entry::file(place.as_str(), member.size(), false);
                    tar.file(&entry, &mut member).facts(&jar.path)?;
                }
                Content::Written(mut file, size) => {
                    tar.file(&Entry::file(place.as_str(), size, false), &mut file)?;
                }
                Content::Text(text) => {
                    let entry = Entry::file(place.as_str(), text.len() as u64, false);
                    tar.file(&entry, &mut text.as_bytes())?;
                }
            }
            last = place;
        }
        Ok(())
    })
}

fn damaged(path: &Path, detail: &dyn std::fmt::Display) -> Error {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    Error::Step(StepError::NotMade { wanted: format!("a whole {name} ({detail})"), made: Vec::new() })
}

/// A word of an argument file (the `java` command, "java Command-Line Argument Files").
fn quoted(word: &str) -> String {
    format!("\"{}\"", word.replace('\\', "\\\\").replace('"', "\\\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attributes_go_on_over_lines_and_end_with_the_main_section() {
        let text = "Manifest-Version: 1.0\r\nClass-Path: lib/fog-1.0.jar lib/h\r\n orn-2.0.jar\r\n\r\nName: a\r\nMain-Class: b\r\n";
        let found = attributes(text);
        assert_eq!(found["Class-Path"], "lib/fog-1.0.jar lib/horn-2.0.jar");
        assert!(!found.contains_key("Main-Class"));
    }

    #[test]
    fn what_a_link_leads_to_outside_of_the_source_is_not_taken() {
        let folder = tempfile::tempdir().unwrap();
        let source = folder.path().join("source");
        fs::create_dir_all(source.join("target/quarkus-app")).unwrap();
        fs::write(folder.path().join("secret"), "hunter2").unwrap();
        fs::write(source.join("target/quarkus-app/own.jar"), "own").unwrap();
        for (to, at) in [("../../../secret", "secret.jar"), ("../../..", "all"), (".", "round")] {
            std::os::unix::fs::symlink(to, source.join("target/quarkus-app").join(at)).unwrap();
        }
        let made = Made::new(source.canonicalize().unwrap());
        let mut files = Files::new();
        add_folder(&made, &source.join("target/quarkus-app"), "app", &mut files).unwrap();
        assert_eq!(files.keys().collect::<Vec<_>>(), ["app/own.jar"]);
    }

    #[test]
    fn words_of_argument_files_are_quoted() {
        assert_eq!(quoted("/app/a b\\\"c"), r#""/app/a b\\\"c""#);
    }
}
