//! What all builds of one process share.

use crate::budget::Budget;
use crate::event::Event;
use crate::failed_root::KeptRoot;
use crate::step::Produced;
use cancel::Cancel;
use content::StepKey;
use content::store::Store;
use remote::Fetcher;
use sandbox::Limits;

/// Results of steps that many machines share. It may only help: whatever goes wrong there, the step is made here.
pub trait SharedResults: Sync {
    /// The result of a step, with its layer, which is in `store` from then on; and how long the step took where it ran, in
    /// milliseconds. What is not whole, or not from somebody who is trusted, is not there.
    fn fetch(&self, key: StepKey, store: &Store) -> Option<(Produced, u64)>;

    /// Takes in the result of a step that ran here; `milliseconds` is how long it took.
    fn offer(&self, key: StepKey, produced: &Produced, milliseconds: u64);
}

/// One a process: store, connections, budget, and who receives events.
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
    /// Results that other machines made.
    pub shared: Option<&'a dyn SharedResults>,
    /// Ends everything early.
    pub cancel: &'a Cancel,
}
