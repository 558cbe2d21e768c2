//! The command line of `yard`.

use super::GivenSettings;
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Args)]
pub struct YardOptions {
    /// Folder of the yard [default: the user's state folder]
    #[arg(long, global = true, env = "SHTETL_YARD", hide_env_values = true, value_name = "DIR")]
    pub yard: Option<PathBuf>,
    #[command(subcommand)]
    pub command: YardCommand,
}

#[derive(Subcommand)]
pub enum YardCommand {
    /// Release an image: tasks first, then new instances; they take over when they are healthy
    Release {
        /// A name with an optional tag, a layout folder, an archive, or an image in a registry
        image: String,
        /// Port on this machine for the app [default: the one it has, or the image's]
        #[arg(long)]
        port: Option<u16>,
        /// Folder of the app, whose shtetl.toml defines the variant
        #[arg(long, value_name = "DIR")]
        source: Option<PathBuf>,
        /// Use the instances and values of this variant, even if the image was built without it
        #[arg(long, requires = "source", value_name = "NAME")]
        variant: Option<String>,
        #[command(flatten)]
        settings: GivenSettings,
    },
    /// Show apps and their instances: state, memory, addresses
    Status {
        /// Only this app
        app: Option<String>,
    },
    /// Change how many instances of process types run
    Scale {
        app: String,
        /// A process type and its number of instances
        #[arg(required = true, value_name = "PROCESS=N")]
        instances: Vec<String>,
    },
    /// Replace all instances, without losing a request
    Restart { app: String },
    /// Release the image and settings of an earlier release again
    RollBack {
        app: String,
        /// The number of that release [default: the one before the current release]
        release: Option<u32>,
    },
    /// List releases: who made them, when, what changed
    Releases { app: String },
    /// Show the output of instances
    Logs {
        app: String,
        /// Only this process type or task, or this instance, as in web.2
        process: Option<String>,
        /// Keep printing new lines
        #[arg(long, short)]
        follow: bool,
        /// How many lines of each instance
        #[arg(long, default_value_t = 50, value_name = "N")]
        lines: usize,
        /// Only this release [default: the current one]
        #[arg(long, value_name = "N")]
        release: Option<u32>,
    },
    /// Show what happened to an app
    Events {
        app: String,
        /// Keep printing new events
        #[arg(long, short)]
        follow: bool,
    },
    /// Show the settings of an app, or change them: a change is a release without a build
    Settings {
        app: String,
        #[command(flatten)]
        settings: GivenSettings,
        /// Remove the value of a setting; may be repeated
        #[arg(long, value_name = "NAME")]
        unset: Vec<String>,
    },
    /// Show the last 100 health checks of an instance
    Health {
        app: String,
        /// For example web.1
        instance: String,
    },
    /// Print the address of an app
    Open { app: String },
    /// Show apps, instances and their last lines, as they change
    Watch,
    /// End an app, and remove its releases, settings, data and logs
    End {
        app: String,
        /// Repeat the app's name
        #[arg(long, value_name = "APP")]
        confirm: Option<String>,
    },
    /// Start the yard and its apps
    Start,
    /// Stop the yard and its apps; its data stays
    Stop,
    /// The yard itself
    #[command(hide = true)]
    Serve {
        /// Do the work, instead of watching over the process that does
        #[arg(long)]
        worker: bool,
    },
}
