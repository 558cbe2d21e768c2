//! What all builds of one process share.

use crate::budget::Budget;
use crate::event::Event;
use crate::failed_root::KeptRoot;
use cancel::Cancel;
use content::store::Store;
use remote::Fetcher;
use sandbox::Limits;

/// One a process: store, connections, budget, and who is told.
pub struct Session<'a> {
    /// The store.
    pub store: &'a Store,
    /// Gets packages.
    pub fetcher: &'a Fetcher,
    /// How much to do at once.
    pub budget: &'a Budget,
    /// Told of everything that happens, from any thread.
    pub events: &'a (dyn Fn(Event) + Sync),
    /// How much the programs of a step may use.
    pub limits: Limits,
    /// Where the root of the first step whose program fails is kept; without it, it is removed.
    pub failed_root: Option<&'a KeptRoot>,
    /// Ends everything early.
    pub cancel: &'a Cancel,
}
