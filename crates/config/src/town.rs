//! `town.toml`: which apps belong together, and what holds for them.

use crate::read_text;
use crate::reader::{Document, Table, Value, with_table};
use model::error::ConfigError;
use model::files::CONFIG;
use model::{Error, Result, names};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Everything that it says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TownFile {
    /// The folder that it lies in; paths are taken from there.
    pub folder: PathBuf,
    /// `registry`: a registry and the beginning of names there, to which images are pushed.
    pub registry: Option<String>,
    /// `rules`: house rules for all apps.
    pub rules: Option<PathBuf>,
    /// `[apps] folders`: patterns of folders with an app each.
    pub folders: Vec<String>,
    /// `[apps] except`: patterns of folders that are none.
    pub except: Vec<String>,
    /// `[app.NAME]`: apps that are elsewhere, and more about those in folders.
    pub apps: BTreeMap<String, TownEntry>,
    /// `[group.NAME]`, in the order of their names.
    pub groups: BTreeMap<String, TownGroup>,
}

/// `[app.NAME]`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TownEntry {
    /// `from`: a folder, a repository or an archive.
    pub from: Option<PathBuf>,
    /// `revision`: of a repository.
    pub revision: Option<String>,
    /// `member`: of a workspace.
    pub member: Option<String>,
    /// `after`: apps whose images it needs.
    pub after: Vec<String>,
}

/// `[group.NAME]`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TownGroup {
    /// `apps`: patterns of names.
    pub apps: Vec<String>,
    /// `rules`: house rules for them, in place of the town's.
    pub rules: Option<PathBuf>,
    /// `variant`: what they are built as.
    pub variant: Option<String>,
    /// `tag`: of their images.
    pub tag: Option<String>,
}

/// The format of the file.
const FORMAT: u32 = 1;

impl TownFile {
    /// Reads the file.
    pub fn read(path: &Path) -> Result<Self> {
        let text = read_text(path, path)?;
        let folder = path.parent().filter(|folder| *folder != Path::new("")).unwrap_or(Path::new("."));
        let read = || {
            let document = Document::parse(&text)?;
            let town = read_root(document.root(), folder);
            let (complaints, _) = document.done();
            if complaints.is_empty() { Ok(town) } else { Err(complaints) }
        };
        read().map_err(|complaints| {
            Error::Config(ConfigError::Faults { path: path.to_owned(), text: text.clone(), complaints })
        })
    }
}

/// The name that `shtetl.toml` in a folder gives its app; nothing where it gives none or cannot be read.
pub fn name_in(folder: &Path) -> Option<String> {
    let path = folder.join(CONFIG);
    let text = read_text(&path, &path).ok()?;
    let table = toml::de::DeTable::parse(&text).ok()?;
    match table.get_ref().get("name")?.get_ref() {
        toml::de::DeValue::String(name) => Some(name.to_string()),
        _ => None,
    }
}

fn read_root(root: Table<'_, '_>, folder: &Path) -> TownFile {
    let near = |value: Value<'_, '_>| {
        let text = value.string()?;
        let Some((_, rest)) = text.split_once("://") else { return Some(folder.join(text)) };
        // A user name is part of an address; a password would be in the file, and on screens.
        if rest
            .split('/')
            .next()
            .and_then(|host| host.rsplit_once('@'))
            .is_some_and(|(login, _)| login.contains(':'))
        {
            value.bad("must not contain a password; git uses its own credentials".to_owned());
        }
        Some(PathBuf::from(text))
    };
    let mut town = TownFile { folder: folder.to_owned(), ..TownFile::default() };
    if let Some(format) = root.value("format")
        && format.number::<u32>("1").is_some_and(|number| number != FORMAT)
    {
        format.bad(format!("must be {FORMAT}, the only format this version supports"));
    }
    town.registry = root.value("registry").and_then(|value| value.string());
    town.rules = root.value("rules").and_then(near);
    with_table(&root, "apps", |table| {
        town.folders = patterns(table, "folders");
        town.except = patterns(table, "except");
    });
    if let Some(table) = root.value("app").and_then(|value| value.table()) {
        for (name, _, value) in table.each() {
            if names::check("app", name).is_err() {
                value.bad(
                    "the name of an app consists of lower-case letters, digits and hyphens, and begins with a letter"
                        .to_owned(),
                );
            }
            let Some(table) = value.table() else { continue };
            let entry = TownEntry {
                from: table.value("from").and_then(near),
                revision: table.value("revision").and_then(|value| value.string()),
                member: table.value("member").and_then(|value| value.string()),
                after: table.value("after").and_then(|value| value.strings()).unwrap_or_default(),
            };
            table.done();
            town.apps.insert(name.to_owned(), entry);
        }
    }
    if let Some(table) = root.value("group").and_then(|value| value.table()) {
        for (name, _, value) in table.each() {
            let Some(table) = value.table() else { continue };
            let tag = table.value("tag").and_then(|value| {
                let tag = value.string()?;
                if names::check_tag(&tag).is_err() {
                    value.bad("must be a tag: letters, digits, `_`, `.`, `-`, at most 128".to_owned());
                }
                Some(tag)
            });
            let group = TownGroup {
                apps: patterns(&table, "apps"),
                rules: table.value("rules").and_then(near),
                variant: table.value("variant").and_then(|value| value.string()),
                tag,
            };
            if group.apps.is_empty() {
                value.bad("needs apps: apps = [\"NAME\", \"web-*\"]".to_owned());
            }
            table.done();
            town.groups.insert(name.to_owned(), group);
        }
    }
    root.done();
    town
}

/// Patterns that can be read.
fn patterns(table: &Table<'_, '_>, key: &str) -> Vec<String> {
    let Some(value) = table.value(key) else { return Vec::new() };
    let all = value.strings().unwrap_or_default();
    for pattern in &all {
        if let Err(error) = globset::Glob::new(pattern) {
            value.bad(format!("{pattern:?} is not a valid pattern: {}", error.kind()));
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> (TownFile, usize) {
        let document = Document::parse(text).unwrap_or_else(|_| panic!("valid TOML"));
        let town = read_root(document.root(), Path::new("/town"));
        (town, document.done().0.len())
    }

    #[test]
    fn everything_is_read_and_paths_are_taken_from_the_folder_of_the_file() {
        let (town, complaints) = read(
            "format = 1\nregistry = \"registry.example/ferries\"\nrules = \"house.toml\"\n[apps]\nfolders = [\"apps/*\"]\n\
             [app.tides]\nfrom = \"../tides\"\nrevision = \"v2\"\nafter = [\"quay\"]\n\
             [group.web]\napps = [\"web-*\"]\nvariant = \"live\"\ntag = \"live\"\n",
        );
        assert_eq!(complaints, 0);
        assert_eq!(town.rules, Some(PathBuf::from("/town/house.toml")));
        assert_eq!(town.apps["tides"].from, Some(PathBuf::from("/town/../tides")));
        assert_eq!(town.groups["web"].variant.as_deref(), Some("live"));
    }

    #[test]
    fn what_makes_no_sense_is_refused() {
        assert_eq!(
            read("format = 2\n[group.web]\ntag = \"a b\"\n[apps]\nfolders = [\"{a\"]\nfoldrs = []\n").1,
            5
        );
    }
}
