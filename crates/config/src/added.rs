//! Which buildpacks are added: known before anything else of the configuration, which may name them.

use crate::{Choice, ConfigPlace};
use model::files::CONFIG;
use remote::{Address, without_steps_back};
use std::fs;
use std::path::{Path, PathBuf};
use toml::{Table, Value};

/// A buildpack that is added.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddedBuildpack {
    /// Where it is.
    pub place: BuildpackPlace,
    /// As it is written, without a login.
    pub shown: String,
}

/// Where an added buildpack is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BuildpackPlace {
    /// A folder.
    Folder(PathBuf),
    /// A folder of a repository elsewhere: `git+URL#COMMIT` or `git+URL#COMMIT/FOLDER`.
    Commit {
        /// The URL of the repository.
        url: String,
        /// What is written as its commit; whether it is one is for the reader to see.
        commit: String,
        /// The folder, from the root of the repository; empty for the root.
        folder: String,
    },
}

impl AddedBuildpack {
    /// What a text names, seen from a folder.
    fn of(text: &str, near: &Path) -> Self {
        let Some(place) = text.strip_prefix(GIT) else {
            let folder = without_steps_back(&near.join(text));
            return Self { place: BuildpackPlace::Folder(folder), shown: text.to_owned() };
        };
        let (url, rest) = place.split_once('#').unwrap_or((place, ""));
        let (commit, folder) = rest.split_once('/').unwrap_or((rest, ""));
        let shown = match rest {
            "" => format!("{GIT}{}", Address::Url(url.to_owned())),
            rest => format!("{GIT}{}#{rest}", Address::Url(url.to_owned())),
        };
        let (url, commit, folder) =
            (url.to_owned(), commit.to_owned(), folder.trim_end_matches('/').to_owned());
        Self { place: BuildpackPlace::Commit { url, commit, folder }, shown }
    }
}

/// What the place of a buildpack in a repository begins with.
const GIT: &str = "git+";

/// The buildpacks that house rules and the app add, in this order. What is no configuration adds none: reading it tells.
pub fn added_buildpacks(place: &ConfigPlace<'_>, choice: &Choice) -> Vec<AddedBuildpack> {
    let app = table(&place.folder.join(CONFIG));
    let named =
        app.get("rules").and_then(Value::as_str).map(|rules| without_steps_back(&place.near.join(rules)));
    let rules = choice.rules.clone().or(named);
    let mut added = Vec::new();
    if let Some(file) = &rules {
        added.extend(of(&table(file), file.parent().unwrap_or(Path::new("."))));
    }
    for one in of(&app, place.folder) {
        if !added.contains(&one) {
            added.push(one);
        }
    }
    added
}

fn table(file: &Path) -> Table {
    fs::read_to_string(file).ok().and_then(|text| text.parse().ok()).unwrap_or_default()
}

fn of(table: &Table, near: &Path) -> Vec<AddedBuildpack> {
    let all = table.get("buildpacks").and_then(|buildpacks| buildpacks.get("add")).and_then(Value::as_array);
    let texts = all.into_iter().flatten().filter_map(Value::as_str);
    texts.map(|text| AddedBuildpack::of(text, near)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn house_rules_and_the_app_add_from_their_own_folders() {
        let folder = tempfile::tempdir().unwrap();
        let (app, rules) = (folder.path().join("app"), folder.path().join("rules/house.toml"));
        fs::create_dir_all(&app).unwrap();
        fs::create_dir_all(rules.parent().unwrap()).unwrap();
        fs::write(app.join(CONFIG), "rules = \"../rules/house.toml\"\n[buildpacks]\nadd = [\"./forms\"]\n")
            .unwrap();
        fs::write(&rules, "[buildpacks]\nadd = [\"../shared\"]\n").unwrap();
        let place = ConfigPlace { folder: &app, shown: &app, near: &app };
        let choice = Choice { rules: None, variant: None, values: Vec::new() };
        let added = added_buildpacks(&place, &choice);
        let shown: Vec<_> = added.iter().map(|one| one.shown.as_str()).collect();
        assert_eq!(shown, ["../shared", "./forms"]);
        assert_eq!(added[0].place, BuildpackPlace::Folder(folder.path().join("shared")));
        assert_eq!(added[1].place, BuildpackPlace::Folder(app.join("forms")));
        fs::write(app.join(CONFIG), "[[[").unwrap();
        assert_eq!(added_buildpacks(&place, &choice), []);
    }

    #[test]
    fn a_commit_of_a_repository_may_be_named_with_a_folder() {
        let added =
            AddedBuildpack::of("git+https://ada:pw@git.example/house.git#abc/packs/forms", Path::new("/"));
        let (url, commit) = ("https://ada:pw@git.example/house.git".to_owned(), "abc".to_owned());
        assert_eq!(added.place, BuildpackPlace::Commit { url, commit, folder: "packs/forms".to_owned() });
        assert_eq!(added.shown, "git+https://git.example/house.git#abc/packs/forms");
    }
}
