//! A loopback stand-in for a registry of images that can be pushed to (OCI distribution specification 1.1), and that fails
//! when it is told to.

use content::BlobDigest;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{Ipv4Addr, Shutdown, TcpListener, TcpStream};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// What goes wrong.
#[derive(Debug, Clone, Default)]
pub struct Faults {
    /// Lets nobody in without this token, which it gives to whoever sends this password (`user:password`, in base64).
    pub wants: Option<Login>,
    /// Gives no token that is for other names, too.
    pub denies_other_names: bool,
    /// An upload is cut once after so many bytes.
    pub cuts_after: Option<usize>,
    /// It forgets what has arrived of uploads that were cut.
    pub forgets_uploads: bool,
    /// Takes no more at once.
    pub longest_piece: Option<usize>,
    /// The next answers to requests that begin like this have this status.
    pub statuses: Vec<(String, u16)>,
    /// Takes everything for something else.
    pub names_other_digests: bool,
    /// Gives these bytes for a blob or a manifest.
    pub gives: BTreeMap<String, Vec<u8>>,
    /// Lists what is attached to images by itself.
    pub lists_attached: bool,
    /// Does not mount.
    pub no_mounts: bool,
}

/// Who is let in.
#[derive(Debug, Clone)]
pub struct Login {
    /// `user:password` in base64.
    pub password: String,
    /// The token.
    pub token: String,
}

/// What it has.
#[derive(Debug, Default)]
struct State {
    faults: Faults,
    /// By name.
    blobs: BTreeMap<String, BTreeSet<BlobDigest>>,
    bytes: BTreeMap<BlobDigest, Vec<u8>>,
    /// By name and tag or digest: media type and bytes.
    manifests: BTreeMap<(String, String), (String, Vec<u8>)>,
    uploads: BTreeMap<String, Vec<u8>>,
    started: usize,
    /// The first line of each request.
    asked: Vec<String>,
}

/// A registry on this machine.
pub struct OciRegistry {
    port: u16,
    state: Arc<Mutex<State>>,
}

struct Request {
    method: String,
    path: String,
    query: BTreeMap<String, String>,
    /// How many scopes a token is wanted for.
    scopes: usize,
    headers: BTreeMap<String, String>,
}

/// Status, headers, body.
type Answer = (u16, Vec<String>, Vec<u8>);

impl OciRegistry {
    /// Starts with nothing in it.
    pub fn start(faults: Faults) -> Self {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).expect("a port of this machine");
        let port = listener.local_addr().expect("it is bound").port();
        let state = Arc::new(Mutex::new(State { faults, ..State::default() }));
        let shared = Arc::clone(&state);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let state = Arc::clone(&shared);
                // A client that goes away in the middle is part of some tests.
                std::thread::spawn(move || drop(serve(&stream, port, &state)));
            }
        });
        Self { port, state }
    }

    /// Its name: host and port.
    pub fn host(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    /// From now on, other things go wrong.
    pub fn fail(&self, faults: Faults) {
        self.lock().faults = faults;
    }

    /// What a name has under its tags, in order.
    pub fn tags(&self, name: &str) -> Vec<String> {
        let state = self.lock();
        let own = state.manifests.keys().filter(|(of, tag)| of == name && !tag.starts_with("sha256:"));
        own.map(|(_, tag)| tag.clone()).collect()
    }

    /// The document under a tag or digest.
    pub fn manifest(&self, name: &str, tag: &str) -> Option<serde_json::Value> {
        let state = self.lock();
        let (_, bytes) = state.manifests.get(&(name.to_owned(), tag.to_owned()))?;
        serde_json::from_slice(bytes).ok()
    }

    /// How many requests there were whose first line begins like this; they are forgotten.
    pub fn count(&self, beginning: &str) -> usize {
        let mut state = self.lock();
        let before = state.asked.len();
        state.asked.retain(|line| !line.starts_with(beginning));
        before - state.asked.len()
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn serve(stream: &TcpStream, port: u16, state: &Mutex<State>) -> io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    let mut stream = stream;
    while let Some(request) = read_request(&mut reader)? {
        let length = request.headers.get("content-length").and_then(|text| text.parse().ok()).unwrap_or(0);
        let lock = || state.lock().unwrap_or_else(PoisonError::into_inner);
        let cut = {
            let mut state = lock();
            let is_upload =
                matches!(request.method.as_str(), "PATCH" | "PUT") && request.path.contains("/uploads/");
            let cut = state.faults.cuts_after.filter(|cut| is_upload && length > *cut);
            state.faults.cuts_after = state.faults.cuts_after.filter(|_| cut.is_none());
            cut
        };
        let mut body = vec![0; cut.unwrap_or(length)];
        reader.read_exact(&mut body)?;
        if cut.is_some() {
            let mut state = lock();
            let (forgets, id) =
                (state.faults.forgets_uploads, request.path.rsplit('/').next().unwrap_or_default());
            match forgets {
                true => drop(state.uploads.remove(id)),
                false => state.uploads.entry(id.to_owned()).or_default().extend(body),
            }
            return stream.shutdown(Shutdown::Both);
        }
        let is_head = request.method == "HEAD";
        let (status, headers, body) = lock().answer(&request, body, port);
        let headers: String = headers.iter().map(|line| format!("{line}\r\n")).collect();
        write!(stream, "HTTP/1.1 {status} stand-in\r\n{headers}Content-Length: {}\r\n\r\n", body.len())?;
        if !is_head {
            stream.write_all(&body)?;
        }
    }
    Ok(())
}

fn read_request(from: &mut impl BufRead) -> io::Result<Option<Request>> {
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        if from.read_line(&mut line)? == 0 {
            return Ok(None);
        }
        match line.trim_end() {
            "" => break,
            line => lines.push(line.to_owned()),
        }
    }
    let mut words = lines.first().map(String::as_str).unwrap_or_default().split(' ');
    let (method, target) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
    let (path, query) = target.split_once('?').unwrap_or((target, ""));
    let scopes = query.matches("scope=").count();
    let pairs = query.split('&').filter_map(|pair| pair.split_once('='));
    let headers = lines.iter().skip(1).filter_map(|line| line.split_once(':'));
    Ok(Some(Request {
        method: method.to_owned(),
        path: path.to_owned(),
        query: pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).collect(),
        scopes,
        headers: headers.map(|(name, value)| (name.to_lowercase(), value.trim().to_owned())).collect(),
    }))
}

fn plain(status: u16) -> Answer {
    (status, Vec::new(), Vec::new())
}

impl State {
    fn answer(&mut self, request: &Request, body: Vec<u8>, port: u16) -> Answer {
        let line = format!("{} {}", request.method, request.path);
        self.asked.push(line.clone());
        if let Some(at) =
            self.faults.statuses.iter().position(|(beginning, _)| line.starts_with(beginning.as_str()))
        {
            let (_, status) = self.faults.statuses.remove(at);
            return (
                status,
                vec!["Retry-After: 0".to_owned()],
                br#"{"errors":[{"message":"not now"}]}"#.to_vec(),
            );
        }
        if let Some(login) = &self.faults.wants {
            let own = request.headers.get("authorization").map(String::as_str);
            if request.path == "/token" {
                let token = format!(r#"{{"token":"{}"}}"#, login.token);
                let is_too_much = self.faults.denies_other_names && request.scopes > 1;
                let is_right = own == Some(&format!("Basic {}", login.password)) && !is_too_much;
                return if is_right { (200, Vec::new(), token.into_bytes()) } else { plain(401) };
            }
            if own != Some(&format!("Bearer {}", login.token)) {
                let challenge = format!(
                    r#"WWW-Authenticate: Bearer realm="http://127.0.0.1:{port}/token",service="quay""#
                );
                return (401, vec![challenge], Vec::new());
            }
        }
        let Some(rest) = request.path.strip_prefix("/v2/") else { return plain(404) };
        if let Some((name, id)) = rest.split_once("/blobs/uploads/") {
            return self.upload(request, name, id, body);
        }
        if let Some((name, digest)) = rest.split_once("/blobs/") {
            return self.blob(name, digest);
        }
        if let Some((name, subject)) = rest.split_once("/referrers/") {
            return self.attached(request, name, subject);
        }
        match rest.split_once("/manifests/") {
            Some((name, target)) if request.method == "PUT" => self.put_manifest(request, name, target, body),
            Some((name, target)) => self.get_manifest(name, target),
            None => plain(404),
        }
    }

    fn blob(&self, name: &str, digest: &str) -> Answer {
        if let Some(bytes) = self.faults.gives.get(digest) {
            return (200, Vec::new(), bytes.clone());
        }
        let digest = digest.parse::<BlobDigest>().ok();
        let known = digest.filter(|digest| self.blobs.get(name).is_some_and(|own| own.contains(digest)));
        known
            .and_then(|digest| self.bytes.get(&digest))
            .map_or(plain(404), |bytes| (200, Vec::new(), bytes.clone()))
    }

    fn upload(&mut self, request: &Request, name: &str, id: &str, body: Vec<u8>) -> Answer {
        let location = |id: &str| format!("Location: /v2/{name}/blobs/uploads/{id}?state=some");
        match request.method.as_str() {
            "POST" => {
                let mounted = request.query.get("mount").and_then(|digest| digest.parse::<BlobDigest>().ok());
                let from = request.query.get("from").and_then(|from| self.blobs.get(from));
                let is_there = mounted.zip(from).is_some_and(|(digest, own)| own.contains(&digest));
                if let Some(digest) = mounted.filter(|_| is_there && !self.faults.no_mounts) {
                    self.blobs.entry(name.to_owned()).or_default().insert(digest);
                    return plain(201);
                }
                self.started += 1;
                let id = format!("upload-{}", self.started);
                self.uploads.insert(id.clone(), Vec::new());
                (202, vec![location(&id)], Vec::new())
            }
            "GET" => match self.uploads.get(id) {
                Some(bytes) => {
                    let range = format!("Range: 0-{}", bytes.len().saturating_sub(1));
                    (204, vec![location(id), range], Vec::new())
                }
                None => plain(404),
            },
            _ if self.faults.longest_piece.is_some_and(|most| body.len() > most) => plain(413),
            "PATCH" => {
                let Some(bytes) = self.uploads.get_mut(id) else { return plain(404) };
                let from = request
                    .headers
                    .get("content-range")
                    .and_then(|range| range.split('-').next()?.parse().ok());
                if from.is_some_and(|from: usize| from != bytes.len()) {
                    return plain(416);
                }
                bytes.extend(body);
                (202, vec![location(id)], Vec::new())
            }
            "PUT" => {
                let Some(mut bytes) = self.uploads.remove(id) else { return plain(404) };
                bytes.extend(body);
                let digest = BlobDigest::of(&bytes);
                if request.query.get("digest") != Some(&digest.to_string()) {
                    return plain(400);
                }
                self.blobs.entry(name.to_owned()).or_default().insert(digest);
                self.bytes.insert(digest, bytes);
                plain(201)
            }
            _ => plain(405),
        }
    }

    fn put_manifest(&mut self, request: &Request, name: &str, target: &str, body: Vec<u8>) -> Answer {
        let document: serde_json::Value = serde_json::from_slice(&body).unwrap_or_default();
        let parts = document["layers"].as_array().into_iter().flatten().chain(document.get("config"));
        let has = |digest: Option<BlobDigest>| {
            digest.is_some_and(|digest| self.blobs.get(name).is_some_and(|own| own.contains(&digest)))
        };
        let digest = |part: &serde_json::Value| part["digest"].as_str().and_then(|text| text.parse().ok());
        let listed = document["manifests"].as_array().into_iter().flatten();
        let is_listed = |part: &serde_json::Value| {
            let digest = part["digest"].as_str().unwrap_or_default().to_owned();
            self.manifests.contains_key(&(name.to_owned(), digest))
        };
        // Whatever a document names has to be there.
        if !parts.map(digest).all(has) || !listed.clone().all(is_listed) {
            return plain(400);
        }
        let own = BlobDigest::of(&body);
        let media_type = request.headers.get("content-type").cloned().unwrap_or_default();
        for target in [target.to_owned(), own.to_string()] {
            self.manifests.insert((name.to_owned(), target), (media_type.clone(), body.clone()));
        }
        let said = if self.faults.names_other_digests { BlobDigest::of(b"other") } else { own };
        let mut headers = vec![format!("Docker-Content-Digest: {said}")];
        if let Some(subject) = document["subject"]["digest"].as_str().filter(|_| self.faults.lists_attached) {
            headers.push(format!("OCI-Subject: {subject}"));
        }
        (201, headers, Vec::new())
    }

    /// What is attached to an image, one on each page.
    fn attached(&self, request: &Request, name: &str, subject: &str) -> Answer {
        if !self.faults.lists_attached {
            return plain(404);
        }
        let mut all = Vec::new();
        for ((own, digest), (_, bytes)) in &self.manifests {
            let document: serde_json::Value = serde_json::from_slice(bytes).unwrap_or_default();
            if own == name && digest.starts_with("sha256:") && document["subject"]["digest"] == subject {
                all.push(serde_json::json!({
                    "mediaType": "application/vnd.oci.image.manifest.v1+json", "digest": digest, "size": bytes.len(),
                    "artifactType": document["artifactType"],
                }));
            }
        }
        let at: usize = request.query.get("from").and_then(|from| from.parse().ok()).unwrap_or(0);
        let onward = format!("Link: </v2/{name}/referrers/{subject}?from={}>; rel=\"next\"", at + 1);
        let headers = if at + 1 < all.len() { vec![onward] } else { Vec::new() };
        let page =
            serde_json::json!({ "schemaVersion": 2, "manifests": all.get(at..at + 1).unwrap_or_default() });
        (200, headers, page.to_string().into_bytes())
    }

    fn get_manifest(&self, name: &str, target: &str) -> Answer {
        match self.manifests.get(&(name.to_owned(), target.to_owned())) {
            Some((media_type, bytes)) => {
                let digest = format!("Docker-Content-Digest: {}", BlobDigest::of(bytes));
                let bytes = self.faults.gives.get(target).unwrap_or(bytes).clone();
                (200, vec![digest, format!("Content-Type: {media_type}")], bytes)
            }
            None => plain(404),
        }
    }
}
