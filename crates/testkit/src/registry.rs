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
    /// What is sent.
    pub body: Vec<u8>,
    /// The connection is cut after this many bytes of the body.
    pub cut_after: Option<usize>,
    /// How long to wait before answering.
    pub delay: Duration,
}

impl Reply {
    /// Success with this body.
    pub fn of(body: impl Into<Vec<u8>>) -> Self {
        Self { status: 200, body: body.into(), cut_after: None, delay: Duration::ZERO }
    }

    /// This status with an empty body.
    pub fn status(status: u16) -> Self {
        Self { status, ..Self::of("") }
    }
}

type Answers = BTreeMap<String, Vec<Reply>>;

/// A server on this machine that gives prepared answers.
pub struct Registry {
    port: u16,
    answers: Arc<Mutex<Answers>>,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Registry {
    /// Starts without answers: everything is "not found".
    pub fn start() -> Self {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).expect("a port of this machine");
        let port = listener.local_addr().expect("it is bound").port();
        let (answers, asked) = (Arc::new(Mutex::new(Answers::new())), Arc::new(Mutex::new(Vec::new())));
        let (known, noted) = (Arc::clone(&answers), Arc::clone(&asked));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (known, noted) = (Arc::clone(&known), Arc::clone(&noted));
                // A client that goes away in the middle is part of some tests.
                std::thread::spawn(move || drop(serve(&stream, &known, &noted)));
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

    /// How often `path` was asked for.
    pub fn count(&self, path: &str) -> usize {
        self.asked
            .lock()
            .expect("no test panics while it holds the lock")
            .iter()
            .filter(|p| *p == path)
            .count()
    }
}

fn serve(stream: &TcpStream, answers: &Mutex<Answers>, asked: &Mutex<Vec<String>>) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    loop {
        let mut request = String::new();
        if reader.read_line(&mut request)? == 0 {
            return Ok(());
        }
        let mut header = String::new();
        while reader.read_line(&mut header)? > 0 && header != "\r\n" {
            header.clear();
        }
        let path = request.split(' ').nth(1).unwrap_or_default().to_owned();
        let reply = next_reply(&path, answers);
        if let Ok(mut asked) = asked.lock() {
            asked.push(path);
        }
        std::thread::sleep(reply.delay);
        let mut stream = stream;
        write!(stream, "HTTP/1.1 {} stand-in\r\ncontent-length: {}\r\n\r\n", reply.status, reply.body.len())?;
        stream.write_all(&reply.body[..reply.cut_after.unwrap_or(reply.body.len())])?;
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
