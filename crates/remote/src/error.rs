//! What can go wrong with things that come from elsewhere, as facts without wording.

use std::io;
use std::path::PathBuf;
use std::time::Duration;

/// The result of this crate's functions.
pub type Result<T, E = RemoteError> = std::result::Result<T, E>;

/// A failure to get something from an address.
#[derive(Debug, thiserror::Error, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum RemoteError {
    /// The address answered, but has nothing under this name.
    #[error("{url}: not found")]
    NotFound {
        /// The URL or path.
        url: String,
    },
    /// The address answered with a status that is not success.
    #[error("{url}: status {status}")]
    Status {
        /// The URL.
        url: String,
        /// The HTTP status code.
        status: u16,
        /// How long the server asks to wait before the next try.
        retry_after: Option<Duration>,
        /// What the server says about it, in one line.
        said: Option<String>,
    },
    /// No answer after all tries.
    #[error("{url}: {detail}")]
    Unreachable {
        /// The URL.
        url: String,
        /// What the last try ended with.
        detail: String,
    },
    /// A file of a folder address cannot be read.
    #[error("{path}: {source}", path = path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// The operating system's message.
        source: io::Error,
    },
    /// The network was needed though the caller asked to do without.
    #[error("{url} needs the network")]
    Offline {
        /// The URL.
        url: String,
    },
    /// The caller does not want it any more.
    #[error("cancelled")]
    Cancelled,
    /// An answer is larger than any document of its kind.
    #[error("{url}: more than {most} bytes")]
    TooLarge {
        /// The URL.
        url: String,
        /// The most that is read, in bytes.
        most: u64,
    },
    /// The bytes are not the ones that were locked.
    #[error("{url}: {algorithm} is {found}, expected {expected}")]
    Integrity {
        /// The URL or path.
        url: String,
        /// The hash that was compared.
        algorithm: &'static str,
        /// As locked.
        expected: String,
        /// As received.
        found: String,
    },
    /// The registry does not let this user have it.
    #[error("{url}: denied")]
    Denied {
        /// The URL.
        url: String,
        /// The registry whose credentials were looked for.
        host: String,
        /// Where they were found, if they were.
        credentials: Option<String>,
    },
    /// A program or file that knows credentials cannot be used.
    #[error("{what}: {detail}")]
    Credentials {
        /// The file or program.
        what: String,
        /// What is wrong with it.
        detail: String,
    },
    /// An answer does not follow the registry's protocol.
    #[error("{url}: {detail}")]
    Malformed {
        /// The URL or path.
        url: String,
        /// What is wrong with it.
        detail: String,
    },
}
