//! Options of `buildpacks`.

use crate::SourceOptions;
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct BuildpacksOptions {
    #[command(flatten)]
    pub source: SourceOptions,
    #[command(subcommand)]
    pub command: Option<BuildpacksCommand>,
}

#[derive(Subcommand)]
pub enum BuildpacksCommand {
    /// Write a starter buildpack with a test sample
    Scaffold(ScaffoldOptions),
    /// Survey the samples of a buildpack and compare the results with what is expected
    Trial(TrialOptions),
}

#[derive(Args)]
pub struct ScaffoldOptions {
    /// The folder to write; its name is that of the buildpack
    pub folder: PathBuf,
}

#[derive(Args)]
pub struct TrialOptions {
    /// The folder of the buildpack
    pub folder: PathBuf,
    /// Accept the current results as the expected ones
    #[arg(long)]
    pub accept: bool,
}
