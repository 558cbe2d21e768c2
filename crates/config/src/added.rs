//! Which buildpacks are added: known before anything else of the configuration, which may name them.

use crate::{Choice, ConfigPlace};
use model::files::CONFIG;
use remote::without_steps_back;
use std::fs;
use std::path::{Path, PathBuf};
use toml::{Table, Value};

/// A buildpack that is added.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddedBuildpack {
    /// Its folder.
    pub folder: PathBuf,
    /// As it is written.
    pub shown: String,
}

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
    texts
        .map(|text| AddedBuildpack { folder: without_steps_back(&near.join(text)), shown: text.to_owned() })
        .collect()
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
        assert_eq!(added[0].folder, folder.path().join("shared"));
        assert!(added[1].folder.ends_with("app/forms"));
        fs::write(app.join(CONFIG), "[[[").unwrap();
        assert_eq!(added_buildpacks(&place, &choice), []);
    }
}
