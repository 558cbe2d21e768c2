//! Parts of a town for several machines: which apps belong to which part, and one result of all parts.

use content::StepKey;
use content::digest::Sha256;
use content::store::Store;
use model::error::TownError;
use model::{PathFacts, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use workshop::ledger;

/// A part of a town.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Shard {
    /// Which one, from 1.
    pub number: u32,
    /// Of how many.
    pub of: u32,
}

impl FromStr for Shard {
    type Err = TownError;

    fn from_str(text: &str) -> Result<Self, TownError> {
        let bad = || TownError::BadShard { text: text.to_owned() };
        let (number, of) = text.split_once('/').ok_or_else(bad)?;
        let (number, of) = (number.parse().map_err(|_| bad())?, of.parse().map_err(|_| bad())?);
        if (1..=of).contains(&number) { Ok(Self { number, of }) } else { Err(bad()) }
    }
}

impl Shard {
    /// The part that an engine says in variables, which `variable` gives: of CI systems' matrices, indexed jobs of
    /// Kubernetes, and arrays of batch schedulers. `of` is the number of parts, where the engine says only which.
    pub fn of_engine(variable: impl Fn(&str) -> Option<String>, of: Option<u32>) -> Result<Self, TownError> {
        let number = |name: &str| variable(name)?.trim().parse::<u32>().ok();
        for known in ENGINES {
            let Some(at) = number(known.number) else { continue };
            let first = number(known.first).unwrap_or(known.counts_from);
            let Some(of) = number(known.of).or(of) else { continue };
            let shard = at.checked_sub(first).map(|at| Self { number: at + 1, of });
            if let Some(shard) = shard.filter(|shard| shard.number <= shard.of) {
                return Ok(shard);
            }
            let text = format!("{}={at} of {of}", known.number);
            return Err(TownError::BadShard { text });
        }
        Err(TownError::BadShard { text: "auto".to_owned() })
    }
}

/// How an engine says which part a job is.
struct EngineVariables {
    number: &'static str,
    of: &'static str,
    /// What it counts from, where the variable `first` does not say.
    counts_from: u32,
    first: &'static str,
}

/// What engines set; nothing is read that only a single program of ours would set.
const ENGINES: [EngineVariables; 4] = [
    EngineVariables {
        number: "SLURM_ARRAY_TASK_ID",
        of: "SLURM_ARRAY_TASK_COUNT",
        counts_from: 0,
        first: "SLURM_ARRAY_TASK_MIN",
    },
    EngineVariables { number: "JOB_COMPLETION_INDEX", of: "", counts_from: 0, first: "" },
    EngineVariables { number: "CI_NODE_INDEX", of: "CI_NODE_TOTAL", counts_from: 1, first: "" },
    EngineVariables { number: "PBS_ARRAY_INDEX", of: "", counts_from: 0, first: "" },
];

/// What is known of the cost of an app: its steps with how long each took.
#[derive(Debug, Clone, Default)]
pub struct Cost {
    /// The key of each step, or its name where no key is known, with milliseconds.
    pub steps: BTreeMap<String, u64>,
    /// Whether any of it was measured.
    pub is_known: bool,
}

/// What an app costs of which nothing is known, in milliseconds.
const UNKNOWN: u64 = 5_000;

impl Cost {
    /// What past builds in the ledger say.
    pub fn of(store: &Store, name: &str) -> Self {
        let mut durations = BTreeMap::<String, u64>::new();
        let mut keys = BTreeMap::<String, StepKey>::new();
        for entry in ledger::entries(store, name) {
            for step in entry.steps {
                keys.insert(step.step.clone(), step.key);
                if step.because.is_some() {
                    durations.insert(step.step, step.milliseconds);
                }
            }
        }
        let is_known = !durations.is_empty();
        let step = |(step, key): (String, StepKey)| {
            let took = durations.get(&step).copied().unwrap_or_default();
            (key.hex(), took)
        };
        let mut steps: BTreeMap<String, u64> = keys.into_iter().map(step).collect();
        if !is_known {
            steps.insert(format!("app {name}"), UNKNOWN);
        }
        Self { steps, is_known }
    }

    /// Lets apps agree on how long the steps took that they share: only the app that a step ran for knows it.
    pub fn agree<'c>(costs: impl Iterator<Item = &'c mut Self>) {
        let costs: Vec<&mut Self> = costs.collect();
        let mut longest = BTreeMap::<String, u64>::new();
        for (key, took) in costs.iter().flat_map(|cost| &cost.steps) {
            let known = longest.entry(key.clone()).or_default();
            *known = (*known).max(*took);
        }
        for (key, took) in costs.into_iter().flat_map(|cost| &mut cost.steps) {
            *took = longest.get(key).copied().unwrap_or(*took);
        }
    }

    /// The cost of several apps together.
    pub fn of_all<'c>(costs: impl Iterator<Item = &'c Self>) -> Self {
        let mut all = Self { steps: BTreeMap::new(), is_known: true };
        for cost in costs {
            all.steps.extend(cost.steps.iter().map(|(key, took)| (key.clone(), *took)));
            all.is_known &= cost.is_known;
        }
        all
    }

    fn total(&self) -> u64 {
        self.steps.values().sum()
    }

    /// What it costs where these steps are done already.
    fn besides(&self, done: &BTreeSet<&String>) -> u64 {
        self.steps.iter().filter(|(key, _)| !done.contains(key)).map(|(_, took)| took).sum()
    }
}

/// How apps are spread over parts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Spread {
    /// Name and version of this format.
    pub format: String,
    /// The names of the apps of each part.
    pub shards: Vec<PlannedShard>,
}

/// One part.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PlannedShard {
    /// Its apps, in order.
    pub apps: Vec<String>,
    /// How long it is expected to take with everything done one after another, in milliseconds.
    pub milliseconds: u64,
}

/// The format of [`Spread`].
const SPREAD: &str = "shtetl/town-plan/1";

impl Spread {
    /// Spreads sets of apps over `of` parts, so that all take about as long: the most expensive first, each to the part that is
    /// done first with it. A step that several apps of a part share counts once there.
    pub fn balanced(sets: &[(Vec<String>, Cost)], of: u32) -> Self {
        let mut order: Vec<&(Vec<String>, Cost)> = sets.iter().collect();
        order.sort_by(|(a, left), (b, right)| right.total().cmp(&left.total()).then(a.cmp(b)));
        let mut shards: Vec<(PlannedShard, BTreeSet<&String>)> =
            (0..of.max(1)).map(|_| (PlannedShard::default(), BTreeSet::new())).collect();
        for (names, cost) in order {
            let after = |(shard, done): &(PlannedShard, BTreeSet<&String>)| {
                (shard.milliseconds + cost.besides(done), shard.apps.len())
            };
            let Some(at) = (0..shards.len()).min_by_key(|at| after(&shards[*at])) else { continue };
            let (shard, done) = &mut shards[at];
            shard.milliseconds += cost.besides(done);
            shard.apps.extend(names.iter().cloned());
            done.extend(cost.steps.keys());
        }
        let in_order = |(mut shard, _): (PlannedShard, _)| {
            shard.apps.sort();
            shard
        };
        Self { format: SPREAD.to_owned(), shards: shards.into_iter().map(in_order).collect() }
    }

    /// Spreads sets of apps where nothing is known of them that all machines know: one after another, in their order.
    pub fn in_turn(sets: &[Vec<String>], of: u32) -> Self {
        let mut shards = vec![PlannedShard::default(); usize::try_from(of.max(1)).unwrap_or(1)];
        for (number, names) in sets.iter().enumerate() {
            let at = number % shards.len();
            shards[at].apps.extend(names.iter().cloned());
        }
        Self { format: SPREAD.to_owned(), shards }
    }

    /// Reads what `town plan` wrote.
    pub fn read(path: &Path) -> Result<Self> {
        let bytes = fs::read(path).facts(path)?;
        let spread = serde_json::from_slice::<Self>(&bytes).ok().filter(|spread| spread.format == SPREAD);
        Ok(spread.ok_or_else(|| TownError::NoResult { path: path.to_owned() })?)
    }

    /// The apps of a part.
    pub fn of(&self, shard: Shard) -> Result<&PlannedShard, TownError> {
        let bad = || TownError::BadShard { text: format!("{}/{}", shard.number, shard.of) };
        let is_all = self.shards.len() == usize::try_from(shard.of).unwrap_or_default();
        let at = usize::try_from(shard.number).unwrap_or_default().wrapping_sub(1);
        self.shards.get(at).filter(|_| is_all).ok_or_else(bad)
    }
}

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

/// Why an app was not built. Equal causes of several apps are told once.
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
        Ok(Self { format: RESULT.to_owned(), shard: None, of_apps, milliseconds, steps, apps })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cost(steps: &[(&str, u64)]) -> Cost {
        let steps = steps.iter().map(|(key, took)| ((*key).to_owned(), *took)).collect();
        Cost { steps, is_known: true }
    }

    #[test]
    fn parts_take_about_as_long_and_shared_steps_count_once() {
        let mut apps = Vec::new();
        for number in 0..40 {
            let base = if number % 2 == 0 { ("node", 9_000) } else { ("python", 9_000) };
            apps.push((vec![format!("app-{number:02}")], cost(&[base, (&format!("own {number}"), 500)])));
        }
        let spread = Spread::balanced(&apps, 4);
        let times: Vec<u64> = spread.shards.iter().map(|shard| shard.milliseconds).collect();
        assert!(times.iter().max().unwrap() - times.iter().min().unwrap() <= 1_000, "{times:?}");
        assert_eq!(spread.shards.iter().map(|shard| shard.apps.len()).sum::<usize>(), 40);
        // No part pays for both bases.
        assert!(times.iter().all(|time| *time < 18_000), "{times:?}");
    }

    #[test]
    fn a_shared_step_costs_every_app_what_it_took_where_it_ran() {
        let mut costs = [cost(&[("base", 9_000), ("own", 5)]), cost(&[("base", 0)])];
        Cost::agree(costs.iter_mut());
        assert_eq!([costs[0].total(), costs[1].total()], [9_005, 9_000]);
    }

    #[test]
    fn engines_say_which_part_a_job_is() {
        let with = |all: &'static [(&str, &str)]| {
            move |name: &str| {
                all.iter().find(|(known, _)| *known == name).map(|(_, value)| (*value).to_owned())
            }
        };
        let slurm = with(&[
            ("SLURM_ARRAY_TASK_ID", "7"),
            ("SLURM_ARRAY_TASK_COUNT", "8"),
            ("SLURM_ARRAY_TASK_MIN", "0"),
        ]);
        assert_eq!(Shard::of_engine(slurm, None).unwrap(), Shard { number: 8, of: 8 });
        let from_one = with(&[
            ("SLURM_ARRAY_TASK_ID", "1"),
            ("SLURM_ARRAY_TASK_COUNT", "8"),
            ("SLURM_ARRAY_TASK_MIN", "1"),
        ]);
        assert_eq!(Shard::of_engine(from_one, None).unwrap(), Shard { number: 1, of: 8 });
        let indexed = with(&[("JOB_COMPLETION_INDEX", "2")]);
        assert_eq!(Shard::of_engine(indexed, Some(3)).unwrap(), Shard { number: 3, of: 3 });
        assert!(Shard::of_engine(indexed, Some(2)).is_err());
        assert!(Shard::of_engine(indexed, None).is_err());
        let matrix = with(&[("CI_NODE_INDEX", "1"), ("CI_NODE_TOTAL", "4")]);
        assert_eq!(Shard::of_engine(matrix, None).unwrap(), Shard { number: 1, of: 4 });
        assert!(["0/4", "5/4", "x/4", "3"].iter().all(|text| text.parse::<Shard>().is_err()));
    }

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
            of_apps: "ab".to_owned(),
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
    }
}
