//! As much of HTTP/1.1 as a server for object storage needs: one request for each connection, on a thread of its own.

use crate::answers::Answer;
use crate::body::Pieces;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{self, JoinHandle};
use std::time::Duration;

/// The longest head of a request, in bytes.
const LONGEST_HEAD: u64 = 64 << 10;
/// The most headers of a request.
const MOST_HEADERS: usize = 100;
/// How long a client may be silent.
const PATIENCE: Duration = Duration::from_secs(60);

/// The head of a request.
pub(crate) struct Head {
    pub method: String,
    pub url: String,
    /// Names in small letters.
    pub headers: Vec<(String, String)>,
}

/// Answers a request whose body is read from what comes with it.
pub(crate) type Answering = Arc<dyn Fn(&Head, &mut dyn Read) -> Answer + Send + Sync>;

/// Accepts connections until it is dropped.
pub(crate) struct Accepting {
    address: std::net::SocketAddr,
    is_over: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Accepting {
    pub fn start(listener: TcpListener, answering: Answering) -> io::Result<Self> {
        let address = listener.local_addr()?;
        let is_over = Arc::new(AtomicBool::new(false));
        let over = Arc::clone(&is_over);
        let thread = thread::spawn(move || {
            for stream in listener.incoming() {
                if over.load(Ordering::SeqCst) {
                    return;
                }
                let answering = Arc::clone(&answering);
                if let Ok(stream) = stream {
                    // A client that went away, or that speaks no HTTP, needs no answer.
                    thread::spawn(move || drop(serve(&stream, &answering)));
                }
            }
        });
        Ok(Self { address, is_over, thread: Some(thread) })
    }
}

impl Accepting {
    /// Where it listens.
    pub fn address(&self) -> std::net::SocketAddr {
        self.address
    }
}

impl Drop for Accepting {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::SeqCst);
        // Wakes the accepting thread.
        let is_awake = TcpStream::connect_timeout(&self.address, Duration::from_secs(1)).is_ok();
        if let Some(thread) = self.thread.take().filter(|_| is_awake) {
            // One that panicked has ended, too.
            let _ = thread.join();
        }
    }
}

fn serve(stream: &TcpStream, answering: &Answering) -> io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    stream.set_nodelay(true)?;
    let mut from = BufReader::new(stream);
    let head = read_head(&mut from)?;
    let header =
        |name: &str| head.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str());
    if header("expect").is_some_and(|value| value.eq_ignore_ascii_case("100-continue")) {
        (&*stream).write_all(b"HTTP/1.1 100 Continue\r\n\r\n")?;
    }
    let is_chunked =
        header("transfer-encoding").is_some_and(|value| value.to_lowercase().contains("chunked"));
    let length = header("content-length").and_then(|value| value.parse().ok()).unwrap_or(0);
    let answer = if is_chunked {
        answering(&head, &mut Pieces::new(from))
    } else {
        let mut body = from.take(length);
        let answer = answering(&head, &mut body);
        // A client that is still sending would not see the answer.
        io::copy(&mut body, &mut io::sink())?;
        answer
    };
    write_answer(stream, &head.method, answer)
}

fn read_head(from: &mut BufReader<&TcpStream>) -> io::Result<Head> {
    let bad = || io::Error::from(io::ErrorKind::InvalidData);
    let mut bytes = Vec::new();
    let mut limited = from.take(LONGEST_HEAD);
    while !bytes.ends_with(b"\r\n\r\n") {
        if limited.read_until(b'\n', &mut bytes)? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
    }
    let mut headers = [httparse::EMPTY_HEADER; MOST_HEADERS];
    let mut parsed = httparse::Request::new(&mut headers);
    parsed.parse(&bytes).map_err(|_| bad())?;
    let text = |value: &[u8]| String::from_utf8_lossy(value).into_owned();
    Ok(Head {
        method: parsed.method.ok_or_else(bad)?.to_owned(),
        url: parsed.path.ok_or_else(bad)?.to_owned(),
        headers: parsed
            .headers
            .iter()
            .map(|header| (header.name.to_lowercase(), text(header.value)))
            .collect(),
    })
}

fn write_answer(mut stream: &TcpStream, method: &str, mut answer: Answer) -> io::Result<()> {
    let mut head = format!("HTTP/1.1 {} {}\r\n", answer.status, reason(answer.status));
    for (name, value) in &answer.headers {
        // What a client made up must not end its line.
        let value: String = value.chars().filter(|letter| !letter.is_control()).collect();
        head.push_str(&format!("{name}: {value}\r\n"));
    }
    if answer.status != 204 && answer.status != 304 {
        head.push_str(&format!("content-length: {}\r\n", answer.length));
    }
    head.push_str("connection: close\r\n\r\n");
    stream.write_all(head.as_bytes())?;
    if method != "HEAD" {
        io::copy(&mut answer.body, &mut stream)?;
    }
    stream.flush()
}

fn reason(status: u16) -> &'static str {
    match status {
        200..300 => "OK",
        304 => "Not Modified",
        404 => "Not Found",
        _ => "Error",
    }
}
