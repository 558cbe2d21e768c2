//! `check --machine`: how this machine isolates steps and processes, and what they may use.

use super::Done;
use crate::surroundings::Surroundings;
use content::store::remove_tree;
use render::{Output, machine};
use sandbox::walls;
use std::process::ExitCode;

pub fn run(surroundings: &Surroundings, output: &Output) -> Done {
    let scratch = surroundings.store.temporary_folder()?;
    let walls = walls(&scratch);
    remove_tree(&scratch);
    machine::show(&walls, &surroundings.step_limits(), output);
    Ok(ExitCode::from(u8::from(walls.mode.is_err())))
}
