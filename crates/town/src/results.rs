//! What came of a build of a town: by app, by part, and put together from all parts.

use crate::shards::Shard;
use content::digest::Sha256;
use model::error::TownError;
use model::{PathFacts, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// What came of the build of a town, or of a part of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct TownResult {
    /// Name and version of this format.
    pub format: String,
    /// The part, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shard: Option<Shard>,
    /// Digest over the names of all apps that were to be built, in all parts.
    pub of_apps: String,
    /// How long it took.
    pub milliseconds: u64,
    /// How many steps there were; one that several apps want counts once in each part.
    pub steps: StepCounts,
    /// What came of each app, by name.
    pub apps: Vec<AppResult>,
}

/// How steps came to their results.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StepCounts {
    /// They ran.
    pub ran: usize,
    /// Their results were here.
    pub found: usize,
    /// Their results came from the shared store.
    pub shared: usize,
}

/// What came of one app.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AppResult {
    /// What the town calls it.
    pub app: String,
    /// Name and tag of its image, where it was built.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// Digest of its index.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// Whether the image is the one that had its name before.
    #[serde(default)]
    pub unchanged: bool,
    /// How many steps ran.
    #[serde(default)]
    pub ran: usize,
    /// How many results were found here.
    #[serde(default)]
    pub found: usize,
    /// How many results came from the shared store.
    #[serde(default)]
    pub shared: usize,
    /// Where it was pushed to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pushed: Option<String>,
    /// Why it was not built or pushed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<Cause>,
}

/// Why an app was not built. Equal causes of several apps are reported once.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Cause {
    /// The code of the rule that found it, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// What is wrong.
    pub what: String,
    /// More about it, by line.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub details: Vec<String>,
    /// What to do.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub advice: String,
}

/// The format of [`TownResult`].
pub const RESULT: &str = "shtetl/town-build/1";

/// The digest over the names of apps.
pub fn digest_of_names<'n>(names: impl Iterator<Item = &'n String>) -> String {
    let names: BTreeSet<&String> = names.collect();
    let text: Vec<&str> = names.into_iter().map(String::as_str).collect();
    Sha256::of(text.join("\n").as_bytes()).hex()
}

impl TownResult {
    /// Reads what `town build --result` wrote.
    pub fn read(path: &Path) -> Result<Self> {
        let bytes = fs::read(path).facts(path)?;
        let result = serde_json::from_slice::<Self>(&bytes).ok().filter(|result| result.format == RESULT);
        Ok(result.ok_or_else(|| TownError::NoResult { path: path.to_owned() })?)
    }

    /// The causes of failures, with the apps that each kept from being built; those of most apps first.
    pub fn causes(&self) -> Vec<(Cause, Vec<&str>)> {
        let mut causes = BTreeMap::<&Cause, Vec<&str>>::new();
        for app in &self.apps {
            if let Some(failure) = &app.failure {
                causes.entry(failure).or_default().push(&app.app);
            }
        }
        let mut causes: Vec<_> = causes.into_iter().map(|(cause, apps)| (cause.clone(), apps)).collect();
        causes.sort_by_key(|(_, apps)| std::cmp::Reverse(apps.len()));
        causes
    }

    /// Puts the results of all parts together. An engine may have done a part twice: the later file of a part counts.
    pub fn gather(parts: Vec<(PathBuf, Self)>) -> Result<Self> {
        let mut all = BTreeMap::<u32, Self>::new();
        let mut expected: Option<(u32, String)> = None;
        for (path, part) in parts {
            let shard = part.shard.unwrap_or(Shard { number: 1, of: 1 });
            let own = (shard.of, part.of_apps.clone());
            if expected.get_or_insert_with(|| own.clone()) != &own {
                return Err(TownError::OtherTown { path }.into());
            }
            all.insert(shard.number, part);
        }
        let Some((of, of_apps)) = expected else {
            return Err(TownError::MissingShards { missing: Vec::new() }.into());
        };
        let missing: Vec<String> = (1..=of)
            .filter(|number| !all.contains_key(number))
            .map(|number| format!("{number}/{of}"))
            .collect();
        if !missing.is_empty() {
            return Err(TownError::MissingShards { missing }.into());
        }
        let milliseconds = all.values().map(|part| part.milliseconds).max().unwrap_or_default();
        let mut steps = StepCounts::default();
        for StepCounts { ran, found, shared } in all.values().map(|part| part.steps) {
            steps = StepCounts {
                ran: steps.ran + ran,
                found: steps.found + found,
                shared: steps.shared + shared,
            };
        }
        let mut apps: Vec<AppResult> = all.into_values().flat_map(|part| part.apps).collect();
        apps.sort_by(|a, b| a.app.cmp(&b.app));
        let count = apps.len();
        apps.dedup_by(|a, b| a.app == b.app);
        if apps.len() != count || digest_of_names(apps.iter().map(|app| &app.app)) != of_apps {
            return Err(TownError::LostApps.into());
        }
        Ok(Self { format: RESULT.to_owned(), shard: None, of_apps, milliseconds, steps, apps })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(number: u32, apps: &[&str]) -> (PathBuf, TownResult) {
        let app = |name: &&str| AppResult {
            app: (*name).to_owned(),
            image: None,
            digest: None,
            unchanged: false,
            ran: 0,
            found: 0,
            shared: 0,
            pushed: None,
            failure: Some(Cause { what: "fog".to_owned(), ..Cause::default() }),
        };
        let result = TownResult {
            format: RESULT.to_owned(),
            shard: Some(Shard { number, of: 2 }),
            of_apps: digest_of_names(["a", "b", "c"].map(str::to_owned).iter()),
            milliseconds: u64::from(number),
            steps: StepCounts::default(),
            apps: apps.iter().map(app).collect(),
        };
        (PathBuf::from(format!("{number}.json")), result)
    }

    #[test]
    fn results_of_all_parts_are_one_and_a_missing_part_is_named() {
        let whole = TownResult::gather(vec![part(2, &["c"]), part(1, &["a"]), part(1, &["a", "b"])]).unwrap();
        assert_eq!(whole.apps.iter().map(|app| app.app.as_str()).collect::<Vec<_>>(), ["a", "b", "c"]);
        assert_eq!((whole.milliseconds, whole.causes().len(), whole.causes()[0].1.len()), (2, 1, 3));
        let refused = TownResult::gather(vec![part(2, &["c"])]).unwrap_err();
        assert!(
            matches!(refused, model::Error::Town(TownError::MissingShards { missing }) if missing == ["1/2"])
        );
        let mut other = part(1, &["a"]);
        other.1.of_apps = "cd".to_owned();
        assert!(TownResult::gather(vec![part(2, &["c"]), other]).is_err());
        for lost in [vec![part(2, &["c"]), part(1, &["a"])], vec![part(2, &["c", "a"]), part(1, &["a", "b"])]]
        {
            let refused = TownResult::gather(lost).unwrap_err();
            assert!(matches!(refused, model::Error::Town(TownError::LostApps)));
        }
    }
}
