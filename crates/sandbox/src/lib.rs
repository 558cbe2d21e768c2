//! Runs one process in an isolated root made of read-only layers, without a daemon, as the
//! superuser or as any user.
//!
//! ```text
//! caller ─ control pipe ─► stage one (namespaces) ─► stage two = PID 1 (mounts, reaps) ─► command
//!        ◄─ report pipe ─────────────────────────────┤
//!        ◄─ link (connections, as descriptors) ───────┘
//! ```
//!
//! Both stages are this program, started again from `/proc/self/exe`: see [`enter_stage`]. When the
//! caller goes away, however suddenly, the control pipe closes, PID 1 ends, and with it all that ran.
//! This is the only crate with `unsafe` code: taking over inherited pipes, preparing a child between
//! `fork` and `exec`, raising the loopback interface, and setting how memory is given back.

mod filter;
mod group;
mod limits;
mod link;
mod loopback;
mod memory;
mod own_limits;
mod plan;
mod privileges;
mod probe;
mod protocol;
mod root;
mod running;
mod stage;
mod terminal;

pub use limits::{AppLimits, Limit, Limits};
pub use link::Link;
pub use loopback::raise_loopback;
pub use memory::{give_memory_back_early, memory_of_tree};
pub use own_limits::{let_long_files_fail, open_as_many_files_as_allowed};
pub use plan::{FIRST_ID, Ground, ID_COUNT, Isolation, Merged, Mode, Network, Plan};
pub use probe::{Refusal, Walls, probe, walls};
pub use running::{Ended, RemoteControl, Running, SandboxError, start};
pub use stage::enter_stage;
pub use terminal::Terminal;
