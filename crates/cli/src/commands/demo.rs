//! `demo`
use super::Done;
use crate::arguments::DemoOptions;
use crate::render::Output;
use crate::surroundings::Surroundings;
pub fn run(_options: &DemoOptions, _around: &Surroundings, _output: &Output) -> Done {
    let _ = crate::demo_files::FILES;
    Ok(std::process::ExitCode::SUCCESS)
}
