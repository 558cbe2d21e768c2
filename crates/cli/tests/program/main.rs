//! Drives the built program; one file for each command or concern.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod bad_input;
mod base_images;
mod browser_pages;
mod build;
mod check;
mod check_runtime;
mod compare;
mod compiling;
mod composer;
mod debian;
mod demo;
mod documents;
mod evidence;
mod faults;
mod fetching;
mod floors;
mod followed;
mod gems;
mod go_modules;
mod guides;
mod hand_over;
mod images;
mod languages;
mod limits;
mod lockfiles;
mod lying_bases;
mod lying_registry;
mod maven;
mod outside_buildpacks;
mod packages;
mod pages;
mod platforms;
mod real_compiler;
mod reference;
mod registries;
mod resolving;
mod run;
mod run_all;
mod schema;
mod settings;
mod shell_on_failure;
mod source;
mod starting;
mod store;
mod survey;
mod swap_base;
mod tight_machine;
mod town;
mod watching;
mod words;
mod workspaces;

use testkit::program::Program;

/// The program on an invented machine.
fn program() -> Program {
    Program::new(env!("CARGO_BIN_EXE_shtetl"))
}
mod yard;
