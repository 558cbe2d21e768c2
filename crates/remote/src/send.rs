//! Sends bytes to a server.

use crate::address::shown;
use crate::error::{RemoteError, Result};
use crate::fetch::{Answer, Fetcher, answered};
use std::io::Read;
use ureq::SendBody;
use ureq::http::Request;

/// What a request does (RFC 9110, section 9; RFC 5789).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "their names say what they are")]
pub enum Method {
    Get,
    Head,
    Post,
    Put,
    Patch,
}

impl Method {
    /// As it is sent.
    pub fn name(self) -> &'static str {
        match self {
            Self::Get => "GET",
            Self::Head => "HEAD",
            Self::Post => "POST",
            Self::Put => "PUT",
            Self::Patch => "PATCH",
        }
    }
}

/// What a request brings; it can be sent once more.
#[derive(Clone, Copy)]
pub enum Payload<'a> {
    /// No bytes.
    Nothing,
    /// These bytes.
    Bytes(&'a [u8]),
    /// So many bytes of what is opened.
    Stream {
        /// Opens it; called again when it is sent again.
        open: &'a dyn Fn() -> Result<Box<dyn Read + 'a>>,
        /// How many bytes.
        length: u64,
    },
}

impl Fetcher {
    /// Sends once; any status is an answer, and no redirect is followed.
    pub fn send(
        &self,
        method: Method,
        url: &str,
        headers: &[(&str, &str)],
        payload: Payload<'_>,
    ) -> Result<Answer> {
        if !self.may_use_network() {
            return Err(RemoteError::Offline { url: shown(url) });
        }
        let mut request = Request::builder().method(method.name()).uri(url);
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let unusable =
            |error: ureq::http::Error| RemoteError::Malformed { url: shown(url), detail: error.to_string() };
        match payload {
            Payload::Nothing if matches!(method, Method::Get | Method::Head) => {
                answered(url, self.agent().run(request.body(()).map_err(unusable)?))
            }
            Payload::Nothing => answered(url, self.agent().run(request.body(&[][..]).map_err(unusable)?)),
            Payload::Bytes(bytes) => answered(url, self.agent().run(request.body(bytes).map_err(unusable)?)),
            Payload::Stream { open, length } => {
                let mut content = open()?.take(length);
                let request = request.header("Content-Length", length.to_string());
                let request = request.body(SendBody::from_reader(&mut content)).map_err(unusable)?;
                answered(url, self.agent().run(request))
            }
        }
    }

    /// Sends a form (`application/x-www-form-urlencoded`) once; any status is an answer.
    pub(crate) fn send_form(&self, url: &str, fields: &[(&str, &str)]) -> Result<Answer> {
        if !self.may_use_network() {
            return Err(RemoteError::Offline { url: shown(url) });
        }
        answered(url, self.agent().post(url).send_form(fields.iter().copied()))
    }
}
