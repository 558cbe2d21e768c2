//! Whether a service is ready: asked in its own protocol, without coming in.

use super::kinds::Site;
use model::ServiceKind;
use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::time::Duration;

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// The version of PostgreSQL's protocol: 3.0 (PostgreSQL documentation, 54.7, StartupMessage).
const POSTGRESQL_PROTOCOL: u32 = 3 << 16;
/// The version of MySQL's greeting (MySQL internals, Protocol::HandshakeV10).
const MYSQL_GREETING: u8 = 10;

/// Asks on a connection; an error says why it is not ready.
pub(super) fn probe(site: &Site, mut stream: TcpStream) -> io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    let is_ready = match site.kind {
        ServiceKind::Postgresql => {
            stream.write_all(&postgresql_startup(&site.database()))?;
            // `R` asks for the password; `E` says that it starts still, or ends.
            first_byte(&mut stream)? == b'R'
        }
        ServiceKind::Mysql | ServiceKind::Mariadb => {
            let mut greeting = [0; 5];
            stream.read_exact(&mut greeting)?;
            greeting[4] == MYSQL_GREETING
        }
        ServiceKind::Redis => {
            stream.write_all(format!("AUTH {}\r\nPING\r\n", site.password).as_bytes())?;
            let mut answer = [0; 12];
            stream.read_exact(&mut answer)?;
            &answer == b"+OK\r\n+PONG\r\n"
        }
        ServiceKind::Memcached => {
            stream.write_all(b"version\r\n")?;
            first_byte(&mut stream)? == b'V'
        }
        ServiceKind::Rabbitmq => {
            // The header of AMQP 0-9-1 (2.2.4); the answer is a frame with a method.
            stream.write_all(b"AMQP\0\0\x09\x01")?;
            first_byte(&mut stream)? == 1
        }
        // It is there as soon as its port is.
        ServiceKind::ObjectStore => true,
    };
    if is_ready { Ok(()) } else { Err(io::Error::other("not ready yet")) }
}

fn first_byte(stream: &mut TcpStream) -> io::Result<u8> {
    let mut first = [0];
    stream.read_exact(&mut first)?;
    Ok(first[0])
}

/// The first message of a client: its length, the protocol, and names with values, each ended by a zero.
fn postgresql_startup(database: &str) -> Vec<u8> {
    let mut body = POSTGRESQL_PROTOCOL.to_be_bytes().to_vec();
    for text in ["user", "app", "database", database, ""] {
        body.extend(text.as_bytes());
        body.push(0);
    }
    let length = u32::try_from(body.len() + 4).unwrap_or(u32::MAX);
    [&length.to_be_bytes()[..], &body].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_message_to_postgresql_has_its_length() {
        let message = postgresql_startup("tides");
        assert_eq!(message[..8], [0, 0, 0, 33, 0, 3, 0, 0]);
        assert_eq!(message[8..], *b"user\0app\0database\0tides\0\0");
    }
}
