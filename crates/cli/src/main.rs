//! The program `shtetl`: arguments in, one call into the core, results out.
#![forbid(unsafe_code)]

mod addresses;
mod arguments;
mod commands;
mod demo_files;
mod documents;
mod ecosystems;
mod error;
mod events;
mod folders;
mod interrupt;
mod render;
mod surroundings;

use arguments::{Arguments, Command};
use clap::Parser;
use error::Failure;
use render::Output;
use std::io::ErrorKind;
use std::process::ExitCode;
use surroundings::Surroundings;

fn main() -> ExitCode {
    if let Some(code) = sandbox::enter_stage() {
        return code;
    }
    sandbox::give_memory_back_early();
    let arguments = Arguments::parse();
    let output = Output::new(arguments.global.format);
    let around = match Surroundings::gather(&arguments.global, arguments.command.app()) {
        Ok(around) => around,
        Err(failure) => return error::report(&output, &failure),
    };
    let done = match &arguments.command {
        Command::Survey(options) => commands::survey::run(options, &around, &output),
        Command::Init(options) => commands::init::run(options, &around, &output),
        Command::Settings(options) => commands::settings::run(options, &around, &output),
        Command::Check(options) => commands::check::run(options, &around, &output),
        Command::Build(options) => commands::build::run(options, &around, &output),
        Command::Show(options) => commands::show::run(options, &around, &output),
        Command::Run(options) => commands::run::run(options, &around, &output),
        Command::Ledger(options) => commands::ledger::run(options, &around, &output),
        Command::Addresses(options) => commands::addresses::run(options, &around, &output),
        Command::Runtimes(options) => commands::runtimes::run(options, &output),
        Command::Schema(options) => commands::schema::run(options, &output),
        Command::Demo(options) => commands::demo::run(options, &around, &output),
    };
    match done {
        Err(failure) => error::report(&output, &failure),
        Ok(code) => match output.failure() {
            // A reader that went away has seen enough.
            Some(failed) if failed.kind() != ErrorKind::BrokenPipe => {
                error::report(&output, &Failure::Output(failed))
            }
            _ => code,
        },
    }
}
