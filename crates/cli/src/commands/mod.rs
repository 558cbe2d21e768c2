//! One file a command: options in, one call into the core, results out.

pub mod addresses;
mod advisories;
mod again;
pub mod build;
pub mod buildpacks;
pub mod check;
pub mod compare;
pub mod demo;
pub mod evidence;
pub mod explain;
pub mod hand_over;
pub mod init;
pub mod keys;
pub mod ledger;
mod machine;
mod opened;
mod order;
mod pages;
mod previews;
pub mod pull;
pub mod push;
pub mod reference;
pub mod run;
pub mod runtimes;
pub mod schema;
pub mod settings;
pub mod sharing;
pub mod show;
pub mod store;
pub mod survey;
pub mod swap_base;
pub mod town;
mod variants;
pub mod verify;
mod watching;
pub mod yard;

use std::process::ExitCode;
use wording::Failure;

/// What a command ends with.
pub type Done = Result<ExitCode, Failure>;
