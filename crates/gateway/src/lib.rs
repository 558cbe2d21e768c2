//! Answers what programs of a step fetch: from the configured addresses only.
//!
//! ```text
//! program in its own network ─► listener on its loopback interface, whose descriptor this process holds
//!     ─► GET or HEAD /<kind>/<path> ─► pinned: from the store, or fetched and compared
//!                                   ─► not pinned: fetched and recorded, or refused and named
//! ```
//!
//! Credentials, TLS and retry are this process's; nothing of them is seen inside.
#![forbid(unsafe_code)]

mod allowance;
mod answers;
pub mod request;
mod serving;
pub mod tools;

pub use answers::{Gateway, Source, Trouble, provide};

/// The port that the gateway listens on, in the network of the step.
pub const PORT: u16 = 8099;

/// The address of a kind, as programs of the step see it; it ends with a slash.
pub fn url(kind: &str) -> String {
    format!("http://127.0.0.1:{PORT}/{kind}/")
}
