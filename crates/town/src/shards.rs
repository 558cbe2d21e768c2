//! Parts of a town for several machines: which apps belong to which part.

use content::StepKey;
use content::store::Store;
use model::error::TownError;
use model::{PathFacts, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
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

    /// The same with every app of `sets` in exactly one part: a set of which no app is in any is dealt out, one that is only partly
    /// there joins the first of its apps.
    pub fn with_all(mut self, sets: &[Vec<String>]) -> Self {
        let mut next = 0;
        for set in sets {
            let of_set = |shard: &PlannedShard| set.iter().any(|name| shard.apps.contains(name));
            let at = self.shards.iter().position(of_set).unwrap_or_else(|| {
                next += 1;
                (next - 1) % self.shards.len().max(1)
            });
            for shard in &mut self.shards {
                shard.apps.retain(|name| !set.contains(name));
            }
            if let Some(shard) = self.shards.get_mut(at) {
                shard.apps.extend(set.iter().cloned());
            }
        }
        self
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
    fn apps_that_a_plan_does_not_know_are_in_exactly_one_part() {
        let set = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let plan = Spread::in_turn(&[set(&["a"]), set(&["b"]), set(&["gone"])], 2);
        // `b` and `d` need each other by now, `c` and `e` are new.
        let sets = [set(&["a"]), set(&["b", "d"]), set(&["c"]), set(&["e"])];
        let spread = plan.with_all(&sets);
        let mut all: Vec<&str> =
            spread.shards.iter().flat_map(|shard| &shard.apps).map(String::as_str).collect();
        all.retain(|name| *name != "gone");
        all.sort_unstable();
        assert_eq!(all, ["a", "b", "c", "d", "e"]);
        assert!(
            spread.shards[1].apps.contains(&"b".to_owned())
                && spread.shards[1].apps.contains(&"d".to_owned())
        );
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
}
