//! What is in an archive that others were merged into: each artifact that Maven builds brings a file with its coordinates.

use model::{PathFacts, Result};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::Read;
use std::path::Path;
use zip::ZipArchive;

/// The largest file with coordinates that is read, in bytes.
const LARGEST: u64 = 64 << 10;

/// Group, artifact and version.
pub(crate) type Merged = (String, String, String);

/// The artifacts that an archive says are in it; nothing where it is not an archive.
pub(crate) fn of(path: &Path) -> Result<BTreeSet<Merged>> {
    let Ok(mut archive) = ZipArchive::new(File::open(path).facts(path)?) else { return Ok(BTreeSet::new()) };
    let is_one = |name: &String| name.starts_with("META-INF/maven/") && name.ends_with("/pom.properties");
    let names: Vec<String> =
        archive.file_names().filter_map(|name| Some(name.ok()?.into_owned())).filter(is_one).collect();
    let mut found = BTreeSet::new();
    for name in names {
        let mut text = Vec::new();
        // What cannot be read says nothing.
        let Ok(member) = archive.by_name(&name) else { continue };
        if member.take(LARGEST).read_to_end(&mut text).is_ok() {
            found.extend(coordinates(&String::from_utf8_lossy(&text)));
        }
    }
    Ok(found)
}

fn coordinates(text: &str) -> Option<Merged> {
    let value = |key: &str| {
        let lines = text.lines().filter_map(|line| line.split_once('='));
        lines.filter(|(name, _)| name.trim() == key).map(|(_, value)| value.trim().to_owned()).next()
    };
    Some((value("groupId")?, value("artifactId")?, value("version")?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_archive_says_what_was_merged_into_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("all.jar");
        let text = b"#Generated\nversion=1.0\ngroupId=org.kestrel\nartifactId=horn\n".to_vec();
        let files = vec![
            ("META-INF/maven/org.kestrel/horn/pom.properties".to_owned(), text),
            ("META-INF/maven/org.kestrel/fog/pom.properties".to_owned(), b"version=1.0\n".to_vec()),
        ];
        std::fs::write(&path, testkit::archives::zip_archive(&files)).unwrap();
        let horn = ["org.kestrel", "horn", "1.0"].map(str::to_owned).into();
        assert_eq!(of(&path).unwrap(), BTreeSet::from([horn]));
        std::fs::write(&path, "no archive").unwrap();
        assert_eq!(of(&path).unwrap(), BTreeSet::new());
    }
}
