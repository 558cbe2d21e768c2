//! Options of the commands that document the program.

use clap::Args;
use std::path::PathBuf;

#[derive(Args)]
pub struct SchemaOptions {
    /// What is described [default: list the names]
    pub name: Option<String>,
    /// Print the reference of the configuration files in Markdown
    #[arg(long, conflicts_with = "name")]
    pub markdown: bool,
}

#[derive(Args)]
pub struct DemoOptions {
    /// Where to write the apps [default: a new folder that is removed at the end]
    pub dir: Option<PathBuf>,
    /// Build on this base, such as debian:trixie, which needs the network [default: host]
    #[arg(long, value_name = "BASE")]
    pub base: Option<String>,
    /// Do not wait for Enter between steps
    #[arg(long)]
    pub no_pause: bool,
}

#[derive(Args)]
pub struct CompletionsOptions {
    /// The shell
    pub shell: clap_complete::Shell,
}

#[derive(Args)]
pub struct ManOptions {
    /// Folder for the pages [default: man]
    #[arg(value_name = "DIR")]
    pub folder: Option<PathBuf>,
    /// Print all commands as one document in Markdown, and write no pages
    #[arg(long, conflicts_with = "folder")]
    pub markdown: bool,
}

#[derive(Args)]
pub struct ExplainOptions {
    /// The code of an error or of a problem [default: list all codes]
    pub code: Option<String>,
    /// Print all explanations as one document in Markdown
    #[arg(long, conflicts_with = "code")]
    pub markdown: bool,
}
