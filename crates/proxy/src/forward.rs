//! One request on its way to a backend, and the answer on its way back.

use crate::connections::{Connections, Sender, Sent, open};
use crate::{Backends, Picked};
use bytes::Bytes;
use http_body_util::{Either, Empty, Full};
use hyper::body::{Body, Frame, Incoming, SizeHint};
use hyper::header::{CONNECTION, HOST, HeaderMap, HeaderName, HeaderValue, UPGRADE};
use hyper::upgrade::OnUpgrade;
use hyper::{Method, Request, Response, StatusCode, Version};
use hyper_util::rt::TokioIo;
use std::any::Any;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

/// How long a request is held while no backend is ready, or none takes it.
const PATIENCE: Duration = Duration::from_secs(30);
/// How often it is looked whether one is.
const GLANCE: Duration = Duration::from_millis(5);

/// Headers that are for one connection only (RFC 9110, 7.6.1).
const OF_THE_CONNECTION: [&str; 7] =
    ["connection", "keep-alive", "proxy-connection", "te", "trailer", "transfer-encoding", "upgrade"];

/// What is answered: the backend's answer, or a text of the proxy's own.
pub(crate) type Answer = Response<Either<Leased, Full<Bytes>>>;

/// The body of an answer, which holds its lease until it has ended.
pub(crate) struct Leased {
    body: Incoming,
    _lease: Arc<dyn Any + Send + Sync>,
}

impl Body for Leased {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// What came of sending a request to a backend.
enum Tried {
    Answered(Response<Incoming>),
    /// It did not reach the backend: here it is again.
    Back(Box<Request<Sent>>),
    /// Its outcome is unknown.
    Lost,
}

/// Sends a request to a backend, and gives its answer.
pub(crate) async fn forward(
    request: Request<Incoming>,
    client: SocketAddr,
    backends: Arc<dyn Backends>,
    connections: Arc<Connections>,
) -> Answer {
    let deadline = Instant::now() + PATIENCE;
    let mut request = request.map(Either::Left);
    let wanted = upgrade_of(request.headers());
    let upgrade = wanted.as_ref().map(|_| hyper::upgrade::on(&mut request));
    prepare(&mut request, client, wanted.clone());
    // What may be sent twice without harm (RFC 9110, 9.2.2) and has no body can be repeated.
    let can_repeat = request.method().is_idempotent() && request.body().is_end_stream() && wanted.is_none();
    let mut is_repeated = false;
    while Instant::now() < deadline {
        let Some(picked) = backends.pick() else {
            tokio::time::sleep(GLANCE).await;
            continue;
        };
        // Once at most: a request that breaks every connection must not meet one instance after the other.
        let again = (can_repeat && !is_repeated).then(|| copy_of(&request));
        let kept = again.is_some().then(|| connections.take(&picked.connect)).flatten();
        let sender = match kept {
            Some(sender) => sender,
            None => match open(&picked.connect).await {
                Ok(sender) => sender,
                Err(_) => {
                    tokio::time::sleep(GLANCE).await;
                    continue;
                }
            },
        };
        match send(request, sender, &picked, &connections).await {
            Tried::Answered(answer) => return finish(answer, picked, upgrade),
            Tried::Back(back) => {
                request = *back;
                tokio::time::sleep(GLANCE).await;
            }
            Tried::Lost => match again {
                Some(again) => (request, is_repeated) = (again, true),
                None => return text(StatusCode::BAD_GATEWAY, "the connection to the app was lost\n"),
            },
        }
    }
    text(StatusCode::SERVICE_UNAVAILABLE, "no instance of the app is ready\n")
}

async fn send(
    request: Request<Sent>,
    mut sender: Sender,
    picked: &Picked,
    connections: &Arc<Connections>,
) -> Tried {
    match sender.try_send_request(request).await {
        Ok(answer) => {
            connections.keep(&picked.connect, sender);
            Tried::Answered(answer)
        }
        Err(mut error) => error.take_message().map_or(Tried::Lost, |back| Tried::Back(Box::new(back))),
    }
}

/// A request without a body once more.
fn copy_of(request: &Request<Sent>) -> Request<Sent> {
    let mut copy = Request::new(Either::Right(Empty::new()));
    *copy.method_mut() = request.method().clone();
    *copy.uri_mut() = request.uri().clone();
    *copy.version_mut() = request.version();
    *copy.headers_mut() = request.headers().clone();
    copy
}

/// The protocol that a client wants to change to.
fn upgrade_of(headers: &HeaderMap) -> Option<HeaderValue> {
    let names = headers.get_all(CONNECTION).iter().filter_map(|value| value.to_str().ok());
    let is_wanted =
        names.flat_map(|value| value.split(',')).any(|name| name.trim().eq_ignore_ascii_case("upgrade"));
    headers.get(UPGRADE).filter(|_| is_wanted).cloned()
}

/// Takes out what is for one connection only, and says who asks.
fn prepare(request: &mut Request<Sent>, client: SocketAddr, upgrade: Option<HeaderValue>) {
    // Only the path: some clients write the whole address, which then names the host (RFC 9112, 3.2.2). Older ones name none,
    // and HTTP/1.1 wants one.
    let authority = request.uri().authority().and_then(|host| HeaderValue::from_str(host.as_str()).ok());
    let named = request.headers().get(HOST).cloned();
    let host = authority.or(named).unwrap_or(HeaderValue::from_static("localhost"));
    request.headers_mut().insert(HOST, host);
    let path = request.uri().path_and_query().cloned();
    if let (Some(path), false) = (path, request.method() == Method::CONNECT) {
        *request.uri_mut() = path.into();
    }
    *request.version_mut() = Version::HTTP_11;
    let headers = request.headers_mut();
    let named: Vec<HeaderName> = headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|value| value.split(','))
        .filter_map(|name| name.trim().parse().ok())
        .collect();
    for name in named {
        headers.remove(name);
    }
    for name in OF_THE_CONNECTION {
        headers.remove(name);
    }
    if let Some(upgrade) = upgrade {
        headers.insert(UPGRADE, upgrade);
        headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
    }
    let before = headers.get("x-forwarded-for").and_then(|value| value.to_str().ok());
    let chain = match before {
        Some(before) => format!("{before}, {}", client.ip()),
        None => client.ip().to_string(),
    };
    if let Ok(chain) = chain.parse() {
        headers.insert("x-forwarded-for", chain);
    }
    headers.insert("x-forwarded-proto", HeaderValue::from_static("http"));
}

/// The answer for the client; after an agreed change of protocol, both sides are joined.
fn finish(mut answer: Response<Incoming>, picked: Picked, upgrade: Option<OnUpgrade>) -> Answer {
    let is_changed = answer.status() == StatusCode::SWITCHING_PROTOCOLS;
    if let (Some(client), true) = (upgrade, is_changed) {
        let backend = hyper::upgrade::on(&mut answer);
        let lease = Arc::clone(&picked.lease);
        tokio::spawn(async move {
            if let (Ok(client), Ok(backend)) = (client.await, backend.await) {
                let (mut client, mut backend) = (TokioIo::new(client), TokioIo::new(backend));
                // Either side may end it in any way.
                let _ = tokio::io::copy_bidirectional(&mut client, &mut backend).await;
            }
            drop(lease);
        });
    }
    if !is_changed {
        for name in OF_THE_CONNECTION {
            answer.headers_mut().remove(name);
        }
    }
    answer.map(|body| Either::Left(Leased { body, _lease: picked.lease }))
}

fn text(status: StatusCode, text: &'static str) -> Answer {
    let mut answer = Response::new(Either::Right(Full::new(Bytes::from_static(text.as_bytes()))));
    *answer.status_mut() = status;
    answer.headers_mut().insert("content-type", HeaderValue::from_static("text/plain; charset=utf-8"));
    answer
}
