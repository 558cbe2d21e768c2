//! Connections into and out of a process's own network, without anything that forwards inside: the first process of the
//! namespaces connects or listens there and passes the descriptor out, which stays in the network that it was made in.

use rustix::fd::{AsFd, OwnedFd};
use rustix::net::{
    AddressFamily, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer,
    SendAncillaryMessage, SendFlags, SocketFlags, SocketType, recvmsg, sendmsg, socketpair,
};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, TcpStream};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// What is asked for, in the first byte of a request; the port follows, the lower byte first.
const CONNECT: u8 = 1;
const LISTEN: u8 = 2;
/// How long a connection inside may take.
const PATIENCE: Duration = Duration::from_millis(500);

/// The caller's end.
pub struct Link(Mutex<OwnedFd>);

/// Two ends: the caller's, and the one for the first process inside.
pub(crate) fn pair() -> io::Result<(Link, OwnedFd)> {
    let (outside, inside) =
        socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None)?;
    Ok((Link(Mutex::new(outside)), inside))
}

impl Link {
    /// A connection to what listens on a port inside.
    pub fn connect(&self, port: u16) -> io::Result<TcpStream> {
        self.ask(CONNECT, port).map(TcpStream::from)
    }

    /// The listener on a port inside that the plan asked for; once.
    pub fn listener(&self, port: u16) -> io::Result<TcpListener> {
        self.ask(LISTEN, port).map(TcpListener::from)
    }

    fn ask(&self, what: u8, port: u16) -> io::Result<OwnedFd> {
        let [low, high] = port.to_le_bytes();
        let end = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        rustix::net::send(&*end, &[what, low, high], SendFlags::NOSIGNAL)?;
        let mut room = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
        let mut ancillary = RecvAncillaryBuffer::new(&mut room);
        let mut answer = [0; 4];
        let got =
            recvmsg(&*end, &mut [IoSliceMut::new(&mut answer)], &mut ancillary, RecvFlags::CMSG_CLOEXEC)?;
        if got.bytes < answer.len() {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let passed = ancillary.drain().find_map(|message| match message {
            RecvAncillaryMessage::ScmRights(mut descriptors) => descriptors.next(),
            _ => None,
        });
        passed.ok_or_else(|| io::Error::from_raw_os_error(i32::from_le_bytes(answer)))
    }
}

/// Listens on ports of the loopback interface.
pub(crate) fn listeners(ports: &[u16]) -> io::Result<BTreeMap<u16, TcpListener>> {
    let ports: BTreeSet<u16> = ports.iter().copied().collect();
    ports.into_iter().map(|port| Ok((port, TcpListener::bind((Ipv4Addr::LOCALHOST, port))?))).collect()
}

/// Answers requests until the caller is gone; the work of a thread of the first process inside.
pub(crate) fn serve(end: &OwnedFd, mut listeners: BTreeMap<u16, TcpListener>) {
    let mut request = [0; 3];
    while let Ok((3, _)) = rustix::net::recv(end, &mut request[..], RecvFlags::empty()) {
        let port = u16::from_le_bytes([request[1], request[2]]);
        let made = match request[0] {
            CONNECT => connect_inside(port).map(OwnedFd::from),
            LISTEN => {
                listeners.remove(&port).map(OwnedFd::from).ok_or_else(|| io::ErrorKind::NotFound.into())
            }
            _ => return,
        };
        if answer(end, made).is_err() {
            return;
        }
    }
}

fn connect_inside(port: u16) -> io::Result<TcpStream> {
    let to = |address: IpAddr| TcpStream::connect_timeout(&SocketAddr::from((address, port)), PATIENCE);
    to(Ipv4Addr::LOCALHOST.into()).or_else(|error| to(Ipv6Addr::LOCALHOST.into()).map_err(|_| error))
}

/// The number of the error, 0 with a descriptor.
fn answer(end: &OwnedFd, made: io::Result<OwnedFd>) -> io::Result<()> {
    let number = made.as_ref().err().map_or(0, |error| error.raw_os_error().unwrap_or(libc::EIO));
    let mut room = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut ancillary = SendAncillaryBuffer::new(&mut room);
    let descriptors = made.as_ref().ok().map(|made| [made.as_fd()]);
    if let Some(descriptors) = &descriptors {
        ancillary.push(SendAncillaryMessage::ScmRights(descriptors));
    }
    sendmsg(end, &[IoSlice::new(&number.to_le_bytes())], &mut ancillary, SendFlags::NOSIGNAL)?;
    Ok(())
}
