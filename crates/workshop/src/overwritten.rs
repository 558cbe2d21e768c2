//! Files that several packages bring under one name: the image has that of the package that was laid last.

use crate::layer_contents::{self, Layer};
use content::store::Store;
use model::{Result, Role};
use std::collections::{BTreeMap, BTreeSet};

/// How many are named.
const NAMED: usize = 3;
/// Commands of runtimes: a package that brings one takes its place.
const COMMANDS: [&str; 8] = ["node", "python", "python3", "ruby", "php", "java", "go", "sh"];
/// Folders in which packages put their commands.
const FOLDERS: [&str; 2] = ["bin", ".bin"];
/// Every package may contain these, and they are never read.
const NOT_READ: [&str; 4] = ["LICENSE", "LICENSE.txt", "README.md", "INSTALLER"];

/// Files of the packages in the layers of which there are several that are not the same.
pub(crate) fn find(store: &Store, layers: &[Layer<'_>], platform: &str) -> Result<BTreeSet<String>> {
    let mut all = BTreeMap::new();
    let mut found = BTreeSet::new();
    for layer in layers.iter().filter(|layer| layer.role == Role::Dependencies) {
        let contents = layer_contents::of(store, layer, platform)?;
        found.extend(contents.twice);
        for (path, sum) in contents.files {
            if all.get(&path).is_some_and(|known| *known != sum) {
                found.insert(path.clone());
            }
            all.insert(path, sum);
        }
    }
    found.extend(all.into_keys().filter(|path| is_command_of_a_runtime(path)));
    found.retain(|path| !NOT_READ.contains(&path.rsplit('/').next().unwrap_or(path)));
    Ok(found)
}

fn is_command_of_a_runtime(path: &str) -> bool {
    // What a gem has in its own folder is in no search path.
    if path.contains("/gems/") {
        return false;
    }
    let mut parts = path.rsplit('/');
    let name = parts.next().unwrap_or_default();
    COMMANDS.contains(&name) && parts.next().is_some_and(|folder| FOLDERS.contains(&folder))
}

/// What was found, for people.
pub(crate) fn told(found: &BTreeSet<String>) -> Option<String> {
    let named: Vec<String> = found.iter().take(NAMED).map(|path| format!("/{path}")).collect();
    if named.is_empty() {
        return None;
    }
    let more = match found.len() - named.len() {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    Some(format!("packages overwrite files of other packages or of the runtime: {}{more}", named.join(", ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_of_runtimes_are_known_by_name_and_folder() {
        assert!(is_command_of_a_runtime("opt/venv/bin/python"));
        assert!(is_command_of_a_runtime("app/node_modules/.bin/node"));
        assert!(!is_command_of_a_runtime("app/node_modules/node/package.json"));
        assert!(!is_command_of_a_runtime("opt/venv/bin/flask"));
        assert!(is_command_of_a_runtime("gems/ruby/3.3.0/bin/ruby"));
        assert!(!is_command_of_a_runtime("gems/ruby/3.3.0/gems/haml-6.1/bin/ruby"));
    }

    #[test]
    fn a_few_are_named_and_the_others_counted() {
        let found = ["a", "b", "c", "d", "e"].map(str::to_owned).into();
        assert!(told(&found).unwrap().ends_with(": /a, /b, /c and 2 more"));
        assert_eq!(told(&BTreeSet::new()), None);
    }
}
