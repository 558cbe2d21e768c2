//! The apps of a town, and how they are selected.

use config::{TownEntry, TownFile, TownGroup, name_in};
use globset::{GlobBuilder, GlobMatcher};
use model::error::TownError;
use model::folder::entries;
use model::{PathFacts, Result, names};
use source::is_url;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

/// A town: its apps, by name.
#[derive(Debug, Clone)]
pub struct Town {
    /// What its file says.
    pub file: TownFile,
    /// Where the file is.
    pub path: PathBuf,
    /// All apps, by name.
    pub apps: Vec<TownApp>,
}

/// An app of a town, before anybody looks at it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TownApp {
    /// The name of its folder, or what the town calls it.
    pub name: String,
    /// The name of its image, and of its past builds.
    pub image: String,
    /// Its folder, repository or archive.
    pub path: PathBuf,
    /// The revision of a repository.
    pub revision: Option<String>,
    /// The member of a workspace.
    pub member: Option<String>,
    /// The names of apps whose images it needs.
    pub after: Vec<String>,
    /// The groups that it belongs to.
    pub groups: Vec<String>,
    /// House rules for it.
    pub rules: Option<PathBuf>,
    /// The variant that it is built as.
    pub variant: Option<String>,
    /// The tag of its image, where the town says it.
    pub tag: Option<String>,
}

/// The selected apps; all by default.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// Names of apps.
    pub names: Vec<String>,
    /// A group.
    pub group: Option<String>,
    /// A revision of the repository: apps with files that differ from it.
    pub changed_since: Option<String>,
}

impl Town {
    /// Reads a town: its file, and the folders that it leads to.
    pub fn open(path: &Path) -> Result<Self> {
        if !path.is_file() {
            return Err(TownError::NoFile { path: path.to_owned() }.into());
        }
        let file = TownFile::read(path)?;
        let mut apps = BTreeMap::<String, TownApp>::new();
        for folder in folders(&file)? {
            let name = name_of(&folder);
            add(&mut apps, TownApp::at(name, folder))?;
        }
        for (name, entry) in &file.apps {
            let known = apps.remove(name);
            let Some(path) = entry.from.clone().or_else(|| known.map(|app| app.path)) else {
                let said_in = format!("{} [app.{name}]", path.display());
                let known = apps.into_keys().collect();
                return Err(TownError::UnknownApp { name: name.clone(), said_in, known }.into());
            };
            let TownEntry { revision, member, after, .. } = entry.clone();
            add(&mut apps, TownApp { revision, member, after, ..TownApp::at(name.clone(), path) })?;
        }
        if apps.is_empty() {
            return Err(TownError::NoApps { path: path.to_owned(), patterns: file.folders }.into());
        }
        let known: Vec<String> = apps.keys().cloned().collect();
        for app in apps.values_mut() {
            if let Some(name) = app.after.iter().find(|name| !known.contains(name)) {
                let said_in = format!("{} app.{}.after", path.display(), app.name);
                return Err(TownError::UnknownApp { name: name.clone(), said_in, known }.into());
            }
            app.rules.clone_from(&file.rules);
            for (name, group) in &file.groups {
                if fits(&group.apps, &app.name) {
                    app.join(name, group);
                }
            }
        }
        let town = Self { file, path: path.to_owned(), apps: apps.into_values().collect() };
        town.waves(&town.apps)?;
        Ok(town)
    }

    /// The selected apps. `git` is the program.
    pub fn chosen(&self, filter: &Filter, git: Option<&Path>) -> Result<Vec<TownApp>> {
        if let Some(group) = &filter.group
            && !self.file.groups.contains_key(group)
        {
            let known = self.file.groups.keys().cloned().collect();
            return Err(TownError::UnknownGroup { name: group.clone(), known }.into());
        }
        let names: Vec<String> = self.apps.iter().map(|app| app.name.clone()).collect();
        if let Some(name) = filter.names.iter().find(|name| !names.contains(name)) {
            let said_in = self.path.display().to_string();
            return Err(TownError::UnknownApp { name: name.clone(), said_in, known: names }.into());
        }
        let changed = match &filter.changed_since {
            Some(revision) => Some(changed_since(&self.file.folder, revision, git)?),
            None => None,
        };
        let touched = changed.map(|files| self.touched(&files));
        let is_meant = |app: &&TownApp| {
            (filter.names.is_empty() || filter.names.contains(&app.name))
                && filter.group.as_ref().is_none_or(|group| app.groups.contains(group))
                && touched.as_ref().is_none_or(|names| names.contains(&app.name))
        };
        Ok(self.apps.iter().filter(is_meant).cloned().collect())
    }

    /// The names of apps that changed files are about, and of those that need their images.
    fn touched(&self, files: &BTreeSet<PathBuf>) -> BTreeSet<String> {
        let own = self.apps.iter().filter(|app| app.is_touched(files, self));
        let mut names: BTreeSet<String> = own.map(|app| app.name.clone()).collect();
        loop {
            let needs_one = |app: &&TownApp| app.after.iter().any(|name| names.contains(name));
            let dependents: Vec<String> =
                self.apps.iter().filter(needs_one).map(|app| app.name.clone()).collect();
            let before = names.len();
            names.extend(dependents);
            if names.len() == before {
                return names;
            }
        }
    }

    /// Apps in the order in which they can be built: each wave needs images of earlier ones only.
    pub fn waves(&self, apps: &[TownApp]) -> Result<Vec<Vec<TownApp>>> {
        let mut left: Vec<&TownApp> = apps.iter().collect();
        let mut waves = Vec::new();
        while !left.is_empty() {
            let names: BTreeSet<&str> = left.iter().map(|app| app.name.as_str()).collect();
            let waits = |app: &&TownApp| app.after.iter().any(|name| names.contains(name.as_str()));
            let (waiting, ready): (Vec<_>, Vec<_>) = left.iter().copied().partition(waits);
            if ready.is_empty() {
                let names = waiting.iter().map(|app| app.name.clone()).collect();
                return Err(TownError::Circle { names }.into());
            }
            waves.push(ready.into_iter().cloned().collect());
            left = waiting;
        }
        Ok(waves)
    }
}

/// Apps that have to be built on one machine, since some need foreign images: sets of names, each app in one.
pub fn together(apps: &[TownApp]) -> Vec<Vec<String>> {
    let mut sets: Vec<BTreeSet<&str>> = Vec::new();
    let known: BTreeSet<&str> = apps.iter().map(|app| app.name.as_str()).collect();
    for app in apps {
        let needed = app.after.iter().map(String::as_str).filter(|name| known.contains(name));
        let mut joined: BTreeSet<&str> = std::iter::once(app.name.as_str()).chain(needed).collect();
        let (meeting, apart): (Vec<_>, Vec<_>) =
            sets.into_iter().partition(|set| set.iter().any(|name| joined.contains(name)));
        joined.extend(meeting.into_iter().flatten());
        sets = apart;
        sets.push(joined);
    }
    let mut sets: Vec<Vec<String>> =
        sets.into_iter().map(|set| set.into_iter().map(str::to_owned).collect()).collect();
    sets.sort();
    sets
}

impl TownApp {
    fn at(name: String, path: PathBuf) -> Self {
        let of_folder = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let of_place = || names::valid(&of_folder).filter(|_| !is_url(&path));
        Self {
            image: name_in(&path).or_else(of_place).unwrap_or_else(|| name.clone()),
            name,
            path,
            revision: None,
            member: None,
            after: Vec::new(),
            groups: Vec::new(),
            rules: None,
            variant: None,
            tag: None,
        }
    }

    fn join(&mut self, name: &str, group: &TownGroup) {
        self.groups.push(name.to_owned());
        // What a later group says stands.
        let TownGroup { rules, variant, tag, .. } = group;
        for (own, said) in [(&mut self.variant, variant), (&mut self.tag, tag)] {
            if said.is_some() {
                own.clone_from(said);
            }
        }
        if rules.is_some() {
            self.rules.clone_from(rules);
        }
    }

    /// Whether one of these files, which are whole paths, is its own, or says something of it.
    fn is_touched(&self, files: &BTreeSet<PathBuf>, town: &Town) -> bool {
        let canonical = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
        let own = canonical(&self.path);
        let of_all =
            [Some(&town.path), self.rules.as_ref()].into_iter().flatten().map(|path| canonical(path));
        let of_all: Vec<PathBuf> = of_all.collect();
        files.iter().any(|file| file.starts_with(&own) || of_all.contains(file))
    }
}

fn add(apps: &mut BTreeMap<String, TownApp>, app: TownApp) -> Result<()> {
    if let Some(other) = apps.get(&app.name) {
        let (name, first, second) = (app.name, other.path.clone(), app.path);
        return Err(TownError::Twice { name, first, second }.into());
    }
    apps.insert(app.name.clone(), app);
    Ok(())
}

fn name_of(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// Whether a name fits one of the patterns.
fn fits(patterns: &[String], name: &str) -> bool {
    patterns.iter().filter_map(|pattern| matcher(pattern)).any(|glob| glob.is_match(name))
}

/// Patterns that cannot be read were refused with the file.
fn matcher(pattern: &str) -> Option<GlobMatcher> {
    let glob = GlobBuilder::new(pattern.trim_end_matches('/')).literal_separator(true).build();
    glob.ok().map(|glob| glob.compile_matcher())
}

/// The folders that fit the patterns, in order. What lies below a folder that fits belongs to its app.
fn folders(file: &TownFile) -> Result<Vec<PathBuf>> {
    let wanted: Vec<GlobMatcher> = file.folders.iter().filter_map(|pattern| matcher(pattern)).collect();
    let except: Vec<GlobMatcher> = file.except.iter().filter_map(|pattern| matcher(pattern)).collect();
    let has_depth = file.folders.iter().all(|pattern| !pattern.contains("**"));
    let deepest = file.folders.iter().map(|pattern| pattern.trim_end_matches('/').split('/').count()).max();
    let deepest = deepest.filter(|_| has_depth).unwrap_or(usize::MAX);
    let mut found = Vec::new();
    let mut pending = vec![(file.folder.clone(), 0)];
    while let Some((folder, depth)) = pending.pop() {
        if depth >= deepest || wanted.is_empty() {
            continue;
        }
        for path in entries(&folder)? {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            let is_skipped = name.starts_with('.') || name == "node_modules";
            let inside = path.strip_prefix(&file.folder).unwrap_or(&path);
            if is_skipped || !path.is_dir() || except.iter().any(|glob| glob.is_match(inside)) {
                continue;
            }
            if wanted.iter().any(|glob| glob.is_match(inside)) {
                found.push(path);
            } else {
                pending.push((path, depth + 1));
            }
        }
    }
    found.sort();
    Ok(found)
}

/// The files of the repository of `folder` that differ from a revision, as whole paths: committed, changed or new.
fn changed_since(folder: &Path, revision: &str, git: Option<&Path>) -> Result<BTreeSet<PathBuf>> {
    use model::error::SourceError;
    let path = folder.canonicalize().facts(folder)?;
    let none = || SourceError::NoRepository { path: path.clone(), searched: Vec::new() };
    let git = git.ok_or_else(none)?;
    let ask = |arguments: &[&str]| {
        let mut command = Command::new(git);
        command.args(["--no-optional-locks", "-c", "core.fsmonitor=false", "-C"]).arg(&path).args(arguments);
        for name in ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE"] {
            command.env_remove(name);
        }
        let said = command.output().ok().filter(|said| said.status.success())?;
        Some(String::from_utf8_lossy(&said.stdout).into_owned())
    };
    let top = ask(&["rev-parse", "--show-toplevel"]).ok_or_else(none)?;
    let top = PathBuf::from(top.trim_end_matches('\n'));
    let missing = || SourceError::NoRevision { path: path.clone(), revision: revision.to_owned() };
    let commit = ask(&["rev-parse", "--verify", "--end-of-options", &format!("{revision}^{{commit}}")]);
    let commit = commit.ok_or_else(missing)?;
    let differing = ask(&["diff", "--name-only", "-z", "--no-renames", commit.trim()]).ok_or_else(missing)?;
    let fresh = ask(&["ls-files", "--others", "--exclude-standard", "-z", "--full-name", ":/"])
        .ok_or_else(missing)?;
    let all = differing.split('\0').chain(fresh.split('\0')).filter(|name| !name.is_empty());
    Ok(all.map(|name| top.join(name)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    fn town(text: &str, folders: &[&str]) -> Result<Town> {
        let place = tempfile::tempdir().unwrap();
        for folder in folders {
            fs::create_dir_all(place.path().join(folder)).unwrap();
        }
        fs::write(place.path().join("town.toml"), text).unwrap();
        Town::open(&place.path().join("town.toml"))
    }

    fn names(apps: &[TownApp]) -> Vec<&str> {
        apps.iter().map(|app| app.name.as_str()).collect()
    }

    #[test]
    fn folders_that_fit_are_apps_and_what_lies_below_is_not() {
        let folders = ["apps/web-a/apps/x", "apps/web-b", "apps/attic", "apps/.git", "sites/deep/er/fog"];
        let text = "[apps]\nfolders = [\"apps/*\", \"sites/**/fog\"]\nexcept = [\"apps/attic\"]\n\
                    [group.web]\napps = [\"web-*\"]\nvariant = \"live\"\n";
        let found = town(text, &folders).unwrap();
        assert_eq!(names(&found.apps), ["fog", "web-a", "web-b"]);
        assert_eq!(found.apps[1].variant.as_deref(), Some("live"));
        let filter = Filter { group: Some("web".to_owned()), ..Filter::default() };
        assert_eq!(names(&found.chosen(&filter, None).unwrap()), ["web-a", "web-b"]);
    }

    #[test]
    fn waves_follow_what_comes_after_what_and_circles_are_refused() {
        let text = "[apps]\nfolders = [\"*\"]\n[app.c]\nafter = [\"b\"]\n[app.b]\nafter = [\"a\"]\n";
        let found = town(text, &["a", "b", "c", "d"]).unwrap();
        let waves = found.waves(&found.apps).unwrap();
        assert_eq!(
            waves.iter().map(|wave| names(wave)).collect::<Vec<_>>(),
            [vec!["a", "d"], vec!["b"], vec!["c"]]
        );
        let circle = format!("{text}[app.a]\nafter = [\"c\"]\n");
        let refused = town(&circle, &["a", "b", "c"]).unwrap_err();
        assert!(matches!(refused, model::Error::Town(TownError::Circle { names }) if names.len() == 3));
    }

    #[test]
    fn apps_that_need_each_other_stay_together() {
        let text = "[apps]\nfolders = [\"*\"]\n[app.c]\nafter = [\"a\"]\n[app.d]\nafter = [\"c\", \"b\"]\n";
        let found = town(text, &["a", "b", "c", "d", "e"]).unwrap();
        assert_eq!(together(&found.apps), [vec!["a", "b", "c", "d"], vec!["e"]]);
        let touched = found.touched(&[found.apps[0].path.join("file")].into());
        assert_eq!(touched.into_iter().collect::<Vec<_>>(), ["a", "c", "d"]);
    }

    #[test]
    fn names_that_lead_nowhere_are_refused() {
        let wrong = |text: &str| town(text, &["apps/a"]).unwrap_err();
        assert!(matches!(
            wrong("[apps]\nfolders = [\"app/*\"]\n"),
            model::Error::Town(TownError::NoApps { .. })
        ));
        let after = "[apps]\nfolders = [\"apps/*\"]\n[app.a]\nafter = [\"b\"]\n";
        assert!(matches!(wrong(after), model::Error::Town(TownError::UnknownApp { .. })));
        let twice = "[apps]\nfolders = [\"apps/*\"]\n[app.b]\nrevision = \"v1\"\n";
        assert!(matches!(wrong(twice), model::Error::Town(TownError::UnknownApp { .. })));
    }
}
