//! Where the requests of an app go.

use proxy::{Backends, Picked};
use running::app::RunningApp;
use std::any::Any;
use std::sync::{Arc, PoisonError, RwLock};

/// The instances that answer.
pub(super) struct Current {
    pub release: u32,
    pub app: RunningApp,
    /// The process type that requests go to.
    pub process: Option<String>,
    /// Held by every request that is under way.
    pub lease: Arc<()>,
}

/// Where the requests of an app go.
#[derive(Default)]
pub(super) struct Front(RwLock<Option<Arc<Current>>>);

impl Front {
    pub fn current(&self) -> Option<Arc<Current>> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub fn replace(&self, new: Option<Arc<Current>>) -> Option<Arc<Current>> {
        std::mem::replace(&mut *self.0.write().unwrap_or_else(PoisonError::into_inner), new)
    }
}

impl Backends for Front {
    fn pick(&self) -> Option<Picked> {
        // Within the lock: whoever replaces the release sees either the lease or no request.
        let current = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let current = current.as_ref()?;
        let (_, connect) = current.app.pool(current.process.as_deref()?)?.pick()?;
        let lease: Arc<dyn Any + Send + Sync> = Arc::clone(&current.lease) as _;
        Some(Picked { connect, lease })
    }
}
