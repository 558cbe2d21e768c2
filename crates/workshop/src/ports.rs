//! Ports of a process with a network of its own: those that this machine offers for it, and those of this machine that
//! it may reach.

use model::error::RunError;
use model::{Error, Result};
use sandbox::Link;
use std::io;
use std::net::{Ipv4Addr, Ipv6Addr, Shutdown, SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

/// How long a connection of this machine waits for the process to listen, and how often it tries.
const PATIENCE: Duration = Duration::from_secs(5);
const PAUSE: Duration = Duration::from_millis(50);

/// Listeners of this machine, on both its loopback addresses as far as it has them.
pub(crate) struct Offered {
    listeners: Vec<TcpListener>,
    /// Their port.
    pub(crate) port: u16,
}

/// Takes a port of this machine; 0 takes a free one.
pub(crate) fn offer(port: u16) -> Result<Offered> {
    let taken = |_| Error::Run(RunError::PortTaken { port });
    let first = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).map_err(taken)?;
    let port = first.local_addr()?.port();
    // A machine may have only one of the two.
    let second = TcpListener::bind((Ipv6Addr::LOCALHOST, port)).ok();
    Ok(Offered { listeners: std::iter::once(first).chain(second).collect(), port })
}

impl Offered {
    /// Leads every connection to the port `to` inside.
    pub(crate) fn lead_to(self, link: &Arc<Link>, to: u16) {
        for listener in self.listeners {
            let link = Arc::clone(link);
            each_connection(listener, move || connect(&link, to));
        }
    }
}

/// Lets the process reach a port of this machine under the same number.
pub(crate) fn let_reach(link: &Link, port: u16) -> io::Result<()> {
    let to = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
    each_connection(link.listener(port)?, move || TcpStream::connect_timeout(&to, PATIENCE));
    Ok(())
}

/// A connection into the process's network, as soon as somebody listens there.
fn connect(link: &Link, port: u16) -> io::Result<TcpStream> {
    let tries = PATIENCE.as_millis() / PAUSE.as_millis();
    for _ in 0..tries {
        match link.connect(port) {
            Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => std::thread::sleep(PAUSE),
            other => return other,
        }
    }
    link.connect(port)
}

/// Joins every connection of a listener with one that `to` makes; until the program ends.
fn each_connection(listener: TcpListener, to: impl Fn() -> io::Result<TcpStream> + Send + Sync + 'static) {
    let to = Arc::new(to);
    std::thread::spawn(move || {
        for incoming in listener.incoming().flatten() {
            let to = Arc::clone(&to);
            // Who cannot be led on is told by the end of the connection.
            std::thread::spawn(move || to().and_then(|outgoing| join(&incoming, &outgoing)));
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
