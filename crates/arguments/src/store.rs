//! Options of `store`.

use crate::SourceOptions;
use clap::{Args, Subcommand};

#[derive(Args)]
pub struct StoreOptions {
    #[command(subcommand)]
    pub action: StoreAction,
}

#[derive(Subcommand)]
pub enum StoreAction {
    /// Show how much there is, by kind and by image
    Usage,
    /// Remove what has not been used for a while; named images stay complete
    #[command(group(clap::ArgGroup::new("limit").required(true).args(["keep", "older"])))]
    Prune {
        /// Remove the least recently used until this much is left: 20GB
        #[arg(long, value_name = "SIZE")]
        keep: Option<String>,
        /// Remove what has not been used for this many days: 30d
        #[arg(long, value_name = "DAYS")]
        older: Option<String>,
        /// Show what would be removed, without removing it
        #[arg(long)]
        dry_run: bool,
    },
    /// Send step results to the shared store without building
    Push,
    /// Fetch an app's step results from the shared store without running anything
    Pull {
        #[command(flatten)]
        source: SourceOptions,
    },
    /// Remove the name of an image, so that what only it needs can be pruned
    Forget {
        /// A name with an optional tag
        image: String,
    },
    /// Read everything and report what is damaged or missing
    Check {
        /// Remove damaged entries; the next build recreates them
        #[arg(long)]
        repair: bool,
    },
}
