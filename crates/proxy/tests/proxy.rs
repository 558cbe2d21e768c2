//! The proxy between real connections.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use proxy::{Backends, Picked, Proxies, Served};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// Backends that can be changed while requests come.
#[derive(Default)]
struct Changing(Mutex<Option<proxy::Connect>>, Arc<()>);

impl Changing {
    fn lead_to(&self, address: Option<SocketAddr>) {
        let connect = |address| -> proxy::Connect { Arc::new(move || TcpStream::connect(address)) };
        *self.0.lock().unwrap() = address.map(connect);
    }
}

impl Backends for Changing {
    fn pick(&self) -> Option<Picked> {
        let connect = self.0.lock().unwrap().clone()?;
        Some(Picked { connect, lease: Arc::clone(&self.1) as _ })
    }
}

/// The head of a request, lower case.
fn head(stream: &mut impl BufRead) -> Option<String> {
    let mut head = String::new();
    loop {
        let mut line = String::new();
        if stream.read_line(&mut line).ok()? == 0 {
            return None;
        }
        if line == "\r\n" {
            return Some(head.to_lowercase());
        }
        head.push_str(&line);
    }
}

/// A backend that answers `name` and what it was asked, and closes each connection after `most` requests.
fn backend(name: &'static str, most: usize) -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (address, connections) = (listener.local_addr().unwrap(), Arc::new(AtomicUsize::new(0)));
    let counted = Arc::clone(&connections);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            counted.fetch_add(1, Ordering::SeqCst);
            std::thread::spawn(move || {
                let mut stream = BufReader::new(stream);
                for _ in 0..most {
                    let Some(head) = head(&mut stream) else { return };
                    let body = format!("{name}\n{head}");
                    let answer = format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n{body}", body.len());
                    stream.get_mut().write_all(answer.as_bytes()).unwrap();
                }
            });
        }
    });
    (address, connections)
}

struct Front {
    address: SocketAddr,
    backends: Arc<Changing>,
    _served: Served,
    _proxies: Proxies,
}

fn front() -> Front {
    let proxies = Proxies::start().unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (address, backends) = (listener.local_addr().unwrap(), Arc::new(Changing::default()));
    let served = proxies.serve(vec![listener], Arc::clone(&backends) as _).unwrap();
    Front { address, backends, _served: served, _proxies: proxies }
}

/// The answer to one more request on a connection: its status line, and its body.
fn ask(stream: &mut BufReader<TcpStream>, request: &str) -> (String, String) {
    stream.get_mut().write_all(request.as_bytes()).unwrap();
    let head = head(stream).unwrap();
    let length = head.lines().find_map(|line| line.strip_prefix("content-length: ")).unwrap();
    let mut body = vec![0; length.trim().parse().unwrap()];
    stream.read_exact(&mut body).unwrap();
    (head.lines().next().unwrap().to_owned(), String::from_utf8(body).unwrap())
}

const GET: &str = "GET /tides HTTP/1.1\r\nHost: ferry.example\r\nX-Forwarded-For: 10.0.0.1\r\nConnection: keep-alive\r\n\r\n";

#[test]
fn a_backend_learns_who_asks_and_connections_are_kept() {
    let front = front();
    let (address, connections) = backend("one", usize::MAX);
    front.backends.lead_to(Some(address));
    let mut client = BufReader::new(TcpStream::connect(front.address).unwrap());
    for _ in 0..20 {
        let (status, body) = ask(&mut client, GET);
        assert_eq!(status, "http/1.1 200 ok");
        assert!(
            body.starts_with("one\nget /tides http/1.1\n")
                || body.starts_with("one\nget /tides http/1.1\r\n")
        );
        assert!(body.contains("host: ferry.example"), "{body}");
        assert!(body.contains("x-forwarded-for: 10.0.0.1, 127.0.0.1"), "{body}");
        assert!(!body.contains("connection:"), "{body}");
    }
    assert!(connections.load(Ordering::SeqCst) < 20, "they are used again");
}

#[test]
fn a_change_of_backends_loses_no_request() {
    let front = front();
    // Each closes its connections after a while, at a moment of its own choice.
    let addresses = [backend("one", 7).0, backend("two", 5).0];
    front.backends.lead_to(Some(addresses[0]));
    let asked = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let mut client = BufReader::new(TcpStream::connect(front.address).unwrap());
                for _ in 0..250 {
                    assert_eq!(ask(&mut client, GET).0, "http/1.1 200 ok");
                    asked.fetch_add(1, Ordering::SeqCst);
                }
            });
        }
        for turn in 0..50 {
            front.backends.lead_to(Some(addresses[turn % 2]));
            std::thread::sleep(Duration::from_millis(2));
        }
    });
    assert_eq!(asked.load(Ordering::SeqCst), 1000);
}

#[test]
fn a_request_is_held_until_a_backend_is_ready() {
    let front = front();
    let (address, _) = backend("late", usize::MAX);
    let asking = std::thread::spawn(move || {
        let mut client = BufReader::new(TcpStream::connect(front.address).unwrap());
        ask(&mut client, GET).1
    });
    std::thread::sleep(Duration::from_millis(100));
    assert!(!asking.is_finished());
    front.backends.lead_to(Some(address));
    assert!(asking.join().unwrap().starts_with("late\n"));
}

#[test]
fn bodies_go_both_ways_and_a_lease_lasts_until_the_end() {
    let front = front();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    front.backends.lead_to(Some(listener.local_addr().unwrap()));
    let mut client = TcpStream::connect(front.address).unwrap();
    let body = vec![b'x'; 1 << 20];
    let head_of = format!("POST / HTTP/1.1\r\nHost: x\r\nContent-Length: {}\r\n\r\n", body.len());
    client.write_all(head_of.as_bytes()).unwrap();
    std::thread::scope(|scope| {
        scope.spawn(|| client.try_clone().unwrap().write_all(&body).unwrap());
        let mut stream = BufReader::new(listener.accept().unwrap().0);
        assert!(head(&mut stream).unwrap().contains("content-length: 1048576"));
        let mut got = vec![0; body.len()];
        stream.read_exact(&mut got).unwrap();
        assert!(got == body);
        stream
            .get_mut()
            .write_all(b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n3\r\nfog\r\n")
            .unwrap();
        let mut client = BufReader::new(client.try_clone().unwrap());
        assert!(head(&mut client).unwrap().contains("transfer-encoding: chunked"));
        assert!(Arc::strong_count(&front.backends.1) > 1, "it is under way");
        stream.get_mut().write_all(b"0\r\n\r\n").unwrap();
        let mut rest = String::new();
        while !rest.ends_with("0\r\n\r\n") {
            let mut byte = [0];
            client.read_exact(&mut byte).unwrap();
            rest.push(char::from(byte[0]));
        }
        assert_eq!(rest, "3\r\nfog\r\n0\r\n\r\n");
    });
    let mut tries = 0..500;
    while Arc::strong_count(&front.backends.1) > 1 && tries.next().is_some() {
        std::thread::sleep(Duration::from_millis(2));
    }
    assert_eq!(Arc::strong_count(&front.backends.1), 1, "it is over");
}

#[test]
fn protocols_can_be_changed() {
    let front = front();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    front.backends.lead_to(Some(listener.local_addr().unwrap()));
    let mut client = BufReader::new(TcpStream::connect(front.address).unwrap());
    let request = b"GET / HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: horn\r\n\r\n";
    client.get_mut().write_all(request).unwrap();
    let mut stream = BufReader::new(listener.accept().unwrap().0);
    let asked = head(&mut stream).unwrap();
    assert!(asked.contains("upgrade: horn") && asked.contains("connection: upgrade"), "{asked}");
    stream.get_mut().write_all(b"HTTP/1.1 101 X\r\nConnection: Upgrade\r\nUpgrade: horn\r\n\r\n").unwrap();
    assert!(head(&mut client).unwrap().starts_with("http/1.1 101"));
    client.get_mut().write_all(b"short\n").unwrap();
    let mut line = String::new();
    stream.read_line(&mut line).unwrap();
    stream.get_mut().write_all(b"long\n").unwrap();
    line.clear();
    client.read_line(&mut line).unwrap();
    assert_eq!(line, "long\n");
}

#[test]
fn a_request_that_breaks_its_connection_is_repeated_once_at_most() {
    let front = front();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    front.backends.lead_to(Some(listener.local_addr().unwrap()));
    let asked = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&asked);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            // It reads the request, and ends without an answer.
            counted.fetch_add(usize::from(head(&mut BufReader::new(stream)).is_some()), Ordering::SeqCst);
        }
    });
    let mut client = BufReader::new(TcpStream::connect(front.address).unwrap());
    assert_eq!(ask(&mut client, GET).0, "http/1.1 502 bad gateway");
    assert_eq!(asked.swap(0, Ordering::SeqCst), 2);
    let post = "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n";
    assert_eq!(ask(&mut client, post).0, "http/1.1 502 bad gateway");
    assert_eq!(asked.load(Ordering::SeqCst), 1);
}

#[test]
fn a_backend_always_learns_a_host() {
    let front = front();
    front.backends.lead_to(Some(backend("one", usize::MAX).0));
    let mut client = BufReader::new(TcpStream::connect(front.address).unwrap());
    let old = "GET / HTTP/1.0\r\nConnection: keep-alive\r\n\r\n";
    assert!(ask(&mut client, old).1.contains("host: localhost"));
    let whole = "GET http://pier.example/x HTTP/1.1\r\nHost: other.example\r\n\r\n";
    let body = ask(&mut client, whole).1;
    assert!(body.starts_with("one\nget /x http/1.1") && body.contains("host: pier.example"), "{body}");
}
