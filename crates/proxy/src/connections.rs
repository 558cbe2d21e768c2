//! Connections to backends that are kept for the next request.

use crate::Connect;
use bytes::Bytes;
use http_body_util::{Either, Empty};
use hyper::body::Incoming;
use hyper::client::conn::http1::{SendRequest, handshake};
use hyper_util::rt::TokioIo;
use std::collections::HashMap;
use std::io;
use std::net::TcpStream;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

/// How long an unused connection is kept.
const KEPT: Duration = Duration::from_secs(15);
/// How many are kept for a backend.
const MOST: usize = 64;

/// What is sent: what the client sends, or nothing.
pub(crate) type Sent = Either<Incoming, Empty<Bytes>>;
/// A connection that takes requests.
pub(crate) type Sender = SendRequest<Sent>;

type Way = dyn Fn() -> io::Result<TcpStream> + Send + Sync;

/// Kept connections, by the place in memory of the way to their backend, which stays its own while it is referred to.
#[derive(Default)]
pub(crate) struct Connections(Mutex<HashMap<usize, Kept>>);

struct Kept {
    backend: Weak<Way>,
    idle: Vec<(Sender, Instant)>,
}

fn key(backend: &Connect) -> usize {
    Arc::as_ptr(backend).cast::<()>() as usize
}

impl Connections {
    /// A connection that was used before and is still open.
    pub(crate) fn take(&self, backend: &Connect) -> Option<Sender> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = all.get_mut(&key(backend))?;
        while let Some((sender, since)) = kept.idle.pop() {
            if sender.is_ready() && since.elapsed() < KEPT {
                return Some(sender);
            }
        }
        None
    }

    /// Keeps a connection as soon as it can take another request.
    pub(crate) fn keep(self: &Arc<Self>, backend: &Connect, mut sender: Sender) {
        let (all, backend) = (Arc::clone(self), Arc::downgrade(backend));
        tokio::spawn(async move {
            if sender.ready().await.is_ok()
                && let Some(backend) = backend.upgrade()
            {
                all.put(&backend, sender);
            }
        });
    }

    fn put(&self, backend: &Connect, sender: Sender) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, kept| kept.backend.strong_count() > 0);
        let fresh = || Kept { backend: Arc::downgrade(backend), idle: Vec::new() };
        let kept = all.entry(key(backend)).or_insert_with(fresh);
        if kept.idle.len() < MOST {
            kept.idle.push((sender, Instant::now()));
        }
    }
}

/// A new connection.
pub(crate) async fn open(backend: &Connect) -> io::Result<Sender> {
    let backend = Arc::clone(backend);
    let stream = tokio::task::spawn_blocking(move || backend()).await.map_err(io::Error::other)??;
    stream.set_nodelay(true)?;
    stream.set_nonblocking(true)?;
    let stream = TokioIo::new(tokio::net::TcpStream::from_std(stream)?);
    let (sender, connection) = handshake(stream).await.map_err(io::Error::other)?;
    // It ends with its sender, or when the backend closes it, which the next request notices.
    tokio::spawn(async move { drop(connection.with_upgrades().await) });
    Ok(sender)
}
