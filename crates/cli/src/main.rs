//! The program `shtetl`: arguments in, one call into the core, results out.
#![forbid(unsafe_code)]

mod addresses;
mod commands;
mod demo_files;
mod documents;
mod folders;
mod interrupt;
mod shared;
mod surroundings;
mod transfer;

use arguments::{Arguments, Command};
use clap::Parser;
use render::Output;
use std::io::ErrorKind;
use std::process::ExitCode;
use surroundings::Surroundings;
use wording::Failure;

/// How many files have to be open at once, at least.
const FEWEST_FILES: u64 = 64;

fn main() -> ExitCode {
    if let Some(code) = sandbox::enter_stage() {
        return code;
    }
    sandbox::give_memory_back_early();
    sandbox::let_long_files_fail();
    let arguments = Arguments::parse();
    wording::report_panics(arguments.global.format);
    let output = Output::new(arguments.global.format).verbose(arguments.global.verbose);
    let files = sandbox::open_as_many_files_as_allowed();
    if files < FEWEST_FILES {
        return wording::report(&output, &Failure::FewFiles { allowed: files });
    }
    let surroundings = match Surroundings::gather(&arguments.global, arguments.command.app()) {
        Ok(surroundings) => surroundings,
        Err(failure) => return wording::report(&output, &failure),
    };
    let done = match &arguments.command {
        Command::Survey(options) => commands::survey::run(options, &surroundings, &output),
        Command::Init(options) => commands::init::run(options, &surroundings, &output),
        Command::Settings(options) => commands::settings::run(options, &surroundings, &output),
        Command::Check(options) => commands::check::run(options, &surroundings, &output),
        Command::Build(options) => commands::build::run(options, &surroundings, &output),
        Command::Show(options) => commands::show::run(options, &surroundings, &output),
        Command::Run(options) => commands::run::run(options, &surroundings, &output),
        Command::Town(options) => commands::town::run(options, &surroundings, &output),
        Command::Yard(options) => commands::yard::run(options, &surroundings, &output),
        Command::HandOver(options) => commands::hand_over::run(options, &surroundings, &output),
        Command::SwapBase(options) => commands::swap_base::run(options, &surroundings, &output),
        Command::Push(options) => commands::push::run(options, &surroundings, &output),
        Command::Pull(options) => commands::pull::run(options, &surroundings, &output),
        Command::Compare(options) => commands::compare::run(options, &surroundings, &output),
        Command::Evidence(options) => commands::evidence::run(options, &surroundings, &output),
        Command::Verify(options) => commands::verify::run(options, &surroundings, &output),
        Command::Keys(options) => commands::keys::run(options, &output),
        Command::Ledger(options) => commands::ledger::run(options, &surroundings, &output),
        Command::Addresses(options) => commands::addresses::run(options, &surroundings, &output),
        Command::Runtimes(options) => commands::runtimes::run(options, &output),
        Command::Buildpacks(options) => commands::buildpacks::run(options, &surroundings, &output),
        Command::Store(options) => commands::store::run(options, &surroundings, &output),
        Command::Schema(options) => commands::schema::run(options, &output),
        Command::Explain(options) => commands::explain::run(options, &output),
        Command::Completions(options) => commands::reference::completions(options, &output),
        Command::Man(options) => commands::reference::man(options, &output),
        Command::Demo(options) => commands::demo::run(options, &surroundings, &output),
    };
    match done {
        Err(failure) => wording::report(&output, &failure),
        Ok(code) => match output.failure() {
            // A reader that went away has seen enough.
            Some(failed) if failed.kind() != ErrorKind::BrokenPipe => {
                wording::report(&output, &Failure::Output(failed))
            }
            _ => code,
        },
    }
}
