//! Which modules of the JDK the classes of an app name.
//!
//! The JDK's own tool for this refuses apps of which a library declares a module that is not there, as many do.

use model::folder::entries;
use model::{PathFacts, Result};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::Read;
use std::path::Path;
use zip::ZipArchive;

/// The largest class file that is read, in bytes.
const LARGEST_CLASS: u64 = 16 << 20;
/// The first bytes of a class file (the Java Virtual Machine specification, 4.1).
const MAGIC: [u8; 4] = [0xCA, 0xFE, 0xBA, 0xBE];

/// The modules of a JDK by the packages that they have, which are written `java/sql`.
pub(crate) struct JdkModules(BTreeMap<String, String>);

impl JdkModules {
    /// Reads the folder `jmods` of a JDK.
    pub fn read(folder: &Path) -> Result<Self> {
        let mut by_package = BTreeMap::new();
        for path in entries(folder)? {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let Some(module) = name.strip_suffix(".jmod") else { continue };
            // An archive after four bytes.
            let Ok(archive) = ZipArchive::new(File::open(&path).facts(&path)?) else { continue };
            for name in archive.file_names().filter_map(|name| Some(name.ok()?.into_owned())) {
                let class = name.strip_prefix("classes/").and_then(|name| name.strip_suffix(".class"));
                if let Some((package, _)) = class.and_then(|class| class.rsplit_once('/')) {
                    by_package.insert(package.to_owned(), module.to_owned());
                }
            }
        }
        Ok(Self(by_package))
    }

    /// Packages with their modules.
    #[cfg(any(fuzzing, test))]
    pub fn of<const N: usize>(packages: [(&str, &str); N]) -> Self {
        Self(packages.map(|(package, module)| (package.to_owned(), module.to_owned())).into())
    }

    /// The modules that the classes in a folder and in the archives there name, added to `found`.
    pub fn named_in(&self, folder: &Path, found: &mut BTreeSet<String>) -> Result<()> {
        for path in entries(folder)? {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            if path.is_symlink() {
                continue;
            }
            if path.is_dir() {
                self.named_in(&path, found)?;
            } else if name.ends_with(".class") {
                self.named_by(&fs::read(&path).facts(&path)?, found);
            } else if name.ends_with(".jar") {
                self.named_in_archive(&path, found)?;
            }
        }
        Ok(())
    }

    fn named_in_archive(&self, path: &Path, found: &mut BTreeSet<String>) -> Result<()> {
        // What is not an archive has no classes for Java either.
        let Ok(mut archive) = ZipArchive::new(File::open(path).facts(path)?) else { return Ok(()) };
        for index in 0..archive.len() {
            let Ok(member) = archive.by_index(index) else { continue };
            if !member.name_raw().ends_with(b".class") {
                continue;
            }
            let mut class = Vec::new();
            if member.take(LARGEST_CLASS).read_to_end(&mut class).is_ok() {
                self.named_by(&class, found);
            }
        }
        Ok(())
    }

    /// The modules that the constants of a class name, as classes, in types, or in texts.
    pub fn named_by(&self, class: &[u8], found: &mut BTreeSet<String>) {
        let is_part = |c: char| c.is_ascii_alphanumeric() || "/._$".contains(c);
        for text in texts(class) {
            for word in text.split(|c| !is_part(c)).filter(|word| word.len() > 5) {
                // A text may name a class to load, and the tools of the JDK are only looked for.
                let is_text = word.contains('.');
                let word = word.replace('.', "/");
                let package = word.rsplit_once('/').map(|(package, _)| package).unwrap_or_default();
                // In a type, an L is before the name, and may come after letters of other types.
                let named = package.match_indices('L').map(|(at, _)| &package[at + 1..]);
                let mut named = std::iter::once(package).chain(named);
                let module = named.find_map(|name| self.0.get(name));
                found.extend(module.filter(|module| !is_text || module.starts_with("java.")).cloned());
            }
        }
    }
}

/// The texts among the constants of a class (the same, 4.4); those before the first that is not understood.
fn texts(class: &[u8]) -> Vec<&str> {
    let mut all = Vec::new();
    let Some(rest) = class.strip_prefix(&MAGIC) else { return all };
    let short = |bytes: &[u8], at: usize| {
        let pair = bytes.get(at..at + 2)?;
        Some(usize::from(pair[0]) << 8 | usize::from(pair[1]))
    };
    let Some(count) = short(rest, 4) else { return all };
    let mut at = 6;
    let mut number = 1;
    while number < count {
        let Some(kind) = rest.get(at) else { break };
        let length = match kind {
            1 => {
                let Some(length) = short(rest, at + 1) else { break };
                let bytes = rest.get(at + 3..at + 3 + length).unwrap_or_default();
                all.extend(std::str::from_utf8(bytes).ok());
                2 + length
            }
            3 | 4 | 9..=12 | 17 | 18 => 4,
            5 | 6 => 8,
            7 | 8 | 16 | 19 | 20 => 2,
            15 => 3,
            _ => break,
        };
        // Long and double numbers count twice.
        number += if length == 8 && matches!(kind, 5 | 6) { 2 } else { 1 };
        at += 1 + length;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A class with these texts among its constants, after a number of the long kind.
    fn class(texts: &[&str]) -> Vec<u8> {
        let count = u16::try_from(texts.len() + 3).unwrap();
        let mut bytes = [&MAGIC[..], &[0, 0, 0, 65], &count.to_be_bytes()].concat();
        bytes.extend([5, 0, 0, 0, 0, 0, 0, 0, 1]);
        for text in texts {
            bytes.push(1);
            bytes.extend(u16::try_from(text.len()).unwrap().to_be_bytes());
            bytes.extend(text.as_bytes());
        }
        bytes
    }

    fn jdk(folder: &Path) -> JdkModules {
        let jmods = folder.join("jmods");
        fs::create_dir(&jmods).unwrap();
        for (module, class) in [("java.sql", "java/sql/Driver"), ("java.naming", "javax/naming/Context")] {
            let files = vec![(format!("classes/{class}.class"), Vec::new())];
            let archive = [&b"JM\x01\x00"[..], &testkit::archives::zip_archive(&files)].concat();
            fs::write(jmods.join(format!("{module}.jmod")), archive).unwrap();
        }
        JdkModules::read(&jmods).unwrap()
    }

    #[test]
    fn classes_types_and_texts_name_modules() {
        let jdk = JdkModules::of([
            ("java/sql", "java.sql"),
            ("javax/naming", "java.naming"),
            ("com/sun/tools/javac", "jdk.compiler"),
        ]);
        let named = |text: &str| {
            let mut found = BTreeSet::new();
            jdk.named_by(&class(&["ferry/Main", text]), &mut found);
            found.into_iter().collect::<Vec<_>>().join(" ")
        };
        assert_eq!(named("java/sql/Driver"), "java.sql");
        assert_eq!(named("(ILjava/sql/Driver;)V"), "java.sql");
        assert_eq!(named("Ljava/util/List<Ljavax/naming/Context;>;"), "java.naming");
        assert_eq!(named("javax.naming.Context"), "java.naming");
        assert_eq!(
            [named("com/sun/tools/javac/Main"), named("com.sun.tools.javac.Main")],
            ["jdk.compiler", ""]
        );
        assert_eq!([named("java/sql"), named("my/java/sql/Driver"), named("")], ["", "", ""]);
    }

    #[test]
    fn archives_and_folders_are_looked_through_and_damage_says_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let jdk = jdk(folder.path());
        let app = folder.path().join("app/lib");
        fs::create_dir_all(&app).unwrap();
        let files = vec![("a/B.class".to_owned(), class(&["java/sql/Driver"]))];
        fs::write(app.join("b.jar"), testkit::archives::zip_archive(&files)).unwrap();
        fs::write(app.join("damaged.jar"), "no archive").unwrap();
        fs::write(app.join("Cut.class"), &class(&["javax/naming/Context"])[..12]).unwrap();
        let mut found = BTreeSet::new();
        jdk.named_in(folder.path(), &mut found).unwrap();
        assert_eq!(found.into_iter().collect::<Vec<_>>(), ["java.sql"]);
    }
}
