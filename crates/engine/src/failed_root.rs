//! The root of a step whose program failed, kept for inspection.

use crate::scratch::Scratch;
use model::Result;
use sandbox::{Ended, Limits, Network, Plan, Terminal};
use std::sync::{Mutex, PoisonError};

/// What a shell in the root is told of the user's terminal, besides its path.
const OF_TERMINALS: [&str; 2] = ["TERM", "COLORTERM"];

/// A root as the program left it: its source, its results and its cache. It is gone when this is dropped.
pub struct FailedRoot {
    /// The step.
    pub step: String,
    plan: Plan,
    scratch: Scratch,
}

impl FailedRoot {
    pub(crate) fn new(step: &str, plan: Plan, scratch: Scratch) -> Self {
        Self { step: step.to_owned(), plan, scratch }
    }

    /// Opens a shell on the terminal of this process, with the user, the folder and the environment of the program,
    /// and waits until it ends. It has no network, and all the time that it wants.
    pub fn open_shell(&self) -> Result<Ended> {
        let scratch = self.scratch.0.join("shell");
        std::fs::create_dir(&scratch)?;
        let terminal =
            OF_TERMINALS.iter().filter_map(|name| Some(((*name).to_owned(), std::env::var(name).ok()?)));
        let plan = Plan {
            scratch,
            argv: vec!["sh".to_owned(), "-i".to_owned()],
            env: self.plan.env.iter().cloned().chain(terminal).collect(),
            network: Network::Alone,
            listens: Vec::new(),
            names: Vec::new(),
            on_terminal: true,
            limits: Limits::PROCESS,
            ..self.plan.clone()
        };
        let (mut terminal, ends) = Terminal::open()?;
        let mut running = sandbox::start(&plan, ends)?;
        terminal.pass_on(&running)?;
        Ok(running.wait()?)
    }
}

/// Keeps the root of the first step that fails.
#[derive(Default)]
pub struct KeptRoot(Mutex<Option<FailedRoot>>);

impl KeptRoot {
    pub(crate) fn keep(&self, root: FailedRoot) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(root);
    }

    /// The root, if there is one.
    pub fn take(&self) -> Option<FailedRoot> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}
