//! A server that lies in every way a transport can: what is fetched is what the server has, or an error, and soon.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use remote::{Address, Fetcher, Network, RemoteError};
use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::LazyLock;
use std::thread;
use std::time::{Duration, Instant};

/// What the server has.
const RIGHT: &[u8] = b"{\"buoys\":\"ropes and bells\"}";

/// Writes an answer for the try with this number, from 0; `from` is where the client wants to go on.
type Lie = fn(&mut TcpStream, number: usize, from: usize);

/// What may come of a lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Comes {
    /// An error.
    Error,
    /// What the server has: it was not so bad, or told in time.
    Right,
    /// The bytes as they were sent: nobody opens what was not asked for in compressed form.
    AsSent,
}

fn say(stream: &mut TcpStream, head: &str, body: &[u8]) {
    // A client that goes away has made up its mind.
    let _ = stream.write_all(format!("{head}\r\n\r\n").as_bytes()).and_then(|()| stream.write_all(body));
}

fn ok(stream: &mut TcpStream, extra: &str) {
    say(stream, &format!("HTTP/1.1 200 OK\r\ncontent-length: {}{extra}", RIGHT.len()), RIGHT);
}

/// 200 MiB of zeros, compressed; made once, since it takes a while.
static BOMB: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    let zeros = vec![0; 1 << 20];
    for _ in 0..200 {
        gzip.write_all(&zeros).unwrap();
    }
    gzip.finish().unwrap()
});

use Comes::{AsSent, Error, Right};

const LIES: [(&str, Comes, Lie); 43] = [
    ("the truth", Right, |s, _, _| ok(s, "")),
    ("nothing at all", Error, |_, _, _| {}),
    ("nothing at first", Right, |s, n, _| {
        if n > 0 {
            ok(s, "")
        }
    }),
    ("garbage", Error, |s, _, _| drop(s.write_all(&[0xff; 4096]))),
    ("text of no protocol", Error, |s, _, _| drop(s.write_all(RIGHT))),
    ("another protocol", Error, |s, _, _| drop(s.write_all(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"))),
    ("a status that is none", Error, |s, _, _| say(s, "HTTP/1.1 abc OK", RIGHT)),
    ("a status of six digits", Error, |s, _, _| say(s, "HTTP/1.1 200200 OK", RIGHT)),
    ("half a status line", Error, |s, _, _| drop(s.write_all(b"HTTP/1.1 2"))),
    ("headers without end", Error, |s, _, _| {
        let _ = s.write_all(b"HTTP/1.1 200 OK\r\n");
        while s.write_all(b"x-fog: horn\r\n").is_ok() {}
    }),
    ("a header of a megabyte", Error, |s, _, _| ok(s, &format!("\r\nx-fog: {}", "o".repeat(1 << 20)))),
    ("ten thousand headers", Error, |s, _, _| ok(s, &"\r\nx-fog: horn".repeat(10_000))),
    ("a header without a name", Error, |s, _, _| ok(s, "\r\n: horn")),
    ("a zero byte in a header", Error, |s, _, _| ok(s, "\r\nx-fog: a\0b")),
    ("a length that is none", Error, |s, _, _| say(s, "HTTP/1.1 200 OK\r\ncontent-length: many", RIGHT)),
    ("a negative length", Error, |s, _, _| say(s, "HTTP/1.1 200 OK\r\ncontent-length: -1", RIGHT)),
    ("a length of exabytes", Error, |s, _, _| {
        say(s, "HTTP/1.1 200 OK\r\ncontent-length: 9223372036854775807", RIGHT)
    }),
    ("a byte now and then", Error, |s, _, _| {
        let _ = s.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 1000000\r\n\r\n");
        while s.write_all(b"x").is_ok() {
            thread::sleep(Duration::from_millis(100));
        }
    }),
    ("two lengths", Error, |s, _, _| {
        say(s, &format!("HTTP/1.1 200 OK\r\ncontent-length: 3\r\ncontent-length: {}", RIGHT.len()), RIGHT)
    }),
    ("a length too long", Error, |s, _, _| {
        say(s, &format!("HTTP/1.1 200 OK\r\ncontent-length: {}", RIGHT.len() + 9), RIGHT)
    }),
    ("a cut body", Error, |s, _, _| {
        say(s, &format!("HTTP/1.1 200 OK\r\ncontent-length: {}", RIGHT.len()), &RIGHT[..9])
    }),
    ("a cut body that goes on when asked", Right, |s, n, from| match n {
        0 => say(s, &format!("HTTP/1.1 200 OK\r\ncontent-length: {}", RIGHT.len()), &RIGHT[..9]),
        _ if from == 0 => ok(s, ""),
        _ => say(
            s,
            &format!(
                "HTTP/1.1 206 Part\r\ncontent-length: {}\r\ncontent-range: bytes {from}-{}/{}",
                RIGHT.len() - from,
                RIGHT.len() - 1,
                RIGHT.len()
            ),
            &RIGHT[from..],
        ),
    }),
    ("all of it again in place of the rest", Right, |s, n, _| match n {
        0 => say(s, &format!("HTTP/1.1 200 OK\r\ncontent-length: {}", RIGHT.len()), &RIGHT[..9]),
        _ => ok(s, ""),
    }),
    ("another part than was asked for", Right, |s, n, from| match n {
        0 => say(s, &format!("HTTP/1.1 200 OK\r\ncontent-length: {}", RIGHT.len()), &RIGHT[..9]),
        _ if from == 0 => ok(s, ""),
        _ => say(s, "HTTP/1.1 206 Part\r\ncontent-length: 4\r\ncontent-range: bytes 2-5/27", &RIGHT[2..6]),
    }),
    ("a part that nobody asked for", Error, |s, _, _| {
        say(s, "HTTP/1.1 206 Part\r\ncontent-length: 4\r\ncontent-range: bytes 2-5/27", &RIGHT[2..6])
    }),
    ("chunks that are none", Error, |s, _, _| {
        say(s, "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked", b"zz\r\nbuoy\r\n0\r\n\r\n")
    }),
    ("a chunk of exabytes", Error, |s, _, _| {
        say(s, "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked", b"7fffffffffffffff\r\nbuoy")
    }),
    ("chunks without the last", Error, |s, _, _| {
        say(s, "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked", b"4\r\nbuoy\r\n")
    }),
    ("chunks", Right, |s, _, _| {
        let body = [format!("{:x}\r\n", RIGHT.len()).as_bytes(), RIGHT, b"\r\n0\r\n\r\n"].concat();
        say(s, "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked", &body)
    }),
    ("more behind the end", Right, |s, _, _| {
        ok(s, "");
        let _ = s.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 3\r\n\r\nfog");
    }),
    ("compressed bytes that are not", Right, |s, _, _| ok(s, "\r\ncontent-encoding: gzip")),
    ("a compressed bomb", AsSent, |s, _, _| {
        let bomb = &*BOMB;
        say(s, &format!("HTTP/1.1 200 OK\r\ncontent-encoding: gzip\r\ncontent-length: {}", bomb.len()), bomb)
    }),
    ("success without a body", Error, |s, _, _| say(s, "HTTP/1.1 204 Nothing", b"")),
    ("not changed, though nobody has it", Error, |s, _, _| say(s, "HTTP/1.1 304 Same", b"")),
    ("a loop", Error, |s, _, _| say(s, "HTTP/1.1 302 Go\r\ncontent-length: 0\r\nlocation: /buoys", b"")),
    ("a way to nowhere", Error, |s, _, _| say(s, "HTTP/1.1 302 Go\r\ncontent-length: 0", b"")),
    ("a way to a file of this machine", Error, |s, _, _| {
        say(s, "HTTP/1.1 302 Go\r\ncontent-length: 0\r\nlocation: file:///etc/passwd", b"")
    }),
    ("a way to another protocol", Error, |s, _, _| {
        say(s, "HTTP/1.1 302 Go\r\ncontent-length: 0\r\nlocation: gopher://127.0.0.1/", b"")
    }),
    ("a way that is no text", Error, |s, _, _| {
        let _ = s.write_all(b"HTTP/1.1 302 Go\r\ncontent-length: 0\r\nlocation: http://\xff\xfe/\r\n\r\n");
    }),
    ("too many at once, for ever", Error, |s, _, _| say(s, "HTTP/1.1 429 Slow\r\ncontent-length: 0", b"")),
    ("too many at once, and then not", Right, |s, n, _| match n {
        0 | 1 => say(s, "HTTP/1.1 429 Slow\r\ncontent-length: 0\r\nretry-after: 0", b""),
        _ => ok(s, ""),
    }),
    ("trouble that passes", Right, |s, n, _| match n {
        0 => say(s, "HTTP/1.1 503 Fog\r\ncontent-length: 0", b""),
        1 => say(s, "HTTP/1.1 502 Fog\r\ncontent-length: 0\r\nretry-after: soon", b""),
        _ => ok(s, ""),
    }),
    ("a wait of years", Error, |s, _, _| {
        say(s, "HTTP/1.1 404 Gone\r\ncontent-length: 0\r\nretry-after: 99999999999", b"")
    }),
];

/// A server that answers every request with the lie, and closes the connection.
fn liar(lie: Lie) -> Address {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/buoys", listener.local_addr().unwrap());
    thread::spawn(move || {
        for (number, mut stream) in listener.incoming().flatten().enumerate() {
            let mut from = 0;
            let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
            while let Some(Ok(line)) = lines.next().filter(|line| line.as_ref().is_ok_and(|l| !l.is_empty()))
            {
                if let Some(range) = line.to_lowercase().strip_prefix("range: bytes=") {
                    from = range.trim_end_matches('-').parse().unwrap_or_default();
                }
            }
            lie(&mut stream, number, from);
        }
    });
    Address::parse(&address, Path::new("/"))
}

#[test]
fn whatever_a_server_says_what_comes_is_right_or_an_error_and_soon() {
    LazyLock::force(&BOMB);
    thread::scope(|scope| {
        for (what, comes, lie) in LIES {
            scope.spawn(move || {
                let fetcher = Fetcher::new(Network::Allowed).with_silence_limit(Duration::from_millis(500));
                let started = Instant::now();
                let document = fetcher.get(&liar(lie), "*/*");
                check(what, "a document", comes, document);
                let file = fetcher.get_into(&liar(lie), || Ok(Vec::new()));
                check(what, "a file", comes, file);
                // A limit of the behaviour: nobody waits for a liar without end.
                assert!(started.elapsed() < Duration::from_secs(60), "{what}: {:?}", started.elapsed());
            });
        }
    });
}

fn check(what: &str, kind: &str, comes: Comes, got: Result<Vec<u8>, RemoteError>) {
    match got {
        Ok(bytes) => {
            let is_right = if comes == AsSent { bytes == *BOMB } else { comes == Right && bytes == RIGHT };
            assert!(is_right, "{what}, {kind}: {} bytes", bytes.len());
        }
        Err(error) => assert!(comes == Error, "{what}, {kind}: {error}"),
    }
}
