//! Plain data that all floors above share. Nothing here reads files, asks the network or decides how a
//! build goes.
//!
//! | module | owns |
//! | --- | --- |
//! | [`error`] | everything that can go wrong, as typed facts; the program words them |
//! | [`finding`], [`app_build`], [`process`], [`runtime`], [`setting`] | what is concluded about a source |
//! | [`package`], [`pins`], [`package_url`] | packages as records and `shtetl.lock` know them |
//! | [`names`], [`files`], [`places`], [`labels`], [`platform`] | names that several floors agree on |
//! | [`options`], [`fault`], [`ecosystem`] | what configuration says |
//! | [`shell_words`], [`npm_range`], [`dev_packages`] | notations and tables that several languages share |
#![forbid(unsafe_code)]

pub mod app_build;
pub mod dev_packages;
pub mod ecosystem;
pub mod empty_part;
pub mod error;
pub mod failures;
pub mod fault;
pub mod fetched;
pub mod files;
pub mod finding;
pub mod folder;
pub mod labels;
pub mod licence;
pub mod licence_text;
pub mod names;
pub mod npm_range;
pub mod options;
pub mod package;
pub mod package_url;
pub mod pins;
pub mod place;
pub mod places;
pub mod platform;
pub mod process;
pub mod role;
pub mod runtime;
pub mod service;
pub mod setting;
pub mod shell_words;

pub use app_build::{AppBuild, BuildCommand, Pages};
pub use ecosystem::Ecosystem;
pub use empty_part::EmptyPart;
pub use error::{Error, PathFacts, Result};
pub use fault::{Complaint, Fault};
pub use finding::{Claim, Evidence, Finding, LockFound, Problem, Sign, Speaks, configured_constraint};
pub use options::{BuildpackOptions, KnownNames, OptionSpec, OptionValue, Takes};
pub use package::{PackageFact, SourcePackage, Withdrawn};
pub use place::Place;
pub use process::{ProcessKind, ProcessType, in_folder};
pub use role::Role;
pub use runtime::{RuntimeInUse, RuntimeWish};
pub use service::{Service, ServiceKind};
pub use setting::SettingRule;
