//! Object stores, which this program serves itself.

use super::kinds::Site;
use super::{DATA, ServiceStart, address, password};
use crate::ports::{Target, to_address};
use model::service::Access;
use model::{PathFacts, Result, ServiceKind};
use objects::Server;
use objects::signature::Key;
use std::fs;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};

/// A running object store; it ends when this is dropped.
pub(super) struct ObjectStore {
    site: Site,
    at: SocketAddr,
    _server: Server,
}

impl ObjectStore {
    /// Starts it on a free port of this machine, with its bucket.
    pub fn start(start: &ServiceStart) -> Result<Self> {
        let folder = start.folder.join(ServiceKind::ObjectStore.name());
        fs::create_dir_all(&folder).facts(&folder)?;
        let password = password(&folder.join(super::PASSWORD))?;
        let site = Site { kind: ServiceKind::ObjectStore, name: start.name.clone(), password };
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
        let at = listener.local_addr()?;
        let Access { user: id, password: secret, database: bucket, .. } = site.access();
        let data = folder.join(DATA);
        let server = Server::start(listener, &data, Key { id, secret }, &bucket).facts(&data)?;
        Ok(Self { site, at, _server: server })
    }

    pub fn target(&self) -> Target {
        to_address(self.at)
    }

    /// How the app reaches it, as the service with a number. Its URL has the address in place of the name: clients then put
    /// the bucket into the path, and not into the host name.
    pub fn access(&self, number: usize) -> Access {
        let access = self.site.access();
        Access { url: access.url.replace(&access.host, &address(number).to_string()), ..access }
    }
}
