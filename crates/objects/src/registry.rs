//! A small registry of images (OCI distribution specification 1.1) over a folder, without logins: for the demo, and for
//! trying out on one machine what a registry does.

use crate::answers::Answer;
use crate::http::{Accepting, Head};
use content::BlobDigest;
use content::digest::HashingReader;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read};
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// The largest manifest, in bytes.
const LARGEST_MANIFEST: u64 = 4 << 20;
const INDEX: &str = "application/vnd.oci.image.index.v1+json";

/// A running registry; it ends when this is dropped.
pub struct RegistryServer(Accepting);

impl RegistryServer {
    /// Keeps blobs in `folder`, which has to be there; what it has of an earlier run is not looked for.
    pub fn start(listener: TcpListener, folder: &Path) -> io::Result<Self> {
        let served = Served { folder: folder.to_owned(), state: Mutex::default() };
        Accepting::start(listener, Arc::new(move |head, body| served.serve(head, body))).map(Self)
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.0.address()
    }
}

/// A manifest with its media type.
type Manifest = (String, Vec<u8>);

#[derive(Default)]
struct State {
    /// Blobs of each repository.
    blobs: BTreeMap<String, BTreeSet<BlobDigest>>,
    /// By repository, and tag or digest.
    manifests: BTreeMap<(String, String), Manifest>,
    uploads: u64,
}

struct Served {
    folder: PathBuf,
    state: Mutex<State>,
}

/// A request, taken apart.
struct Request<'a> {
    method: &'a str,
    query: BTreeMap<&'a str, String>,
    content_type: &'a str,
}

impl Served {
    fn serve(&self, head: &Head, body: &mut dyn Read) -> Answer {
        self.answer(head, body).unwrap_or_else(|_| Answer::empty(500))
    }

    fn answer(&self, head: &Head, body: &mut dyn Read) -> io::Result<Answer> {
        let (path, query) = head.url.split_once('?').unwrap_or((&head.url, ""));
        let pairs = query.split('&').filter_map(|pair| pair.split_once('='));
        let content_type = head.headers.iter().find(|(name, _)| name == "content-type");
        let request = Request {
            method: &head.method,
            query: pairs.map(|(name, value)| (name, value.replace("%3A", ":").replace("%2F", "/"))).collect(),
            content_type: content_type.map_or("", |(_, value)| value),
        };
        let Some(rest) = path.strip_prefix("/v2/") else { return Ok(Answer::empty(404)) };
        if rest.is_empty() {
            return Ok(Answer::empty(200));
        }
        if let Some((name, upload)) = rest.split_once("/blobs/uploads/") {
            return self.upload(&request, name, upload, body);
        }
        if let Some((name, digest)) = rest.split_once("/blobs/") {
            return self.blob(name, digest);
        }
        if let Some((name, subject)) = rest.split_once("/referrers/") {
            return Ok(self.referrers(name, subject));
        }
        match rest.split_once("/manifests/") {
            Some((name, target)) if request.method == "PUT" => {
                self.put_manifest(name, target, request.content_type, body)
            }
            Some((name, target)) => Ok(self.manifest(name, target)),
            None => Ok(Answer::empty(404)),
        }
    }

    fn with_state<T>(&self, act: impl FnOnce(&mut State) -> T) -> T {
        act(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn blob(&self, name: &str, digest: &str) -> io::Result<Answer> {
        let digest = digest.parse::<BlobDigest>().ok();
        let has = |digest: &BlobDigest| {
            self.with_state(|state| state.blobs.get(name).is_some_and(|own| own.contains(digest)))
        };
        let Some(digest) = digest.filter(has) else { return Ok(Answer::empty(404)) };
        let file = File::open(self.folder.join(digest.hex()))?;
        let length = file.metadata()?.len();
        Ok(Answer { body: Box::new(file), length, ..Answer::empty(200) })
    }

    fn upload(&self, request: &Request<'_>, name: &str, id: &str, body: &mut dyn Read) -> io::Result<Answer> {
        let location = |id: &str| format!("/v2/{name}/blobs/uploads/{id}");
        // An id is a number, so it is no path.
        let file = self.folder.join(format!("upload-{}", id.parse::<u64>().unwrap_or_default()));
        match request.method {
            "POST" => {
                if self.mount(request, name) {
                    return Ok(Answer::empty(201));
                }
                let id = self.with_state(|state| {
                    state.uploads += 1;
                    state.uploads.to_string()
                });
                File::create(self.folder.join(format!("upload-{id}")))?;
                Ok(Answer::empty(202).with("location", location(&id)))
            }
            "GET" => match fs::metadata(&file) {
                Ok(facts) => {
                    let range = format!("0-{}", facts.len().saturating_sub(1));
                    Ok(Answer::empty(204).with("location", location(id)).with("range", range))
                }
                Err(_) => Ok(Answer::empty(404)),
            },
            "PATCH" | "PUT" if !file.exists() => Ok(Answer::empty(404)),
            "PATCH" => {
                io::copy(body, &mut OpenOptions::new().append(true).open(&file)?)?;
                Ok(Answer::empty(202).with("location", location(id)))
            }
            "PUT" => {
                io::copy(body, &mut OpenOptions::new().append(true).open(&file)?)?;
                self.finish(request, name, &file)
            }
            _ => Ok(Answer::empty(405)),
        }
    }

    /// Takes a blob from another repository, if it is there.
    fn mount(&self, request: &Request<'_>, name: &str) -> bool {
        let Some(digest) = request.query.get("mount").and_then(|digest| digest.parse::<BlobDigest>().ok())
        else {
            return false;
        };
        self.with_state(|state| {
            let from = request.query.get("from").and_then(|from| state.blobs.get(from));
            let is_there = from.is_some_and(|own| own.contains(&digest));
            if is_there {
                state.blobs.entry(name.to_owned()).or_default().insert(digest);
            }
            is_there
        })
    }

    fn finish(&self, request: &Request<'_>, name: &str, file: &Path) -> io::Result<Answer> {
        let mut hashing = HashingReader::new(File::open(file)?);
        io::copy(&mut hashing, &mut io::sink())?;
        let digest = BlobDigest(hashing.finish());
        if request.query.get("digest") != Some(&digest.to_string()) {
            fs::remove_file(file)?;
            return Ok(Answer::empty(400));
        }
        fs::rename(file, self.folder.join(digest.hex()))?;
        self.with_state(|state| state.blobs.entry(name.to_owned()).or_default().insert(digest));
        Ok(Answer::empty(201))
    }

    fn put_manifest(
        &self,
        name: &str,
        target: &str,
        media_type: &str,
        body: &mut dyn Read,
    ) -> io::Result<Answer> {
        let mut bytes = Vec::new();
        body.take(LARGEST_MANIFEST).read_to_end(&mut bytes)?;
        let digest = BlobDigest::of(&bytes);
        if target.parse::<BlobDigest>().is_ok_and(|named| named != digest) {
            return Ok(Answer::empty(400));
        }
        let subject = document(&bytes)["subject"]["digest"].as_str().map(str::to_owned);
        self.with_state(|state| {
            for target in [target.to_owned(), digest.to_string()] {
                state.manifests.insert((name.to_owned(), target), (media_type.to_owned(), bytes.clone()));
            }
        });
        let answer = Answer::empty(201).with("docker-content-digest", digest.to_string());
        Ok(match subject {
            Some(subject) => answer.with("oci-subject", subject),
            None => answer,
        })
    }

    fn manifest(&self, name: &str, target: &str) -> Answer {
        let key = (name.to_owned(), target.to_owned());
        match self.with_state(|state| state.manifests.get(&key).cloned()) {
            Some((media_type, bytes)) => {
                let digest = BlobDigest::of(&bytes).to_string();
                json(&media_type, bytes).with("docker-content-digest", digest)
            }
            None => Answer::empty(404),
        }
    }

    /// What is attached to an image (section "Listing referrers").
    fn referrers(&self, name: &str, subject: &str) -> Answer {
        let listed: Vec<serde_json::Value> = self.with_state(|state| {
            let own = state
                .manifests
                .iter()
                .filter(|((own, target), _)| own == name && target.starts_with("sha256:"));
            own.filter_map(|((_, digest), (media_type, bytes))| {
                let document = document(bytes);
                (document["subject"]["digest"] == subject).then(|| {
                    serde_json::json!({
                        "mediaType": media_type, "digest": digest, "size": bytes.len(),
                        "artifactType": document["artifactType"],
                    })
                })
            })
            .collect()
        });
        let index = serde_json::json!({ "schemaVersion": 2, "mediaType": INDEX, "manifests": listed });
        json(INDEX, index.to_string().into_bytes())
    }
}

fn document(bytes: &[u8]) -> serde_json::Value {
    serde_json::from_slice(bytes).unwrap_or_default()
}

fn json(media_type: &str, bytes: Vec<u8>) -> Answer {
    let length = bytes.len() as u64;
    Answer { body: Box::new(io::Cursor::new(bytes)), length, ..Answer::empty(200) }
        .with("content-type", media_type)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn status(result: Result<ureq::http::Response<ureq::Body>, ureq::Error>) -> u16 {
        match result {
            Ok(answer) => answer.status().as_u16(),
            Err(ureq::Error::StatusCode(status)) => status,
            Err(error) => panic!("{error}"),
        }
    }

    #[test]
    fn blobs_and_manifests_are_kept_by_what_they_are() {
        let folder = tempfile::tempdir().unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let server = RegistryServer::start(listener, folder.path()).unwrap();
        let at = |path: &str| format!("http://{}/v2/{path}", server.address());
        let digest = BlobDigest::of(b"fog horn");
        let begun = ureq::post(at("ferry/blobs/uploads/")).send_empty().unwrap();
        let place = at(begun.headers()["location"].to_str().unwrap().trim_start_matches("/v2/"));
        assert_eq!(status(ureq::patch(&place).send(&b"fog "[..])), 202);
        assert_eq!(status(ureq::put(format!("{place}?digest={digest}")).send(&b"horn"[..])), 201);
        let mut got = ureq::get(at(&format!("ferry/blobs/{digest}"))).call().unwrap();
        assert_eq!(got.body_mut().read_to_string().unwrap(), "fog horn");
        assert_eq!(status(ureq::get(at(&format!("quay/blobs/{digest}"))).call()), 404);
        let mount = format!("quay/blobs/uploads/?mount={digest}&from=ferry");
        assert_eq!(status(ureq::post(at(&mount)).send_empty()), 201);
        // What does not have its digest is not taken.
        let begun = ureq::post(at("ferry/blobs/uploads/")).send_empty().unwrap();
        let place = at(begun.headers()["location"].to_str().unwrap().trim_start_matches("/v2/"));
        assert_eq!(status(ureq::put(format!("{place}?digest={digest}")).send(&b"other"[..])), 400);

        let named = format!("ferry/manifests/{digest}");
        assert_eq!(status(ureq::put(at(&named)).send(&b"{}"[..])), 400, "its content has another digest");

        let attached = format!(r#"{{"subject":{{"digest":"{digest}"}},"artifactType":"a/b"}}"#);
        assert_eq!(status(ureq::put(at("ferry/manifests/1")).send(attached.as_bytes())), 201);
        let mut listed = ureq::get(at(&format!("ferry/referrers/{digest}"))).call().unwrap();
        assert!(listed.body_mut().read_to_string().unwrap().contains("\"artifactType\":\"a/b\""));
    }
}
