//! Connections into and out of a process's own network, without anything that forwards inside: the first process of the
//! namespaces connects or listens there and passes the descriptor out, which stays in the network that it was made in.

use rustix::fd::{AsFd, OwnedFd};
use rustix::net::{
    AddressFamily, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer,
    SendAncillaryMessage, SendFlags, SocketFlags, SocketType, recvmsg, sendmsg, socketpair,
};
use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, TcpStream};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// What is asked for, in the first byte of a request; a number follows, the lower byte first: a port to connect to, or the
/// place of a listener in the plan.
const CONNECT: u8 = 1;
const LISTEN: u8 = 2;
const LIST: u8 = 3;
/// How many bytes a list of sockets may have.
const LONGEST_LIST: usize = 4096;
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

    /// The listener on the `number`th address that the plan asked for, from 0; once.
    pub fn listener(&self, number: usize) -> io::Result<TcpListener> {
        let number = u16::try_from(number).map_err(io::Error::other)?;
        self.ask(LISTEN, number).map(TcpListener::from)
    }

    /// What listens inside: addresses and ports.
    pub fn listening(&self) -> io::Result<Vec<SocketAddr>> {
        let end = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        rustix::net::send(&*end, &message(LIST, 0), SendFlags::NOSIGNAL)?;
        let mut answer = [0; LONGEST_LIST];
        let (count, _) = rustix::net::recv(&*end, &mut answer[..], RecvFlags::empty())?;
        let text = String::from_utf8_lossy(&answer[..count]);
        Ok(text.lines().filter_map(|line| line.parse().ok()).collect())
    }

    fn ask(&self, what: u8, number: u16) -> io::Result<OwnedFd> {
        let end = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        rustix::net::send(&*end, &message(what, number), SendFlags::NOSIGNAL)?;
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

/// Listens on addresses of the loopback interface.
pub(crate) fn listeners(addresses: &[SocketAddr]) -> io::Result<Vec<Option<TcpListener>>> {
    addresses.iter().map(|address| TcpListener::bind(address).map(Some)).collect()
}

/// Answers requests until the caller is gone; the work of a thread of the first process inside.
pub(crate) fn serve(end: &OwnedFd, mut listeners: Vec<Option<TcpListener>>) {
    let mut request = [0; 3];
    while let Ok((3, _)) = rustix::net::recv(end, &mut request[..], RecvFlags::empty()) {
        let number = u16::from_le_bytes([request[1], request[2]]);
        if request[0] == LIST {
            let mut list: String = listening().iter().map(|address| format!("{address}\n")).collect();
            list.truncate(LONGEST_LIST);
            match rustix::net::send(end, list.as_bytes(), SendFlags::NOSIGNAL) {
                Ok(_) => continue,
                Err(_) => return,
            }
        }
        let made = match request[0] {
            CONNECT => connect_inside(number).map(OwnedFd::from),
            LISTEN => {
                let listener = listeners.get_mut(usize::from(number)).and_then(Option::take);
                listener.map(OwnedFd::from).ok_or_else(|| io::ErrorKind::NotFound.into())
            }
            _ => return,
        };
        if answer(end, made).is_err() {
            return;
        }
    }
}

fn message(what: u8, number: u16) -> [u8; 3] {
    let [low, high] = number.to_le_bytes();
    [what, low, high]
}

/// The listening sockets of this network (proc_pid_net(5)).
fn listening() -> Vec<SocketAddr> {
    let of = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
    let text = of("/proc/self/net/tcp") + &of("/proc/self/net/tcp6");
    text.lines().filter_map(socket_of).collect()
}

/// The address of a line, if its socket listens: numbers in base 16, each four bytes of an address in the machine's order.
fn socket_of(line: &str) -> Option<SocketAddr> {
    const LISTENS: &str = "0A";
    let mut words = line.split_whitespace();
    let (address, port) = words.nth(1)?.split_once(':')?;
    words.nth(1).filter(|state| *state == LISTENS)?;
    let port = u16::from_str_radix(port, 16).ok()?;
    let words = address.as_bytes().chunks(8).map(|word| {
        let word = std::str::from_utf8(word).ok()?;
        Some(u32::from_str_radix(word, 16).ok()?.to_ne_bytes())
    });
    let bytes = words.collect::<Option<Vec<_>>>()?.concat();
    let address: IpAddr = match <[u8; 4]>::try_from(&bytes[..]) {
        Ok(bytes) => Ipv4Addr::from(bytes).into(),
        Err(_) => Ipv6Addr::from(<[u8; 16]>::try_from(&bytes[..]).ok()?).into(),
    };
    Some(SocketAddr::from((address, port)))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn listening_sockets_are_read_from_the_kernels_table() {
        let line = |address: &str, state: &str| {
            format!("   0: {address} 00000000:0000 {state} 00000000:00000000 00:0")
        };
        let socket = |text: &str| Some(text.parse().unwrap());
        assert_eq!(socket_of(&line("0100007F:1470", "0A")), socket("127.0.0.1:5232"));
        assert_eq!(socket_of(&line("00000000:1F90", "0A")), socket("0.0.0.0:8080"));
        let six = "00000000000000000000000001000000:1F90";
        assert_eq!(socket_of(&line(six, "0A")), socket("[::1]:8080"));
        assert_eq!(socket_of(&line("0100007F:1470", "01")), None, "a connection");
        assert_eq!(socket_of("  sl  local_address rem_address   st"), None);
    }
}
