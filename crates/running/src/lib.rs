//! Runs images on this machine.
//!
//! ```text
//! process      one isolated process, its port, and the way to it
//! image        what an image says of a process type, as such a process
//! ways         names in the network of a process that lead to other processes
//! services/    databases and the like, from packages
//! app/         all process types of an app: kept running, asked for their health, balanced
//! ```

pub mod app;
pub mod data;
pub mod http;
pub mod image;
pub mod ports;
pub mod process;
pub mod services;
pub mod unreachable;
pub mod unwritable;
pub mod ways;

pub use image::{Start, start};
pub use process::Launched;
