//! A reverse proxy for HTTP/1.1 whose backends change from request to request.
//!
//! ```text
//! client ─► listener ─► request ─► Backends::pick ─► connection, kept or new ─► instance
//! ```
//!
//! A request is never lost to a change: while no backend is there it is held, and one that did not reach a backend is sent
//! to the next. The runtime of the proxy stays inside this crate.
#![forbid(unsafe_code)]

mod connections;
mod forward;

use connections::Connections;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use std::any::Any;
use std::io;
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;
use tokio::runtime::{Builder, Runtime};
use tokio::task::JoinHandle;

/// How many threads there are, besides those that connect.
const THREADS: usize = 2;
/// How long a client may take to send the head of a request.
const HEAD_PATIENCE: Duration = Duration::from_secs(60);
/// How long to wait after a connection could not be accepted, for want of descriptors for example.
const PAUSE: Duration = Duration::from_millis(50);

/// Makes a connection to a backend; it may block.
pub type Connect = Arc<dyn Fn() -> io::Result<TcpStream> + Send + Sync>;

/// A backend for one request.
pub struct Picked {
    /// The way to it.
    pub connect: Connect,
    /// Held until the request is answered in full: who wants to know whether requests are under way counts its owners.
    pub lease: Arc<dyn Any + Send + Sync>,
}

/// Where requests go.
pub trait Backends: Send + Sync + 'static {
    /// The backend for the next request; nothing while none is ready.
    fn pick(&self) -> Option<Picked>;
}

/// The runtime of all proxies of this process.
pub struct Proxies(Runtime);

/// A listener that is served until this is dropped. Requests that have begun are still answered.
pub struct Served(Vec<JoinHandle<()>>);

impl Proxies {
    /// Starts the runtime.
    pub fn start() -> io::Result<Self> {
        Ok(Self(Builder::new_multi_thread().worker_threads(THREADS).enable_all().build()?))
    }

    /// Serves the connections to listeners.
    pub fn serve(&self, listeners: Vec<TcpListener>, backends: Arc<dyn Backends>) -> io::Result<Served> {
        let connections = Arc::new(Connections::default());
        let mut tasks = Vec::new();
        for listener in listeners {
            listener.set_nonblocking(true)?;
            let (backends, connections) = (Arc::clone(&backends), Arc::clone(&connections));
            tasks.push(self.0.spawn(accept(listener, backends, connections)));
        }
        Ok(Served(tasks))
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        self.0.iter().for_each(JoinHandle::abort);
    }
}

async fn accept(listener: TcpListener, backends: Arc<dyn Backends>, connections: Arc<Connections>) {
    let Ok(listener) = tokio::net::TcpListener::from_std(listener) else { return };
    loop {
        let Ok((stream, client)) = listener.accept().await else {
            tokio::time::sleep(PAUSE).await;
            continue;
        };
        // Small answers are not to wait for more.
        let _ = stream.set_nodelay(true);
        let (backends, connections) = (Arc::clone(&backends), Arc::clone(&connections));
        let service = service_fn(move |request| {
            let (backends, connections) = (Arc::clone(&backends), Arc::clone(&connections));
            async move { Ok::<_, hyper::Error>(forward::forward(request, client, backends, connections).await) }
        });
        let mut server = http1::Builder::new();
        server.timer(TokioTimer::new()).header_read_timeout(HEAD_PATIENCE);
        let connection = server.serve_connection(TokioIo::new(stream), service).with_upgrades();
        // How a client goes is its own affair.
        tokio::spawn(async move { drop(connection.await) });
    }
}
