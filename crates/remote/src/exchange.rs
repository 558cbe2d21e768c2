//! Requests as they are sent, for users who want to see them.

use crate::address::shown;
use std::sync::Arc;
use std::time::{Duration, Instant};
use ureq::middleware::{Middleware, MiddlewareNext};
use ureq::{Body, SendBody, http};

/// A request and how it was answered.
#[derive(Debug)]
pub struct Exchange {
    /// `GET` and the like.
    pub method: String,
    /// Where, without credentials.
    pub url: String,
    /// The status; `None` without an answer.
    pub status: Option<u16>,
    /// The time until the head of the answer.
    pub elapsed: Duration,
}

/// Called after each exchange, from any thread.
pub type Witness = Arc<dyn Fn(&Exchange) + Send + Sync>;

pub(crate) struct Witnessed(pub(crate) Witness);

impl Middleware for Witnessed {
    fn handle(
        &self,
        request: http::Request<SendBody<'_>>,
        next: MiddlewareNext<'_>,
    ) -> Result<http::Response<Body>, ureq::Error> {
        let (method, url) = (request.method().to_string(), shown(&request.uri().to_string()));
        let started = Instant::now();
        let answer = next.handle(request);
        let status = answer.as_ref().ok().map(|answer| answer.status().as_u16());
        (self.0)(&Exchange { method, url, status, elapsed: started.elapsed() });
        answer
    }
}
