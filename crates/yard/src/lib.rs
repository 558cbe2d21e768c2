//! A small stand-in for a hosting platform on this machine.
//!
//! ```text
//! client ─ socket ─► yard (a process in the background) ─► apps ─► releases ─► instances
//!                      ▲ proxy: a port for each app, each request goes to the current release
//! ```
//!
//! | module | owns |
//! | --- | --- |
//! | `place` | the folder of the yard, and what lies where in it |
//! | `state` | what is kept of an app: its releases, its scale, its port |
//! | `protocol` | what clients ask, and what they are answered |
//! | `app` | a running app: its current release, and how it changes |
//! | `serve` | the process in the background |
//! | `client` | the other side |
//!
//! What is on disk says what should run. Whoever kills the yard kills its instances with it (their sandbox ends with their
//! parent); the next yard starts what should run.

mod app;
mod client;
mod events;
mod host;
mod place;
mod protocol;
mod serve;
mod state;

pub use client::{Client, Trouble};
pub use events::{Event, EventKind};
pub use host::Host;
pub use place::Yard;
pub use protocol::{Answer, AppStatus, Fault, InstanceStatus, Request};
pub use serve::serve;
pub use state::{AppState, Outcome, Release, ReleaseKind, Way};
