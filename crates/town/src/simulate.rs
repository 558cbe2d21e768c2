//! What a day of commits would cost: a model of many apps on many workers, from measured durations.
//!
//! The model: each app has steps of its own and shares others with apps of its kind. A day is a list of pushes; each changes some
//! apps. A push is built in one graph by as many workers as there are. A step is found where the shared store has it, which
//! costs looking it up and fetching its layer; else it runs for as long as it did where it was measured. A changed app runs its
//! own steps, and, where its packages changed, those too. Workers take the longest work first. docs/town.md says what it
//! leaves out.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BinaryHeap;

/// What is measured of one kind of app, or of all, in milliseconds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Measured {
    /// Looking at an app of which nothing changed.
    pub look: f64,
    /// Each app's own steps, one entry for each that was measured.
    pub own: Vec<f64>,
    /// Shared steps: how long they took, and how many apps want each.
    pub shared: Vec<(f64, usize)>,
    /// Bytes of what an app's own steps write, on average.
    pub own_bytes: f64,
    /// How many apps were measured.
    pub apps: usize,
}

/// A day that is simulated.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Day {
    /// Apps.
    pub apps: usize,
    /// Which share of them each push changes, from 0 to 1.
    pub changed: f64,
    /// Pushes on that day.
    pub pushes: usize,
    /// Workers that build at once.
    pub workers: usize,
    /// Which share of the pushes changes a shared step: a base, a runtime.
    pub shared_changed: f64,
}

/// What a day comes to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Simulated {
    /// The day.
    pub day: Day,
    /// The median time of a push, in milliseconds.
    pub median: f64,
    /// The time below which 95 of 100 pushes are.
    pub slow: f64,
    /// The time of the first push, when nothing is there yet.
    pub cold: f64,
    /// The total work of all workers together.
    pub work: f64,
    /// Steps that were found, of all that were wanted, from 0 to 1.
    pub hit_rate: f64,
    /// Bytes that the shared store took in.
    pub bytes_stored: f64,
    /// Requests to the shared store.
    pub requests: u64,
    /// The time of each push, in order.
    pub pushes: Vec<f64>,
}

/// Numbers that look random and are the same every time (a linear congruential generator, constants of Knuth's MMIX).
struct Numbers(u64);

impl Numbers {
    /// The next number, from 0 to below 1.
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        // The upper bits are the better ones; 53 fit exactly.
        #[allow(clippy::cast_precision_loss, reason = "53 bits are exact")]
        let number = (self.0 >> 11) as f64;
        number / 9_007_199_254_740_992.0
    }
}

/// Simulates a day.
pub fn simulate(measured: &Measured, day: Day) -> Simulated {
    let mut numbers = Numbers(1);
    let scale = ratio(day.apps, measured.apps.max(1));
    let pick = |numbers: &mut Numbers| {
        let at = index(numbers.next(), measured.own.len());
        measured.own.get(at).copied().unwrap_or_default()
    };
    // Shared steps are as many as were measured: a larger town has the same languages and bases.
    let shared: Vec<f64> = measured.shared.iter().map(|(took, _)| *took).collect();
    let steps_of_app =
        1.0 + measured.shared.iter().map(|(_, apps)| ratio(*apps, measured.apps.max(1))).sum::<f64>();
    let looking = measured.look * number(day.apps) / number(day.workers.max(1));
    let mut all: Vec<f64> = (0..day.apps).map(|_| pick(&mut numbers)).collect();
    all.extend(&shared);
    let cold = looking + makespan(&all, day.workers);
    let mut work: f64 = all.iter().sum::<f64>() + measured.look * number(day.apps);
    let (mut ran, mut wanted) = (number(all.len()), number(day.apps) * steps_of_app);
    let mut stored = measured.own_bytes * number(day.apps);
    let mut pushes = Vec::new();
    for _ in 0..day.pushes {
        let expected = number(day.apps) * day.changed;
        let extra = if numbers.next() < expected.fract() { 1 } else { 0 };
        let changed = index(expected.trunc(), usize::MAX) + extra;
        let mut jobs: Vec<f64> = (0..changed).map(|_| pick(&mut numbers)).collect();
        if !shared.is_empty() && numbers.next() < day.shared_changed {
            let at = index(numbers.next(), shared.len());
            jobs.push(shared[at]);
            // What is built on it runs again: the own steps of the apps that want it.
            let apps = index((number(measured.shared[at].1) * scale).round(), usize::MAX);
            jobs.extend((0..apps).map(|_| pick(&mut numbers)));
        }
        work += jobs.iter().sum::<f64>() + measured.look * number(day.apps);
        stored += measured.own_bytes * number(changed);
        ran += number(jobs.len());
        wanted += number(day.apps) * steps_of_app;
        pushes.push(looking + makespan(&jobs, day.workers));
    }
    let mut sorted = pushes.clone();
    sorted.sort_by(f64::total_cmp);
    let at = |share: f64| sorted.get(index(share, sorted.len())).copied().unwrap_or(cold);
    Simulated {
        day,
        median: at(0.5),
        slow: at(0.95),
        cold,
        work,
        hit_rate: if wanted > 0.0 { 1.0 - (ran / wanted).min(1.0) } else { 0.0 },
        bytes_stored: stored,
        requests: whole(ran * 2.0),
        pushes,
    }
}

/// How long workers take for jobs, the longest first, each to the first free worker.
fn makespan(jobs: &[f64], workers: usize) -> f64 {
    let mut jobs = jobs.to_vec();
    jobs.sort_by(|a, b| b.total_cmp(a));
    let mut free: BinaryHeap<std::cmp::Reverse<u64>> =
        (0..workers.clamp(1, jobs.len().max(1))).map(|_| std::cmp::Reverse(0)).collect();
    let mut last = 0;
    for job in jobs {
        let std::cmp::Reverse(at) = free.pop().unwrap_or(std::cmp::Reverse(0));
        let end = at + whole(job * 1000.0);
        last = last.max(end);
        free.push(std::cmp::Reverse(end));
    }
    #[allow(clippy::cast_precision_loss, reason = "a day in microseconds is far below 53 bits")]
    let last = last as f64;
    last / 1000.0
}

#[allow(clippy::cast_precision_loss, reason = "counts of apps are far below 53 bits")]
fn number(count: usize) -> f64 {
    count as f64
}

fn ratio(a: usize, b: usize) -> f64 {
    number(a) / number(b)
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "never negative, and saturates")]
fn whole(value: f64) -> u64 {
    value.max(0.0) as u64
}

/// A share of a length as a place in it, or a count where the length has no limit.
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "never negative, and saturates")]
fn index(share: f64, length: usize) -> usize {
    if length == usize::MAX {
        return share.max(0.0) as usize;
    }
    ((share * number(length)) as usize).min(length.saturating_sub(1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn measured() -> Measured {
        Measured { look: 5.0, own: vec![100.0; 10], shared: vec![(4_000.0, 10)], own_bytes: 1e6, apps: 10 }
    }

    #[test]
    fn the_longest_work_goes_first_and_workers_share_it() {
        assert_eq!(makespan(&[3.0, 3.0, 2.0, 2.0, 2.0], 2), 7.0);
        assert_eq!(makespan(&[], 4), 0.0);
        assert_eq!(makespan(&[5.0], 100), 5.0);
    }

    #[test]
    fn more_workers_are_never_slower_and_a_day_is_the_same_every_time() {
        let day = Day { apps: 1_000, changed: 0.01, pushes: 50, workers: 4, shared_changed: 0.02 };
        let first = simulate(&measured(), day);
        assert_eq!(first, simulate(&measured(), day));
        let faster = simulate(&measured(), Day { workers: 40, ..day });
        assert!(faster.median < first.median && faster.cold < first.cold);
        assert!(first.hit_rate > 0.9 && first.hit_rate < 1.0, "{}", first.hit_rate);
        assert_eq!(first.pushes.len(), 50);
        assert!(first.median >= 5.0 * 1_000.0 / 4.0);
    }
}
