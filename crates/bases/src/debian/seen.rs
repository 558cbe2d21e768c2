//! What this process has asked of archives already: many apps ask for the same.

use super::pins::Archives;
use super::suites::Suite;
use model::Result;
use model::pins::SuitePin;
use remote::packages::debian::Index;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

/// The state of each part of a suite.
pub type SuiteState = BTreeMap<String, SuitePin>;

/// States and indexes of suites, each asked for once.
#[derive(Default)]
pub struct SeenSuites {
    states: Mutex<BTreeMap<String, SuiteState>>,
    indexes: Mutex<BTreeMap<String, Arc<Index>>>,
}

impl SeenSuites {
    /// The state of a suite. Concurrent callers wait for one request.
    pub fn state(&self, archives: &Archives<'_>, suite: &Suite) -> Result<SuiteState> {
        let mut states = self.states.lock().unwrap_or_else(PoisonError::into_inner);
        let place = Self::place(archives, suite, "");
        if let Some(state) = states.get(&place) {
            return Ok(state.clone());
        }
        let state = archives.state(suite)?;
        states.insert(place, state.clone());
        Ok(state)
    }

    /// The packages of a suite for a processor (Debian's name).
    pub fn index(&self, archives: &Archives<'_>, suite: &Suite, architecture: &str) -> Result<Arc<Index>> {
        let mut indexes = self.indexes.lock().unwrap_or_else(PoisonError::into_inner);
        let place = Self::place(archives, suite, architecture);
        if let Some(index) = indexes.get(&place) {
            return Ok(Arc::clone(index));
        }
        let (index, state) = archives.index(suite, architecture)?;
        let index = Arc::new(index);
        indexes.insert(place, Arc::clone(&index));
        // It is the state of the index that counts, should the suite have moved in between.
        let place = Self::place(archives, suite, "");
        self.states.lock().unwrap_or_else(PoisonError::into_inner).insert(place, state);
        Ok(index)
    }

    /// Lets go of the indexes, which are large.
    pub fn forget_indexes(&self) {
        self.indexes.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    fn place(archives: &Archives<'_>, suite: &Suite, architecture: &str) -> String {
        format!("{} {architecture} {:?} {:?}", suite.name, archives.addresses, archives.keyrings)
    }
}
