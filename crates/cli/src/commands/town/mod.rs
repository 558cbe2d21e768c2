//! `town`: many apps as one.

mod build;
mod check;
mod list;
mod place;
mod push;
mod results;
mod survey;
mod view;

use super::Done;
use crate::arguments::{TownCommand, TownFilter, TownOptions};
use crate::interrupt;
use crate::surroundings::Surroundings;
use render::Output;
use town::apps::{Filter, Town, TownApp};
use wording::Failure;

pub fn run(options: &TownOptions, surroundings: &Surroundings, output: &Output) -> Done {
    if let TownCommand::Gather { results } = &options.command {
        return results::gather(results, output);
    }
    interrupt::cancels(&surroundings.cancel)?;
    let town = Town::open(&options.town)?;
    match &options.command {
        TownCommand::List { filter, failing } => {
            list::run(&chosen(&town, filter, surroundings)?, *failing, surroundings, output)
        }
        TownCommand::Survey { filter, language } => {
            let apps = chosen(&town, filter, surroundings)?;
            survey::run(&apps, language.as_deref(), surroundings, output)
        }
        TownCommand::Check { filter } => check::run(&chosen(&town, filter, surroundings)?, surroundings, output),
        TownCommand::Build(build) => build::run(&town, build, surroundings, output),
        TownCommand::Push { filter, to, evidence, signing } => {
            let apps = chosen(&town, filter, surroundings)?;
            let request = push::PushRequest { to: to.as_deref(), evidence: *evidence, signing };
            push::run(&town, &apps, &request, surroundings, output)
        }
        TownCommand::Plan { filter, shards, out } => {
            results::plan(&chosen(&town, filter, surroundings)?, *shards, out.as_deref(), surroundings, output)
        }
        TownCommand::Gather { results } => results::gather(results, output),
    }
}

/// The apps that are meant.
fn chosen(town: &Town, filter: &TownFilter, surroundings: &Surroundings) -> Result<Vec<TownApp>, Failure> {
    let TownFilter { apps, group, changed_since } = filter.clone();
    let git = surroundings.host.search.iter().map(|folder| folder.join("git")).find(|file| file.is_file());
    Ok(town.chosen(&Filter { names: apps, group, changed_since }, git.as_deref())?)
}
