//! Gets bytes from an address, again when that may help.

use crate::address::{Address, shown};
use crate::error::{RemoteError, Result};
use crate::exchange::{Witness, Witnessed};
use crate::login::{Login, header_for};
use crate::names::Names;
use crate::patient::Patient;
use cancel::Cancel;
use serde_json::Value;
use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;
use ureq::Body;
use ureq::http::Response;
use ureq::tls::{RootCerts, TlsConfig};
use ureq::unversioned::resolver::DefaultResolver;
use ureq::unversioned::transport::DefaultConnector;

/// Whether the network may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Network {
    /// Use it.
    Allowed,
    /// Take everything from the store and from folders.
    Forbidden,
}

/// The largest answer that is written to a file, in bytes.
const LARGEST_FILE: u64 = 2 << 30;
/// The largest document that is read into memory, in bytes: metadata of a package with very many versions.
const LARGEST_DOCUMENT: u64 = 96 << 20;
/// The longest text about a failure that is read, in bytes.
const LONGEST_SAYING: u64 = 4 << 10;
/// So much is read at once, in bytes.
const CHUNK: usize = 64 << 10;
/// How long to wait before each further try. A server that closes a connection that was kept open costs a try of its own.
const PAUSES: [Duration; 4] =
    [Duration::from_millis(50), Duration::from_millis(200), Duration::from_secs(1), Duration::from_secs(3)];
/// Statuses that send on to another place, and how often that is followed.
const REDIRECTS: [u16; 5] = [301, 302, 303, 307, 308];
const MOST_REDIRECTS: usize = 10;
/// What was asked for, from the server itself, or changed on the way by somebody who may.
const OK: u16 = 200;
const FROM_ELSEWHERE: u16 = 203;
/// A part of what is there, as it was asked for.
const PARTIAL_CONTENT: u16 = 206;
/// What is there is not that long.
const RANGE_NOT_SATISFIABLE: u16 = 416;
/// How long nothing may come of an answer before it is asked for again.
const LONGEST_SILENCE: Duration = Duration::from_secs(20);
/// No server can ask to wait longer than this.
const LONGEST_PAUSE: Duration = Duration::from_secs(30);

/// Gets files; shared by all threads, connections are kept.
pub struct Fetcher {
    agent: ureq::Agent,
    network: Network,
    logins: Vec<Login>,
    git: Option<PathBuf>,
    cancel: Cancel,
    silence: Duration,
    witness: Option<Witness>,
}

impl Fetcher {
    /// A fetcher without connections yet.
    pub fn new(network: Network) -> Self {
        let agent = agent(LONGEST_SILENCE, None);
        let (logins, cancel) = (Vec::new(), Cancel::new());
        Self { agent, network, logins, git: None, cancel, silence: LONGEST_SILENCE, witness: None }
    }

    /// The fetcher, with these logins for registries of packages.
    pub fn with_logins(self, logins: Vec<Login>) -> Self {
        Self { logins, ..self }
    }

    /// The fetcher, with the program for repositories, if this machine has it.
    pub fn with_git(self, git: Option<PathBuf>) -> Self {
        Self { git, ..self }
    }

    /// The fetcher, which ends what it does when `cancel` is cancelled.
    pub fn with_cancel(self, cancel: Cancel) -> Self {
        let agent = self.agent.clone();
        // Pending requests end with an error.
        cancel.on_cancel(move || agent.clone().shutdown());
        Self { cancel, ..self }
    }

    /// The fetcher, with another limit for how long nothing may come of an answer.
    pub fn with_silence_limit(self, limit: Duration) -> Self {
        Self { silence: limit, ..self }.reconnected()
    }

    /// The fetcher, whose exchanges are reported to a witness, if there is one.
    pub fn with_witness(self, witness: Option<Witness>) -> Self {
        match witness {
            None => self,
            Some(witness) => Self { witness: Some(witness), ..self }.reconnected(),
        }
    }

    fn reconnected(self) -> Self {
        let cancel = self.cancel.clone();
        Self { agent: agent(self.silence, self.witness.clone()), ..self }.with_cancel(cancel)
    }

    /// The program for repositories.
    pub fn git_program(&self) -> Option<&Path> {
        self.git.as_deref()
    }

    /// Whether it may use the network.
    pub fn may_use_network(&self) -> bool {
        self.network == Network::Allowed
    }

    /// The bytes at `address`; `accept` is sent as the wanted media types.
    pub fn get(&self, address: &Address, accept: &str) -> Result<Vec<u8>> {
        match address {
            Address::Folder(path) => read(path),
            Address::Url(url) if self.network == Network::Forbidden => {
                Err(RemoteError::Offline { url: shown(url) })
            }
            Address::Url(url) => self.get_with_retry(url, accept),
        }
    }

    /// Writes the bytes at `address` into what `open` opens, which is called again when a try cannot go on where
    /// the last one ended.
    pub fn get_into<W: Write>(
        &self,
        address: &Address,
        mut open: impl FnMut() -> io::Result<W>,
    ) -> Result<W> {
        let mut open = move || open().map_err(store_trouble);
        match address {
            Address::Folder(path) => {
                let mut to = open()?;
                let mut file = fs::File::open(path).map_err(|source| at_path(path, source))?;
                io::copy(&mut file, &mut to).map_err(|source| at_path(path, source))?;
                Ok(to)
            }
            Address::Url(url) => {
                let (mut to, mut done) = (open()?, 0_u64);
                self.with_retry(|| {
                    // What came before the connection was cut is not asked for again (RFC 9110, section 14).
                    let rest = format!("bytes={done}-");
                    let range = (done > 0).then_some(("Range", rest.as_str()));
                    let headers: Vec<_> = [("Accept", "*/*")].into_iter().chain(range).collect();
                    let mut answer = self.ask(url, &headers)?;
                    if done > 0 && !answer.goes_on_at(done) {
                        let is_elsewhere = matches!(answer.status(), PARTIAL_CONTENT | RANGE_NOT_SATISFIABLE);
                        (to, done) = (open()?, 0);
                        if is_elsewhere {
                            answer = self.ask(url, &[("Accept", "*/*")])?;
                        }
                    }
                    let mut body = if done > 0 { answer } else { answer.successful(url)? };
                    copy(&mut self.patient(&mut body.body()), u64::MAX, url, &mut |bytes| {
                        done += bytes.len() as u64;
                        to.write_all(bytes)
                    })
                })?;
                Ok(to)
            }
        }
    }

    fn get_with_retry(&self, url: &str, accept: &str) -> Result<Vec<u8>> {
        self.with_retry(|| {
            let mut answer = self.ask(url, &[("Accept", accept)])?.successful(url)?;
            let mut bytes = Vec::new();
            let mut body = answer.body();
            let read = self.patient(&mut body).take(LARGEST_DOCUMENT + 1).read_to_end(&mut bytes);
            read.map_err(|e| RemoteError::Unreachable { url: shown(url), detail: e.to_string() })?;
            match bytes.len() as u64 <= LARGEST_DOCUMENT {
                true => Ok(bytes),
                false => Err(RemoteError::TooLarge { url: shown(url), most: LARGEST_DOCUMENT }),
            }
        })
    }

    /// Reads from a body for as long as it comes fast enough.
    pub(crate) fn patient<'b>(&self, body: &'b mut dyn Read) -> Patient<'b> {
        Patient::new(body, self.silence)
    }

    /// Asks once, with these headers; any status is an answer.
    pub(crate) fn ask(&self, url: &str, headers: &[(&str, &str)]) -> Result<Answer> {
        if self.network == Network::Forbidden {
            return Err(RemoteError::Offline { url: shown(url) });
        }
        let mut here = url.to_owned();
        for _ in 0..=MOST_REDIRECTS {
            let answer = self.ask_once(&here, headers, server_of(&here) == server_of(url))?;
            let onward = REDIRECTS.contains(&answer.status()).then(|| answer.headers("Location"));
            match onward.as_ref().and_then(|all| all.first()) {
                Some(location) => {
                    let onward = followed(&here, location);
                    if here.starts_with("https:") && !onward.starts_with("https:") {
                        let detail = format!("it redirects to {}, without TLS", shown(&onward));
                        return Err(RemoteError::Unreachable { url: shown(url), detail });
                    }
                    here = onward;
                }
                None => return Ok(answer),
            }
        }
        Err(RemoteError::Unreachable { url: shown(url), detail: "too many redirects".to_owned() })
    }

    /// Asks one server; `own` when it is the one that the caller's credentials are for.
    fn ask_once(&self, url: &str, headers: &[(&str, &str)], own: bool) -> Result<Answer> {
        let is_login = |name: &str| name.eq_ignore_ascii_case("authorization");
        let mut request = self.agent.get(url);
        for (name, value) in headers.iter().filter(|(name, _)| own || !is_login(name)) {
            request = request.header(*name, *value);
        }
        let authorised = own && headers.iter().any(|(name, _)| is_login(name));
        if let Some(header) = header_for(&self.logins, url).filter(|_| !authorised) {
            request = request.header("Authorization", header);
        }
        answered(url, request.call())
    }

    /// Tries until it succeeds, or trying again cannot help, or did not, or it is cancelled.
    pub(crate) fn with_retry<T>(&self, mut attempt: impl FnMut() -> Result<T>) -> Result<T> {
        let mut pauses = PAUSES.iter();
        loop {
            let answer = attempt();
            if self.cancel.is_cancelled() {
                return Err(RemoteError::Cancelled);
            }
            let error = match answer {
                Err(error) if worth_another_try(&error) => error,
                answer => return answer,
            };
            let Some(pause) = pauses.next() else { return Err(error) };
            let asked = match &error {
                RemoteError::Status { retry_after, .. } => *retry_after,
                _ => None,
            };
            if self.cancel.wait(asked.unwrap_or(*pause).min(LONGEST_PAUSE)) {
                return Err(RemoteError::Cancelled);
            }
        }
    }

    /// The connections.
    pub(crate) fn agent(&self) -> &ureq::Agent {
        &self.agent
    }
}

/// Connections that end when nothing comes, or nothing is taken, for as long as `silence`.
fn agent(silence: Duration, witness: Option<Witness>) -> ureq::Agent {
    // What this machine trusts, is trusted: organisations have certificates of their own.
    let tls = TlsConfig::builder().root_certs(RootCerts::PlatformVerifier).build();
    let mut config = ureq::Agent::config_builder()
        .tls_config(tls)
        .http_status_as_error(false)
        // They are followed here: credentials are for the server that they were made for.
        .max_redirects(0)
        .max_redirects_will_error(false)
        .timeout_connect(Some(Duration::from_secs(10)))
        .timeout_recv_response(Some(Duration::from_secs(60)))
        .user_agent(concat!("shtetl/", env!("CARGO_PKG_VERSION")))
        .max_idle_connections_per_host(64)
        .max_idle_connections(128)
        .timeout_per_read(Some(silence))
        .timeout_per_write(Some(silence));
    if let Some(witness) = witness {
        config = config.middleware(Witnessed(witness));
    }
    ureq::Agent::with_parts(config.build(), DefaultConnector::new(), Names::<DefaultResolver>::default())
}

/// Scheme, host and port of a URL.
pub(crate) fn server_of(url: &str) -> &str {
    let start = url.find("://").map_or(0, |at| at + 3);
    &url[..url[start..].find(['/', '?', '#']).map_or(url.len(), |at| start + at)]
}

/// The URL that `location` means, seen from `url` (RFC 3986, section 5.2, as far as servers use it).
pub(crate) fn followed(url: &str, location: &str) -> String {
    let server = server_of(url);
    if location.contains("://") {
        location.to_owned()
    } else if let Some(rest) = location.strip_prefix("//") {
        format!("{}://{rest}", url.split("://").next().unwrap_or("https"))
    } else if location.starts_with('/') {
        format!("{server}{location}")
    } else {
        let path = url[server.len()..].split(['?', '#']).next().unwrap_or_default();
        let folder = path.rfind('/').map_or("/", |at| &path[..=at]);
        format!("{server}{folder}{location}")
    }
}

pub(crate) fn answered(url: &str, said: Result<Response<Body>, ureq::Error>) -> Result<Answer> {
    said.map(Answer).map_err(|e| RemoteError::Unreachable { url: shown(url), detail: e.to_string() })
}

/// A server's message.
pub struct Answer(Response<Body>);

impl Answer {
    /// The status of the answer (RFC 9110, 15).
    pub fn status(&self) -> u16 {
        self.0.status().as_u16()
    }

    /// Whether it is a part of what is there.
    pub(crate) fn is_part(&self) -> bool {
        self.status() == PARTIAL_CONTENT
    }

    /// Whether it is the part of what is there that begins at a place.
    pub(crate) fn goes_on_at(&self, place: u64) -> bool {
        let range = self.headers("Content-Range");
        let range = range.first().and_then(|text| text.trim().strip_prefix("bytes ")?.split_once('-'));
        self.is_part() && range.is_some_and(|(from, _)| from.trim().parse() == Ok(place))
    }

    /// The values of a header.
    pub(crate) fn headers(&self, name: &str) -> Vec<String> {
        let values = self.0.headers().get_all(name).iter();
        values.filter_map(|value| Some(value.to_str().ok()?.to_owned())).collect()
    }

    /// The answer, if it is a success.
    pub(crate) fn successful(self, url: &str) -> Result<Self> {
        // What was not asked for, a part or nothing, is no success either (RFC 9110, section 15.3).
        self.with_status(&[OK, FROM_ELSEWHERE], url)
    }

    /// The answer, if it has one of these statuses.
    pub fn with_status(mut self, expected: &[u16], url: &str) -> Result<Self> {
        match self.status() {
            status if expected.contains(&status) => Ok(self),
            404 | 410 => Err(RemoteError::NotFound { url: shown(url) }),
            status => {
                let asked = self.headers("Retry-After").first().and_then(|text| text.trim().parse().ok());
                let retry_after = asked.map(Duration::from_secs);
                let said = self.said();
                Err(RemoteError::Status { url: shown(url), status, retry_after, said })
            }
        }
    }

    /// What the answer says in words: the text itself, or what a document in JSON has for people.
    fn said(&mut self) -> Option<String> {
        let mut body = Vec::new();
        self.body().take(LONGEST_SAYING).read_to_end(&mut body).ok()?;
        let text = String::from_utf8(body).ok()?;
        let document: Value = serde_json::from_str(&text).unwrap_or_default();
        let errors = [&document["error"], &document["message"], &document["detail"], &document["reason"]];
        let named = errors.into_iter().find_map(Value::as_str).or(document["errors"][0]["message"].as_str());
        let is_prose = !text.trim_start().starts_with(['<', '{', '[']);
        let line = named.or_else(|| text.lines().next().filter(|_| is_prose))?.trim();
        let plain: String = line.chars().filter(|c| !c.is_control()).take(200).collect();
        (!plain.is_empty()).then_some(plain)
    }

    /// What it brings, which has an upper limit.
    pub fn body(&mut self) -> impl Read {
        self.0.body_mut().with_config().limit(LARGEST_FILE).reader()
    }
}

fn worth_another_try(error: &RemoteError) -> bool {
    match error {
        RemoteError::Unreachable { .. } => true,
        RemoteError::Status { status, .. } => *status == 429 || *status >= 500,
        _ => false,
    }
}

/// Gives what a server sends to `write`, up to `most` bytes; tells trouble of the server from trouble of
/// the writing, which another try does not fix. Gives the number of bytes.
pub(crate) fn copy(
    body: &mut dyn Read,
    most: u64,
    url: &str,
    write: &mut dyn FnMut(&[u8]) -> io::Result<()>,
) -> Result<u64> {
    let mut chunk = vec![0; CHUNK];
    let mut copied = 0;
    while copied < most {
        let count = body
            .read(&mut chunk)
            .map_err(|e| RemoteError::Unreachable { url: shown(url), detail: e.to_string() })?;
        if count == 0 {
            break;
        }
        write(&chunk[..count]).map_err(store_trouble)?;
        copied += count as u64;
    }
    Ok(copied)
}

fn store_trouble(source: io::Error) -> RemoteError {
    RemoteError::Io { path: "the store".into(), source }
}

pub(crate) fn read(path: &Path) -> Result<Vec<u8>> {
    fs::read(path).map_err(|source| at_path(path, source))
}

pub(crate) fn at_path(path: &Path, source: io::Error) -> RemoteError {
    match source.kind() {
        io::ErrorKind::NotFound => RemoteError::NotFound { url: path.display().to_string() },
        _ => RemoteError::Io { path: path.to_owned(), source },
    }
}
