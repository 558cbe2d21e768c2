//! A graph of things that need each other: pure, generic, shared nodes by key.

use std::collections::{BTreeMap, BTreeSet};

/// Nodes by key. A node is added after those that it needs, so there are no circles.
pub struct Graph<K, N> {
    nodes: BTreeMap<K, Entry<K, N>>,
}

struct Entry<K, N> {
    /// Counts the nodes in the order in which they were added.
    number: usize,
    node: N,
    needs: Vec<K>,
}

impl<K, N> Default for Graph<K, N> {
    fn default() -> Self {
        Self { nodes: BTreeMap::new() }
    }
}

impl<K: Copy + Ord, N> Graph<K, N> {
    /// Adds the node `key`, unless it is there already; `needs` that are not there are left out.
    pub fn add(&mut self, key: K, needs: &[K], node: impl FnOnce() -> N) {
        if !self.nodes.contains_key(&key) {
            let needs = needs.iter().copied().filter(|need| self.nodes.contains_key(need)).collect();
            let number = self.nodes.len();
            self.nodes.insert(key, Entry { number, node: node(), needs });
        }
    }

    /// The node of a key.
    pub fn node(&self, key: K) -> Option<&N> {
        self.nodes.get(&key).map(|entry| &entry.node)
    }

    /// The place of a node in the order in which nodes were added.
    pub fn number(&self, key: K) -> usize {
        self.nodes.get(&key).map_or(usize::MAX, |entry| entry.number)
    }

    /// The nodes that a node needs.
    pub fn needs(&self, key: K) -> &[K] {
        self.nodes.get(&key).map_or(&[], |entry| &entry.needs)
    }

    /// How many nodes there are.
    pub fn len(&self) -> usize {
        self.nodes.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.nodes.is_empty()
    }

    /// What has to be done so that all of `wanted` is there: `is_there` is asked once of each node that is
    /// wanted, or needed by one that is not there. What a node needs that is there is not looked at.
    pub fn missing(&self, wanted: &[K], mut is_there: impl FnMut(K) -> bool) -> BTreeSet<K> {
        let (mut seen, mut missing) = (BTreeSet::new(), BTreeSet::new());
        let mut pending: Vec<K> = wanted.iter().rev().copied().collect();
        while let Some(key) = pending.pop() {
            if seen.insert(key) && !is_there(key) {
                missing.insert(key);
                pending.extend(self.needs(key).iter().rev());
            }
        }
        missing
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// `d` needs `b` and `c`, which both need `a`.
    pub(crate) fn diamond() -> Graph<char, u64> {
        let mut graph = Graph::default();
        graph.add('a', &[], || 1);
        graph.add('b', &['a'], || 5);
        graph.add('c', &['a'], || 2);
        graph.add('d', &['b', 'c'], || 1);
        graph
    }

    #[test]
    fn nodes_are_shared_and_the_first_one_stays() {
        let mut graph = diamond();
        graph.add('b', &[], || 9);
        assert_eq!((graph.len(), graph.node('b'), graph.needs('b')), (4, Some(&5), &['a'][..]));
        assert_eq!(graph.node('x'), None);
    }

    #[test]
    fn only_what_is_wanted_and_not_there_is_looked_at() {
        let graph = diamond();
        let mut asked = Vec::new();
        let missing = graph.missing(&['d'], |key| {
            asked.push(key);
            matches!(key, 'b')
        });
        assert_eq!(missing, BTreeSet::from(['a', 'c', 'd']));
        assert_eq!(asked, ['d', 'b', 'c', 'a']);
        let mut asked = 0;
        let none = graph.missing(&['d', 'd'], |_| {
            asked += 1;
            true
        });
        assert_eq!((none.len(), asked), (0, 1));
    }
}
