use super::*;
use crate::result::tests::{key, produced, signer};
use objects::Server;
use objects::signature::Key;
use remote::Network;
use std::fs;
use std::net::{Ipv4Addr, TcpListener};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A bucket on this machine.
struct Objects {
    port: u16,
    folder: PathBuf,
    _server: Server,
}

fn objects(place: &Path) -> Objects {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    let key = Key { id: "ferry".to_owned(), secret: "tide".to_owned() };
    let folder = place.join("objects");
    let server = Server::start(listener, &folder, key, "steps").unwrap();
    Objects { port, folder, _server: server }
}

fn shared(port: u16, store: &Arc<Store>, keys: (Vec<PublicKey>, Option<PrivateKey>)) -> SharedStore {
    let place = format!("s3:http://127.0.0.1:{port}/steps").parse().unwrap();
    let key = BucketKey { id: "ferry".to_owned(), secret: "tide".to_owned(), region: "harbour".to_owned() };
    let fetcher = Fetcher::new(Network::Allowed).with_silence_limit(Duration::from_millis(500));
    let credentials = Arc::new(CredentialFiles { files: Vec::new(), search: Vec::new() });
    SharedStore::new((place, Some(key)), (fetcher, credentials), Arc::clone(store), keys)
}

fn store(place: &Path, name: &str) -> Arc<Store> {
    Arc::new(Store::open(&place.join(name)).unwrap())
}

/// A server with the result of the step `tides`, signed by the key that is given with it.
fn filled(place: &Path) -> (Objects, PrivateKey) {
    let (objects, own) = (objects(place), signer());
    let first = store(place, "first");
    first.put_blob(b"water").unwrap();
    // A key signs once and is read again, since it cannot be copied.
    let (private, _) = evidence::make(evidence::KeyKind::Ed25519, None).unwrap();
    let read = || PrivateKey::read(&private, None).unwrap();
    let sharing = shared(objects.port, &first, (Vec::new(), Some(read())));
    sharing.offer(key("tides"), &produced(b"water"), 1_500);
    sharing.finish();
    assert_eq!((sharing.statistics().sent, sharing.statistics().bytes_sent), (1, 5));
    drop(own);
    (objects, read())
}

fn the_file(folder: &Path, holding: &[u8]) -> PathBuf {
    let bucket = folder.join("buckets/steps");
    let files = fs::read_dir(bucket).unwrap().map(|entry| entry.unwrap().path());
    let mut files = files.filter(|path| path.extension().is_none());
    files.find(|path| fs::read(path).unwrap().starts_with(holding)).unwrap()
}

#[test]
fn what_one_machine_made_another_one_has() {
    let place = tempfile::tempdir().unwrap();
    let (objects, signer) = filled(place.path());
    let second = store(place.path(), "second");
    let sharing = shared(objects.port, &second, (vec![signer.public()], None));
    assert_eq!(sharing.fetch(key("tides"), &second), Some((produced(b"water"), 1_500)));
    assert_eq!(second.read_blob(BlobDigest::of(b"water")).unwrap(), b"water");
    assert_eq!(sharing.fetch(key("fares"), &second), None);
    let statistics = sharing.statistics();
    assert_eq!((statistics.hits, statistics.misses, statistics.bytes_received), (1, 1, 5));
    assert_eq!((statistics.milliseconds_saved, sharing.troubles()), (1_500, Vec::new()));
}

#[test]
fn nothing_is_used_that_is_damaged_or_signed_by_a_stranger() {
    let place = tempfile::tempdir().unwrap();
    let (objects, own) = filled(place.path());
    let second = store(place.path(), "second");
    let stranger = shared(objects.port, &second, (vec![signer().public()], None));
    assert_eq!(stranger.fetch(key("tides"), &second), None);
    assert_eq!(stranger.troubles(), [Trouble::Refused { key: key("tides"), by_signature: true }]);
    fs::write(the_file(&objects.folder, b"water"), b"mud!!").unwrap();
    let sharing = shared(objects.port, &second, (vec![own.public()], None));
    assert_eq!(sharing.fetch(key("tides"), &second), None);
    assert_eq!(sharing.troubles(), [Trouble::Refused { key: key("tides"), by_signature: false }]);
    assert_eq!(second.blob_size(BlobDigest::of(b"water")), None);
    let document = the_file(&objects.folder, b"{\"payload\"");
    let changed = fs::read_to_string(&document).unwrap().replacen("\"payload\"", "\"payloaf\"", 1);
    fs::write(document, changed).unwrap();
    assert_eq!(sharing.fetch(key("tides"), &second), None);
    assert_eq!(sharing.statistics().refused, 2);
}

#[test]
fn a_server_that_is_down_or_silent_is_given_up_after_a_few_failures() {
    let place = tempfile::tempdir().unwrap();
    let own = store(place.path(), "own");
    let silent = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    let down = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap().local_addr().unwrap().port();
    for port in [silent.local_addr().unwrap().port(), down] {
        let sharing = shared(port, &own, (Vec::new(), Some(signer())));
        let begun = std::time::Instant::now();
        for step in 0..50 {
            assert_eq!(sharing.fetch(key(&step.to_string()), &own), None);
        }
        sharing.offer(key("tides"), &produced(b"water"), 1);
        sharing.finish();
        assert!(begun.elapsed() < Duration::from_secs(10));
        let troubles = sharing.troubles();
        assert!(matches!(
            troubles[..],
            [Trouble::Failed { .. }, Trouble::Failed { .. }, Trouble::GivenUp { .. }]
        ));
    }
}
