//! `town`: many apps as one.

mod build;
mod check;
mod find;
mod hand_over;
mod list;
mod outdated;
mod place;
pub mod push;
mod results;
mod show;
mod simulate;
mod survey;
mod update;

use super::{Done, swap_base};
use crate::interrupt;
use crate::surroundings::Surroundings;
use arguments::{SwapBaseOptions, TownCommand, TownFilter, TownOptions};
use render::Output;
use town::apps::{Filter, Town, TownApp};
use town::simulate::Day;
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
        TownCommand::Check { filter, online } => {
            check::run(&chosen(&town, filter, surroundings)?, *online, surroundings, output)
        }
        TownCommand::Build(build) => build::run(&town, build, surroundings, output),
        TownCommand::Push { filter, to, evidence, signing } => {
            let apps = chosen(&town, filter, surroundings)?;
            let request = push::PushRequest { to: to.as_deref(), evidence: *evidence, signing };
            push::run(&town, &apps, &request, surroundings, output)
        }
        TownCommand::Plan { filter, shards, out } => results::plan(
            &chosen(&town, filter, surroundings)?,
            *shards,
            out.as_deref(),
            surroundings,
            output,
        ),
        TownCommand::Show { filter, page } => {
            show::run(&chosen(&town, filter, surroundings)?, page.as_deref(), surroundings, output)
        }
        TownCommand::HandOver(job) => hand_over::run(&town, job, output),
        TownCommand::Simulate { filter, count, changed, pushes, workers, shared_changed, page } => {
            let apps = chosen(&town, filter, surroundings)?;
            let day = Day {
                apps: *count,
                changed: (changed / 100.0).clamp(0.0, 1.0),
                pushes: *pushes,
                workers: (*workers).max(1),
                shared_changed: (shared_changed / 100.0).clamp(0.0, 1.0),
            };
            simulate::run(&apps, day, page.as_deref(), surroundings, output)
        }
        TownCommand::Find { package, registry } => find::run(&town, package, *registry, surroundings, output),
        TownCommand::Outdated { filter, offline } => {
            outdated::run(&chosen(&town, filter, surroundings)?, *offline, surroundings, output)
        }
        TownCommand::Update { filter, commit, patch, dry_run } => {
            let apps = chosen(&town, filter, surroundings)?;
            let keep = match (commit, patch, dry_run) {
                (true, ..) => update::Keep::Commit,
                (_, Some(file), _) => update::Keep::Patch(file),
                (.., true) => update::Keep::Nothing,
                _ => update::Keep::Files,
            };
            update::run(&town, &apps, &keep, surroundings, output)
        }
        TownCommand::SwapBase { filter, onto, newest, registry, dry_run, signing } => {
            let apps = chosen(&town, filter, surroundings)?;
            let images = find::images_of(&town, &apps, *registry, surroundings)?;
            let request = SwapBaseOptions {
                images,
                onto: onto.clone(),
                newest: *newest,
                all: false,
                tag: None,
                dry_run: *dry_run,
                evidence: false,
                signing: signing.clone(),
            };
            swap_base::run(&request, surroundings, output)
        }
        TownCommand::Advisories { advisories, group, fail_on } => {
            let filter = TownFilter { group: group.clone(), ..TownFilter::default() };
            let apps = chosen(&town, &filter, surroundings)?;
            find::advisories(&apps, advisories, *fail_on, surroundings, output)
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
