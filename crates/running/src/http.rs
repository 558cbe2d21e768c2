//! A question in HTTP, as small as it can be.

use std::io::{self, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::time::Duration;

/// How long a connection to a port of this machine may take.
const CONNECT_PATIENCE: Duration = Duration::from_millis(500);
/// The default time limit for an answer.
const PATIENCE: Duration = Duration::from_secs(10);
/// How many bytes of an answer are read.
const LONGEST_ANSWER: u64 = 16 << 20;

/// A connection to a port of this machine.
pub(crate) fn connect(port: u16) -> io::Result<TcpStream> {
    TcpStream::connect_timeout(&SocketAddr::from((Ipv4Addr::LOCALHOST, port)), CONNECT_PATIENCE)
}

/// The answer to `GET path` of a process of this machine: status and body.
pub fn ask(port: u16, path: &str) -> io::Result<(u16, String)> {
    ask_on(connect(port)?, path, PATIENCE)
}

/// The answer to `GET path` on a connection (HTTP/1.0, so that the end of the connection is the end of the body).
pub(crate) fn ask_on(mut stream: TcpStream, path: &str, patience: Duration) -> io::Result<(u16, String)> {
    stream.set_read_timeout(Some(patience))?;
    // In one piece: a small server may read only once.
    stream.write_all(format!("GET {path} HTTP/1.0\r\nHost: localhost\r\n\r\n").as_bytes())?;
    let mut answer = Vec::new();
    stream.take(LONGEST_ANSWER).read_to_end(&mut answer)?;
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
    let status = head.split(' ').nth(1).and_then(|s| s.parse().ok());
    Ok((status.ok_or_else(|| io::Error::other("no HTTP answer"))?, body.to_owned()))
}
