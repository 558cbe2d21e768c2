//! Ways out of a process's own network: names and ports inside that lead to something else.

use crate::ports::{Target, close, forward, to_address};
use sandbox::Link;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};
use std::sync::Arc;

/// A port inside that leads out.
#[derive(Clone)]
pub struct Way {
    /// What its address is called inside; without, it is the loopback address itself.
    pub name: Option<String>,
    /// Its address inside, of the loopback network 127.0.0.0/8.
    pub address: Ipv4Addr,
    /// Its port inside.
    pub port: u16,
    /// Where it leads.
    pub to: Target,
}

impl Way {
    /// To the same port of this machine.
    pub fn to_this_machine(port: u16) -> Self {
        let address = Ipv4Addr::LOCALHOST;
        Self { name: None, address, port, to: to_address(SocketAddr::from((address, port))) }
    }

    /// Where it is listened for it.
    pub fn listens(&self) -> SocketAddr {
        SocketAddr::from((self.address, self.port))
    }

    /// What it is called inside, with its address.
    pub fn named(&self) -> Option<(String, IpAddr)> {
        Some((self.name.clone()?, self.address.into()))
    }
}

/// The open ways of a process; they are closed when this is dropped.
#[derive(Default)]
pub(crate) struct OpenWays(Vec<TcpListener>);

impl OpenWays {
    /// Opens them; the plan of the process listens in the same order. A process that has ended already needs none.
    pub(crate) fn open(link: &Link, ways: &[Way]) -> io::Result<Self> {
        let mut open = Self::default();
        for (number, way) in ways.iter().enumerate() {
            let listener = match link.listener(number) {
                Ok(listener) => listener,
                Err(error) if has_ended(&error) => break,
                Err(error) => return Err(error),
            };
            open.0.push(listener.try_clone()?);
            forward(listener, Arc::clone(&way.to));
        }
        Ok(open)
    }
}

/// Whether the other end of a link is closed.
fn has_ended(error: &io::Error) -> bool {
    use io::ErrorKind::{BrokenPipe, ConnectionReset, UnexpectedEof};
    matches!(error.kind(), BrokenPipe | ConnectionReset | UnexpectedEof)
}

impl Drop for OpenWays {
    fn drop(&mut self) {
        self.0.iter().for_each(close);
    }
}
