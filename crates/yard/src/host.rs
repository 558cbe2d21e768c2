//! The machine that the yard is running on.

use content::store::Store;
use proxy::Proxies;
use sandbox::Limits;
use std::sync::Arc;

/// What the yard has from the machine that it runs on.
pub struct Host {
    /// Where images are.
    pub store: Arc<Store>,
    /// How much each process may use.
    pub limits: Limits,
    /// Whether processes see the network of this machine.
    pub on_host_network: bool,
    /// The runtime of the proxies.
    pub proxies: Proxies,
}
