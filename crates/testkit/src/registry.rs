//! A loopback stand-in for a registry, which can also lie.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// One answer.
#[derive(Debug, Clone)]
pub struct Reply {
    /// The HTTP status code.
    pub status: u16,
    /// Header lines.
    pub headers: Vec<String>,
    /// What is sent.
    pub body: Vec<u8>,
    /// The connection is cut after this many bytes of the body.
    pub cut_after: Option<usize>,
    /// After this many bytes of the body, nothing more comes, and the connection stays open.
    pub silent_after: Option<usize>,
    /// How long to wait before answering.
    pub delay: Duration,
}

impl Reply {
    /// Success with this body.
    pub fn of(body: impl Into<Vec<u8>>) -> Self {
        Self {
            status: 200,
            headers: Vec::new(),
            body: body.into(),
            cut_after: None,
            silent_after: None,
            delay: Duration::ZERO,
        }
    }

    /// The same with another header line.
    pub fn with(mut self, header: &str) -> Self {
        self.headers.push(header.to_owned());
        self
    }

    /// This status with an empty body.
    pub fn status(status: u16) -> Self {
        Self { status, ..Self::of("") }
    }
}

type Answers = BTreeMap<String, Vec<Reply>>;

/// Decides about a request (its first line, then its headers in lower case) before prepared answers do.
type Guard = Box<dyn Fn(&[String]) -> Option<Reply> + Send + Sync>;

/// A server on this machine that gives prepared answers.
pub struct Registry {
    port: u16,
    answers: Arc<Mutex<Answers>>,
    asked: Arc<Mutex<Vec<Vec<String>>>>,
}

impl Registry {
    /// Starts without answers: everything is "not found".
    pub fn start() -> Self {
        Self::guarded(|_| None)
    }

    /// Starts with a guard, which sees each request (its first line, then its headers in lower case)
    /// before the prepared answers do.
    pub fn guarded(guard: impl Fn(&[String]) -> Option<Reply> + Send + Sync + 'static) -> Self {
        let guard: Arc<Guard> = Arc::new(Box::new(guard));
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).expect("a port of this machine");
        let port = listener.local_addr().expect("it is bound").port();
        let (answers, asked) = (Arc::new(Mutex::new(Answers::new())), Arc::new(Mutex::new(Vec::new())));
        let (known, noted) = (Arc::clone(&answers), Arc::clone(&asked));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (known, noted, guard) = (Arc::clone(&known), Arc::clone(&noted), Arc::clone(&guard));
                // A client that goes away in the middle is part of some tests.
                std::thread::spawn(move || drop(serve(&stream, &known, &noted, &guard)));
            }
        });
        Self { port, answers, asked }
    }

    /// The URL of the root.
    pub fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// Answers `path` with these replies in turn; the last one again and again.
    pub fn answer(&self, path: &str, replies: Vec<Reply>) {
        self.answers.lock().expect("no test panics while it holds the lock").insert(path.to_owned(), replies);
    }

    /// The address without its scheme.
    pub fn host(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    /// How often `path` was asked for.
    pub fn count(&self, path: &str) -> usize {
        self.requests(path).len()
    }

    /// The requests for `path`: the first line of each, then its headers in lower case.
    pub fn requests(&self, path: &str) -> Vec<Vec<String>> {
        let asked = self.asked.lock().expect("no test panics while it holds the lock");
        asked.iter().filter(|request| path_of(&request[0]) == path).cloned().collect()
    }
}

fn path_of(request: &str) -> &str {
    request.split(' ').nth(1).unwrap_or_default()
}

fn serve(
    stream: &TcpStream,
    answers: &Mutex<Answers>,
    asked: &Mutex<Vec<Vec<String>>>,
    guard: &Guard,
) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    loop {
        let mut request = Vec::new();
        loop {
            let mut line = String::new();
            if reader.read_line(&mut line)? == 0 {
                return Ok(());
            }
            match line.trim_end() {
                "" => break,
                line if request.is_empty() => request.push(line.to_owned()),
                line => request.push(line.to_lowercase()),
            }
        }
        let reply = guard(&request).unwrap_or_else(|| next_reply(path_of(&request[0]), answers));
        if let Ok(mut asked) = asked.lock() {
            asked.push(request);
        }
        std::thread::sleep(reply.delay);
        let mut stream = stream;
        let headers: String = reply.headers.iter().map(|line| format!("{line}\r\n")).collect();
        let length = reply.body.len();
        write!(stream, "HTTP/1.1 {} stand-in\r\n{headers}content-length: {length}\r\n\r\n", reply.status)?;
        stream.write_all(&reply.body[..reply.cut_after.or(reply.silent_after).unwrap_or(length)])?;
        if reply.silent_after.is_some() {
            // The client's turn: it goes away when it has waited long enough.
            return reader.read_line(&mut String::new()).map(drop);
        }
        if reply.cut_after.is_some() {
            return stream.shutdown(std::net::Shutdown::Both);
        }
    }
}

fn next_reply(path: &str, answers: &Mutex<Answers>) -> Reply {
    let Ok(mut answers) = answers.lock() else { return Reply::status(500) };
    match answers.get_mut(path).map(Vec::as_mut_slice) {
        Some([only]) => only.clone(),
        Some([_, ..]) => {
            answers.get_mut(path).map_or_else(|| Reply::status(500), |replies| replies.remove(0))
        }
        _ => Reply::status(404),
    }
}
