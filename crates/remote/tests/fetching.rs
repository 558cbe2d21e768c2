//! Fetching from servers that stall, never end or send too much.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use cancel::Cancel;
use remote::{Address, Fetcher, Network, RemoteError};
use std::io::Write;
use std::net::TcpListener;
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};
use testkit::registry::{Registry, Reply};

fn url(text: &str) -> Address {
    Address::parse(text, Path::new("/"))
}

#[test]
fn a_body_that_stalls_is_asked_for_again_from_where_it_ended() {
    let registry = Registry::start();
    let whole = b"buoys, ropes and bells".to_vec();
    let stalled = Reply { silent_after: Some(7), ..Reply::of(whole.clone()) };
    let mut rest = Reply::of(&whole[7..]).with("content-range: bytes 7-21/22");
    rest.status = 206;
    registry.answer("/buoys", vec![stalled, rest]);

    let fetcher = Fetcher::new(Network::Allowed).with_silence_limit(Duration::from_millis(100));
    let got = fetcher.get_into(&url(&format!("{}/buoys", registry.url())), || Ok(Vec::new())).unwrap();
    assert_eq!(got, whole);
    let asked = registry.requests("/buoys");
    assert!(asked[1].contains(&"range: bytes=7-".to_owned()), "{asked:?}");
}

#[test]
fn a_document_that_stalls_is_asked_for_again() {
    let registry = Registry::start();
    let stalled = Reply { silent_after: Some(1), ..Reply::of("{}") };
    registry.answer("/buoy", vec![stalled, Reply::of("{}")]);
    let fetcher = Fetcher::new(Network::Allowed).with_silence_limit(Duration::from_millis(100));
    assert_eq!(fetcher.get(&url(&format!("{}/buoy", registry.url())), "*/*").unwrap(), b"{}");
}

#[test]
fn a_cancelled_fetch_ends_at_once_wherever_it_waits() {
    let registry = Registry::start();
    registry.answer("/body", vec![Reply { silent_after: Some(1), ..Reply::of("{}") }]);
    registry.answer("/answer", vec![Reply { delay: Duration::from_secs(30), ..Reply::of("{}") }]);
    registry.answer("/pause", vec![Reply::status(503).with("retry-after: 30")]);
    for path in ["/body", "/answer", "/pause"] {
        let cancel = Cancel::new();
        let fetcher = Fetcher::new(Network::Allowed).with_cancel(cancel.clone());
        let address = url(&format!("{}{path}", registry.url()));
        let fetching = thread::spawn(move || fetcher.get(&address, "*/*"));
        while registry.count(path) == 0 {
            thread::sleep(Duration::from_millis(5));
        }
        thread::sleep(Duration::from_millis(50));
        let cancelled = Instant::now();
        cancel.cancel();
        let ended = fetching.join().unwrap();
        assert!(matches!(ended, Err(RemoteError::Cancelled)), "{path}: {ended:?}");
        // A limit of the behaviour, not a measurement: without the token these wait for 20 seconds and more.
        assert!(cancelled.elapsed() < Duration::from_secs(5), "{path}: {:?}", cancelled.elapsed());
    }
}

#[test]
fn a_document_without_end_is_refused() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/buoy", listener.local_addr().unwrap());
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let head = "HTTP/1.1 200 stand-in\r\nconnection: close\r\n\r\n";
            let block = vec![b' '; 1 << 20];
            let _ = stream.write_all(head.as_bytes());
            while stream.write_all(&block).is_ok() {}
        }
    });
    let ended = Fetcher::new(Network::Allowed).get(&url(&address), "*/*");
    assert!(matches!(ended, Err(RemoteError::TooLarge { .. })), "{:?}", ended.map(|bytes| bytes.len()));
}
