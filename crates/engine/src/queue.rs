//! The order in which a graph is worked off: what is ready with the longest way still to go comes first.

use crate::graph::Graph;
use std::collections::{BTreeMap, BTreeSet};

/// The nodes that are still to be done.
pub struct Queue<K> {
    /// What each waits for.
    waiting: BTreeMap<K, BTreeSet<K>>,
    /// Who waits for it.
    dependents: BTreeMap<K, Vec<K>>,
    /// The cost of the longest way from a node to the end, itself included.
    remaining: BTreeMap<K, u64>,
    /// Where each was in the graph, to settle ties.
    numbers: BTreeMap<K, usize>,
    ready: BTreeSet<K>,
    running: BTreeSet<K>,
}

impl<K: Copy + Ord> Queue<K> {
    /// The queue of `missing` nodes of a graph; `cost` is how long a node is expected to take, in any unit.
    pub fn new<N>(graph: &Graph<K, N>, missing: &BTreeSet<K>, cost: impl Fn(K) -> u64) -> Self {
        let mut queue = Self {
            waiting: BTreeMap::new(),
            dependents: BTreeMap::new(),
            remaining: BTreeMap::new(),
            numbers: missing.iter().map(|key| (*key, graph.number(*key))).collect(),
            ready: BTreeSet::new(),
            running: BTreeSet::new(),
        };
        for &key in missing {
            let needs: BTreeSet<K> =
                graph.needs(key).iter().copied().filter(|need| missing.contains(need)).collect();
            for &need in &needs {
                queue.dependents.entry(need).or_default().push(key);
            }
            if needs.is_empty() {
                queue.ready.insert(key);
            } else {
                queue.waiting.insert(key, needs);
            }
        }
        for &key in missing {
            queue.measure(key, &cost);
        }
        queue
    }

    /// Finds out the longest way from `key` to the end; those of its dependents are found out first.
    fn measure(&mut self, key: K, cost: &impl Fn(K) -> u64) {
        let mut pending = vec![(key, false)];
        while let Some((key, is_ready)) = pending.pop() {
            if self.remaining.contains_key(&key) {
                continue;
            }
            let dependents = self.dependents.get(&key).cloned().unwrap_or_default();
            if is_ready {
                let after = dependents.iter().filter_map(|d| self.remaining.get(d)).max();
                let total = cost(key).saturating_add(after.copied().unwrap_or_default());
                self.remaining.insert(key, total);
            } else {
                pending.push((key, true));
                pending.extend(dependents.into_iter().map(|dependent| (dependent, false)));
            }
        }
    }

    /// Takes the next node that can be done now.
    pub fn take(&mut self) -> Option<K> {
        let rank = |key: &&K| (self.remaining.get(key), std::cmp::Reverse(self.numbers.get(key)));
        let next = *self.ready.iter().max_by_key(rank)?;
        self.ready.remove(&next);
        self.running.insert(next);
        Some(next)
    }

    /// A node is done: those that waited only for it become ready.
    pub fn done(&mut self, key: K) {
        self.running.remove(&key);
        for dependent in self.dependents.get(&key).cloned().unwrap_or_default() {
            let Some(needs) = self.waiting.get_mut(&dependent) else { continue };
            needs.remove(&key);
            if needs.is_empty() {
                self.waiting.remove(&dependent);
                self.ready.insert(dependent);
            }
        }
    }

    /// A node failed: what depends on it, however far away, is never done. Gives those nodes.
    pub fn failed(&mut self, key: K) -> BTreeSet<K> {
        self.running.remove(&key);
        let mut dropped = BTreeSet::new();
        let mut pending = vec![key];
        while let Some(next) = pending.pop() {
            for &dependent in self.dependents.get(&next).into_iter().flatten() {
                if self.waiting.remove(&dependent).is_some() && dropped.insert(dependent) {
                    pending.push(dependent);
                }
            }
        }
        dropped
    }

    /// Nothing more is begun; what runs goes on.
    pub fn stop(&mut self) {
        self.ready.clear();
        self.waiting.clear();
    }

    /// Whether nothing runs and nothing is ready.
    pub(crate) fn is_finished(&self) -> bool {
        self.running.is_empty() && self.ready.is_empty()
    }

    /// How many nodes run.
    pub fn running(&self) -> usize {
        self.running.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::graph::tests::diamond;

    fn queue(missing: &[char]) -> Queue<char> {
        let graph = diamond();
        Queue::new(&graph, &missing.iter().copied().collect(), |key| *graph.node(key).unwrap_or(&0))
    }

    #[test]
    fn the_longest_way_comes_first_and_nothing_before_what_it_needs() {
        let mut queue = queue(&['a', 'b', 'c', 'd']);
        assert_eq!((queue.take(), queue.take()), (Some('a'), None));
        queue.done('a');
        // `b` takes longer than `c`.
        assert_eq!((queue.take(), queue.take(), queue.take()), (Some('b'), Some('c'), None));
        queue.done('c');
        assert_eq!(queue.take(), None);
        queue.done('b');
        assert_eq!(queue.take(), Some('d'));
        assert!(!queue.is_finished());
        queue.done('d');
        assert!(queue.is_finished());
    }

    #[test]
    fn what_is_there_is_not_waited_for() {
        let mut queue = queue(&['b', 'd']);
        assert_eq!(queue.take(), Some('b'));
        queue.done('b');
        assert_eq!(queue.take(), Some('d'));
    }

    #[test]
    fn a_failure_drops_only_what_depends_on_it() {
        let mut queue = queue(&['a', 'b', 'c', 'd']);
        queue.take();
        queue.done('a');
        queue.take();
        assert_eq!(queue.failed('b'), BTreeSet::from(['d']));
        assert_eq!(queue.take(), Some('c'));
        queue.done('c');
        assert!(queue.is_finished());
    }

    #[test]
    fn a_chain_of_ten_thousand_is_measured() {
        let mut graph = Graph::default();
        for number in 0..10_000_u32 {
            let needs: Vec<u32> = number.checked_sub(1).into_iter().collect();
            graph.add(number, &needs, || ());
        }
        let mut queue = Queue::new(&graph, &(0..10_000).collect(), |_| 1);
        assert_eq!(queue.remaining.get(&0), Some(&10_000));
        assert_eq!(queue.take(), Some(0));
    }
}
