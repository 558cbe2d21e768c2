//! Ports that lead elsewhere: connections are joined by this program, since nothing else forwards between networks.

use model::error::RunError;
use model::{Error, Result};
use std::io;
use std::net::{Ipv4Addr, Ipv6Addr, Shutdown, SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

/// How long to wait after a connection could not be accepted, for want of descriptors for example.
const PAUSE: Duration = Duration::from_millis(50);

/// How long a connection to this machine or beyond may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// Makes a connection to what a port leads to.
pub type Target = Arc<dyn Fn() -> io::Result<TcpStream> + Send + Sync>;

/// A target at an address that this machine can reach.
pub fn to_address(address: SocketAddr) -> Target {
    Arc::new(move || TcpStream::connect_timeout(&address, PATIENCE))
}

/// A port of this machine, on both its loopback addresses as far as it has them. It is given back when this is dropped.
pub struct Offered {
    listeners: Vec<TcpListener>,
    /// Its number.
    pub port: u16,
}

/// Takes a port of this machine; 0 takes a free one.
pub fn offer(port: u16) -> Result<Offered> {
    let taken = |_| Error::Run(RunError::PortTaken { port });
    let first = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).map_err(taken)?;
    let port = first.local_addr()?.port();
    // A machine may have only one of the two.
    let second = TcpListener::bind((Ipv6Addr::LOCALHOST, port)).ok();
    Ok(Offered { listeners: std::iter::once(first).chain(second).collect(), port })
}

impl Offered {
    /// Leads every connection to `to`.
    pub fn lead_to(&self, to: &Target) -> io::Result<()> {
        for listener in &self.listeners {
            forward(listener.try_clone()?, Arc::clone(to));
        }
        Ok(())
    }
}

impl Offered {
    /// The listeners themselves, for the server; the port is released when they are closed.
    pub fn into_listeners(mut self) -> Vec<TcpListener> {
        std::mem::take(&mut self.listeners)
    }
}

impl Drop for Offered {
    fn drop(&mut self) {
        self.listeners.iter().for_each(close);
    }
}

/// Ends the thread that accepts on a listener, wherever else it is open.
pub(crate) fn close(listener: &TcpListener) {
    // One that is closed already is as it should be.
    let _ = rustix::net::shutdown(listener, rustix::net::Shutdown::Both);
}

/// Joins every connection of a listener with one that `to` makes, until it is closed.
pub(crate) fn forward(listener: TcpListener, to: Target) {
    std::thread::spawn(move || {
        loop {
            match listener.accept() {
                Ok((incoming, _)) => {
                    let to = Arc::clone(&to);
                    // Who cannot be led on is told by the end of the connection.
                    std::thread::spawn(move || to().and_then(|outgoing| join(&incoming, &outgoing)));
                }
                Err(error) if error.kind() == io::ErrorKind::InvalidInput => return,
                Err(_) => std::thread::sleep(PAUSE),
            }
        }
    });
}

/// Copies both ways until both ends are done.
fn join(one: &TcpStream, other: &TcpStream) -> io::Result<()> {
    // Small answers are not to wait for more.
    let _ = one.set_nodelay(true).and_then(|()| other.set_nodelay(true));
    let copy = |from: &TcpStream, to: &TcpStream| -> io::Result<()> {
        let (mut from, mut to) = (from, to);
        let done = io::copy(&mut from, &mut to).map(drop);
        let _ = to.shutdown(Shutdown::Write);
        done
    };
    std::thread::scope(|scope| {
        let back = scope.spawn(|| copy(other, one));
        let there = copy(one, other);
        there.and(back.join().unwrap_or(Ok(())))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_port_that_is_no_longer_offered_is_free_again() {
        let behind = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
        let offered = offer(0).unwrap();
        let port = offered.port;
        offered.lead_to(&to_address(behind.local_addr().unwrap())).unwrap();
        let client = TcpStream::connect((Ipv4Addr::LOCALHOST, port)).unwrap();
        let (accepted, _) = behind.accept().unwrap();
        drop((client, accepted));
        assert!(offer(port).is_err(), "it is taken");
        drop(offered);
        let mut tries = 0..100;
        while offer(port).is_err() && tries.next().is_some() {
            std::thread::sleep(PAUSE / 10);
        }
        assert!(offer(port).is_ok());
    }
}
