//! Connections of programs: HTTP/1.1, kept open, one thread each.

use crate::answers::{Answer, Gateway, Trouble};
use crate::request::{self, LONGEST_HEAD, Read as Request};
use model::Ecosystem;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::collections::BTreeMap;
use std::io::{self, Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How often it is looked whether the step has ended.
const GLANCE: Duration = Duration::from_millis(50);
/// How many connections are served at once; the next ones wait.
const MOST_CONNECTIONS: usize = 64;
/// How long a program may take to read an answer, or to go on with a request.
const PATIENCE: Duration = Duration::from_secs(60);
/// The ending of the sums that Maven asks for beside files.
const SUM: &str = ".sha1";

impl Gateway<'_> {
    /// Serves connections until `ended`, then closes those that are open.
    pub fn serve(&self, listener: &TcpListener, ended: &AtomicBool) {
        let connections = Connections::default();
        std::thread::scope(|scope| {
            for number in 0_u64.. {
                let Some(stream) = next(listener, &connections, ended) else { break };
                if let Ok(handle) = stream.try_clone() {
                    connections.all().insert(number, handle);
                }
                let connections = &connections;
                scope.spawn(move || {
                    // A program that hangs up in the middle is not waited for.
                    let _ = self.connection(&stream);
                    // Another handle is kept, so that dropping this one would leave it open.
                    let _ = stream.shutdown(Shutdown::Both);
                    connections.all().remove(&number);
                });
            }
            for stream in connections.all().values() {
                // One that is closed already stays closed.
                let _ = stream.shutdown(Shutdown::Both);
            }
        });
    }

    fn connection(&self, mut stream: &TcpStream) -> io::Result<()> {
        stream.set_read_timeout(Some(PATIENCE))?;
        stream.set_write_timeout(Some(PATIENCE))?;
        stream.set_nodelay(true)?;
        let mut waiting = Vec::new();
        let mut piece = [0; LONGEST_HEAD];
        loop {
            match request::read(&waiting) {
                Request::Partial => match stream.read(&mut piece)? {
                    0 => return Ok(()),
                    count => waiting.extend_from_slice(&piece[..count]),
                },
                Request::Refused(status, asked) => {
                    self.note(Trouble::Refused(asked));
                    return head(stream, status, 0, None);
                }
                Request::Whole(request, length) => {
                    waiting.drain(..length);
                    self.give(stream, &request)?;
                    if !request.stays {
                        return Ok(());
                    }
                }
            }
        }
    }

    fn give(&self, mut stream: &TcpStream, request: &request::Request) -> io::Result<()> {
        let request::Request { kind, path, head_only, .. } = request;
        // Sums are made here: they are of what is given.
        let is_maven = kind.split(':').next() == Some(Ecosystem::MAVEN.name());
        if let Some(file) = path.strip_suffix(SUM).filter(|_| is_maven) {
            return match self.answer(kind, file) {
                Answer::There { sha1, .. } => {
                    head(stream, 200, sha1.len() as u64, None)?;
                    if *head_only { Ok(()) } else { stream.write_all(sha1.as_bytes()) }
                }
                Answer::NotThere => head(stream, 404, 0, None),
                Answer::Withheld(status) => head(stream, status, 0, None),
            };
        }
        match self.answer(kind, path) {
            Answer::There { digest, size, sha1 } => {
                if let Some(document) = self.led_through(kind, digest, size) {
                    head(stream, 200, document.len() as u64, None)?;
                    return if *head_only { Ok(()) } else { stream.write_all(&document) };
                }
                let mut file = self.open(digest)?;
                head(stream, 200, size, Some(&sha1))?;
                if !head_only {
                    io::copy(&mut file, &mut stream)?;
                }
                Ok(())
            }
            Answer::NotThere => head(stream, 404, 0, None),
            Answer::Withheld(status) => head(stream, status, 0, None),
        }
    }
}

/// The connections that are open.
#[derive(Default)]
struct Connections(Mutex<BTreeMap<u64, TcpStream>>);

impl Connections {
    fn all(&self) -> MutexGuard<'_, BTreeMap<u64, TcpStream>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The next connection, as soon as there is room for it; nothing when the step has ended.
fn next(listener: &TcpListener, connections: &Connections, ended: &AtomicBool) -> Option<TcpStream> {
    while !ended.load(Ordering::Relaxed) {
        if connections.all().len() >= MOST_CONNECTIONS {
            std::thread::sleep(GLANCE);
        } else if is_asked(listener)
            && let Ok((stream, _)) = listener.accept()
        {
            return Some(stream);
        }
    }
    None
}

/// Whether a connection waits; after a while, that none does.
fn is_asked(listener: &TcpListener) -> bool {
    let mut descriptors = [PollFd::new(listener, PollFlags::IN)];
    let glance = Timespec { tv_sec: 0, tv_nsec: i64::from(GLANCE.subsec_nanos()) };
    poll(&mut descriptors, Some(&glance)).is_ok_and(|ready| ready > 0)
}

fn head(mut stream: &TcpStream, status: u16, length: u64, sha1: Option<&str>) -> io::Result<()> {
    let reason = match status {
        200 => "OK",
        404 => "Not Found",
        _ => "Refused",
    };
    // Maven compares this one, and asks for no file with a sum.
    let sum = sha1.map(|sum| format!("X-Checksum-SHA1: {sum}\r\n")).unwrap_or_default();
    write!(stream, "HTTP/1.1 {status} {reason}\r\nContent-Length: {length}\r\n{sum}\r\n")
}

#[cfg(test)]
mod tests {
    use crate::{Gateway, Source, Trouble};
    use content::digest::Sha256;
    use content::store::Store;
    use model::fetched::FetchedAnswer;
    use remote::{Address, Fetcher, Network};
    use std::fs;
    use std::io::{Read, Write};
    use std::net::{TcpListener, TcpStream};
    use std::path::Path;
    use std::sync::atomic::{AtomicBool, Ordering};

    /// What a gateway that gives the files of a folder says to `requests`, one after the other on one connection.
    fn said(
        folder: &Path,
        pinned: &[FetchedAnswer],
        (records, most): (bool, Option<u64>),
        requests: &[&str],
    ) -> (String, Vec<FetchedAnswer>, Vec<Trouble>) {
        let store = Store::open(&folder.join("store")).unwrap();
        let fetcher = Fetcher::new(Network::Forbidden);
        let address = Address::Folder(folder.join("packages"));
        let gateway = Gateway::new(
            &fetcher,
            &store,
            vec![Source { kind: "maven".to_owned(), address }],
            pinned,
            records,
            most,
        );
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let ended = AtomicBool::new(false);
        let text = std::thread::scope(|scope| {
            scope.spawn(|| gateway.serve(&listener, &ended));
            let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
            stream.set_read_timeout(Some(std::time::Duration::from_secs(5))).unwrap();
            let last = requests.len() - 1;
            for (number, request) in requests.iter().enumerate() {
                let close = if number == last { "Connection: close\r\n" } else { "" };
                write!(stream, "{request} HTTP/1.1\r\n{close}\r\n").unwrap();
            }
            let mut text = String::new();
            let read = stream.read_to_string(&mut text);
            ended.store(true, Ordering::Relaxed);
            read.map(|_| text)
        })
        .unwrap();
        (text, gateway.recorded("").answers, gateway.take_troubles())
    }

    fn world() -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir_all(folder.path().join("packages/org")).unwrap();
        fs::write(folder.path().join("packages/org/fog.pom"), "fog").unwrap();
        fs::write(folder.path().join("secret"), "hunter2").unwrap();
        folder
    }

    fn fog(content: &str) -> FetchedAnswer {
        FetchedAnswer {
            from: "maven".to_owned(),
            path: "org/fog.pom".to_owned(),
            size: content.len() as u64,
            sha256: Some(Sha256::of(content.as_bytes()).hex()),
        }
    }

    #[test]
    fn what_is_fetched_is_recorded_with_what_is_not_there() {
        let world = world();
        let asked = [
            "GET /maven/org/fog.pom",
            "HEAD /maven/org/fog.pom",
            "GET /maven/org/fog.pom.sha1",
            "GET /maven/org/horn.pom",
        ];
        let (text, recorded, troubles) = said(world.path(), &[], (true, None), &asked);
        assert_eq!(text.matches("HTTP/1.1 200").count(), 3, "{text}");
        assert_eq!(text.matches("HTTP/1.1 404").count(), 1, "{text}");
        assert!(
            text.contains("X-Checksum-SHA1: dfebbda7af1818533fe8a1d00f8e98724fdaa809\r\n\r\nfogHTTP"),
            "{text}"
        );
        let nothing = FetchedAnswer {
            from: "maven".to_owned(),
            path: "org/horn.pom".to_owned(),
            size: 0,
            sha256: None,
        };
        assert_eq!(recorded, [fog("fog"), nothing]);
        assert!(troubles.is_empty(), "{troubles:?}");
    }

    #[test]
    fn what_is_pinned_is_compared_and_nothing_else_is_given() {
        let world = world();
        let asked = ["GET /maven/org/fog.pom", "GET /maven/org/horn.pom"];
        let (text, _, troubles) = said(world.path(), &[fog("fog")], (false, None), &asked);
        assert!(text.ends_with("fogHTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n"), "{text}");
        assert!(matches!(&troubles[..], [Trouble::NotPinned(name)] if name == "maven/org/horn.pom"));
        let other = self::world();
        let (text, _, troubles) = said(other.path(), &[fog("mist")], (false, None), &asked[..1]);
        assert!(text.starts_with("HTTP/1.1 502"), "{text}");
        assert!(matches!(&troubles[..], [Trouble::Failed(_)]), "{troubles:?}");
    }

    #[test]
    fn many_connections_leave_nothing_open_and_those_that_say_nothing_end_with_the_step() {
        let world = world();
        let store = Store::open(&world.path().join("store")).unwrap();
        let fetcher = Fetcher::new(Network::Forbidden);
        let gateway = Gateway::new(&fetcher, &store, Vec::new(), &[], true, None);
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let ended = AtomicBool::new(false);
        let descriptors = || fs::read_dir("/proc/self/fd").unwrap().count();
        let before = descriptors();
        std::thread::scope(|scope| {
            scope.spawn(|| gateway.serve(&listener, &ended));
            for _ in 0..200 {
                let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
                write!(stream, "POST / HTTP/1.1\r\n\r\n").unwrap();
                stream.read_to_end(&mut Vec::new()).unwrap();
            }
            let silent: Vec<_> = (0..100).map(|_| TcpStream::connect(("127.0.0.1", port)).unwrap()).collect();
            ended.store(true, Ordering::Relaxed);
            drop(silent);
        });
        assert!(descriptors() < before + 50, "{} after {before}", descriptors());
    }

    #[test]
    fn no_more_is_fetched_than_a_step_may() {
        let world = world();
        let asked = ["GET /maven/org/fog.pom"];
        let (text, _, troubles) = said(world.path(), &[], (true, Some(3)), &asked);
        assert!(text.ends_with("fog") && troubles.is_empty(), "{text} {troubles:?}");
        let (text, recorded, troubles) = said(self::world().path(), &[], (true, Some(2)), &asked);
        assert!(text.starts_with("HTTP/1.1 502") && recorded.is_empty(), "{text}");
        assert!(matches!(troubles[..], [Trouble::TooMuch]), "{troubles:?}");
    }

    #[test]
    fn nothing_outside_of_the_address_is_given() {
        let world = world();
        for asked in [
            "GET /maven/../secret",
            "GET /npm/fog",
            "POST /maven/org/fog.pom",
            "GET http://x/maven/org/fog.pom",
        ] {
            let (text, recorded, troubles) = said(world.path(), &[], (true, None), &[asked]);
            assert!(text.starts_with("HTTP/1.1 40"), "{asked}: {text}");
            assert!(!text.contains("hunter2") && recorded.is_empty(), "{asked}");
            assert_eq!(troubles.len(), 1, "{asked}: {troubles:?}");
        }
    }
}
