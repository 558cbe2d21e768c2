//! The command line of `town`.

use super::{SigningOptions, Threshold};
use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Args)]
pub struct TownOptions {
    /// The file that says which apps belong together
    #[arg(
        long,
        global = true,
        env = "SHTETL_TOWN",
        hide_env_values = true,
        value_name = "FILE",
        default_value = "town.toml"
    )]
    pub town: PathBuf,
    #[command(subcommand)]
    pub command: TownCommand,
}

/// Which apps are meant.
#[derive(Args, Clone, Default)]
pub struct TownFilter {
    /// Only these apps
    pub apps: Vec<String>,
    /// Only apps of this group
    #[arg(long, value_name = "GROUP")]
    pub group: Option<String>,
    /// Only apps with files that differ from this git revision
    #[arg(long, value_name = "REVISION")]
    pub changed_since: Option<String>,
}

#[derive(Subcommand)]
pub enum TownCommand {
    /// List the apps with their groups and last builds
    List {
        #[command(flatten)]
        filter: TownFilter,
        /// Only apps whose last build failed
        #[arg(long)]
        failing: bool,
    },
    /// Show what each app is: language, version, base, process types
    Survey {
        #[command(flatten)]
        filter: TownFilter,
        /// Only apps in this language
        #[arg(long, value_name = "LANGUAGE")]
        language: Option<String>,
    },
    /// Find everything that would break a build or a start; equal problems of many apps are told once
    Check {
        #[command(flatten)]
        filter: TownFilter,
        /// Also ask registries which locked versions they do not offer any more, or advise against
        #[arg(long)]
        online: bool,
    },
    /// Build all apps in one go: a step that many apps want runs once
    Build(TownBuildOptions),
    /// Push images of apps to the registry of the town
    Push {
        #[command(flatten)]
        filter: TownFilter,
        /// Registry and beginning of names there [default: that of town.toml]
        #[arg(long, value_name = "REGISTRY/NAME")]
        to: Option<String>,
        /// Attach the evidence of each image
        #[arg(long)]
        evidence: bool,
        #[command(flatten)]
        signing: SigningOptions,
    },
    /// Show the town at a glance: languages, bases, runtimes, sizes, ages, support, failures
    Show {
        #[command(flatten)]
        filter: TownFilter,
        /// Also write a page for a browser, with charts: one self-contained file
        #[arg(long, value_name = "FILE")]
        page: Option<PathBuf>,
    },
    /// Write the job that builds this town on an engine: parts, limits, repeats, secrets by reference
    HandOver(TownJobOptions),
    /// Simulate a day of commits, from the durations of past builds
    Simulate {
        #[command(flatten)]
        filter: TownFilter,
        /// How many apps there are [default: those of the town]
        #[arg(long = "count", value_name = "N", default_value_t = 0)]
        count: usize,
        /// How many of the apps each push changes, in percent
        #[arg(long, value_name = "PERCENT", default_value_t = 0.5)]
        changed: f64,
        /// How many pushes there are on that day
        #[arg(long, value_name = "N", default_value_t = 200)]
        pushes: usize,
        /// How many workers build at once
        #[arg(long, value_name = "N", default_value_t = 2)]
        workers: usize,
        /// How many of the pushes change something that many apps share, in percent
        #[arg(long, value_name = "PERCENT", default_value_t = 1.0)]
        shared_changed: f64,
        /// Also write a page for a browser, with a chart: one self-contained file
        #[arg(long, value_name = "FILE")]
        page: Option<PathBuf>,
    },
    /// Spread apps over parts that take about as long, by the durations of past builds
    Plan {
        #[command(flatten)]
        filter: TownFilter,
        /// How many parts
        #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
        shards: u32,
        /// Write the plan to this file, for `town build --parts`
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// List the images that have a package: `town find lodash@<4.17.21`, `town find deb:libssl3`
    Find {
        /// NAME, KIND:NAME or a package URL; behind it @VERSION, or @ and bounds such as >=4,<4.17.21
        package: String,
        /// Look at the images in the registry of the town, not at those in the store
        #[arg(long)]
        registry: bool,
    },
    /// List what of the images is behind: bases and runtimes past their support, packages of the distribution
    Outdated {
        #[command(flatten)]
        filter: TownFilter,
        /// Ask nobody: only what dates of support tell
        #[arg(long)]
        offline: bool,
    },
    /// Move the pins of apps to what is newest, and build them; an app that fails keeps its pins
    Update {
        #[command(flatten)]
        filter: TownFilter,
        /// Commit the moved pins: one commit in each repository
        #[arg(long, conflicts_with_all = ["patch", "dry_run"])]
        commit: bool,
        /// Write the moved pins to this file, as a patch, and leave the folders as they were
        #[arg(long, value_name = "FILE", conflicts_with = "dry_run")]
        patch: Option<PathBuf>,
        /// Show what would move, and change nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// Put images of apps on another base without building them
    SwapBase {
        #[command(flatten)]
        filter: TownFilter,
        /// New base, as in `[base] from`: debian:SUITE or oci:REFERENCE
        #[arg(long, value_name = "BASE", required_unless_present = "newest", conflicts_with = "newest")]
        onto: Option<String>,
        /// Keep each image's base, in its newest state with all security updates
        #[arg(long)]
        newest: bool,
        /// Swap the images in the registry of the town, not those in the store
        #[arg(long)]
        registry: bool,
        /// Show what would change, and change nothing
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        signing: SigningOptions,
    },
    /// Find advisories about the packages of images
    Advisories {
        /// Folder with documents in the OSV format, or one such file
        advisories: PathBuf,
        /// Only apps of this group
        #[arg(long, value_name = "GROUP")]
        group: Option<String>,
        /// Exit code 1 when one is at least as bad
        #[arg(long, value_enum, value_name = "SEVERITY")]
        fail_on: Option<Threshold>,
    },
    /// Put the results of all parts together: one summary, one exit code
    Gather {
        /// What `town build --result` wrote for each part
        #[arg(required = true, value_name = "FILE")]
        results: Vec<PathBuf>,
    },
}

/// Engines that start parts, and repeat those that die.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum JobEngine {
    /// An indexed job of Kubernetes
    KubernetesJob,
    /// An array of jobs for Slurm
    Slurm,
    /// A matrix, and what its jobs run, for CI systems
    Ci,
}

#[derive(Args)]
pub struct TownJobOptions {
    /// The engine
    #[arg(long, value_enum, value_name = "ENGINE")]
    pub to: JobEngine,
    /// How many parts
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub shards: u32,
    /// The image with this program, for Kubernetes
    #[arg(long, value_name = "REFERENCE", default_value = "shtetl")]
    pub image: String,
    /// Write files into this folder, and not to standard output
    #[arg(long, value_name = "DIR")]
    pub out: Option<PathBuf>,
    /// Processors of a part
    #[arg(long, value_name = "N", default_value_t = 2)]
    pub cpus: u32,
    /// Memory of a part, in MiB
    #[arg(long, value_name = "MIB", default_value_t = 2048)]
    pub memory: u64,
    /// How often a part is begun again that dies
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub retries: u32,
    /// Where results of steps are shared [default: the variable SHTETL_SHARED]
    #[arg(long, value_name = "PLACE")]
    pub shared: Option<String>,
    /// Push images to the registry of the town
    #[arg(long)]
    pub push: bool,
    /// The secret of the engine that holds keys, by its name
    #[arg(long, value_name = "NAME", default_value = "town")]
    pub secret: String,
}

#[derive(Args)]
pub struct TownBuildOptions {
    #[command(flatten)]
    pub filter: TownFilter,
    /// Tag of images, where town.toml says none for a group
    #[arg(long, default_value = "latest")]
    pub tag: String,
    /// End with the first app that fails
    #[arg(long)]
    pub fail_fast: bool,
    /// Build even apps of which it is known that they will fail
    #[arg(long)]
    pub anyway: bool,
    /// Build only this part: I/N, or auto where the engine that runs it says which
    #[arg(long, value_name = "I/N")]
    pub shard: Option<String>,
    /// How many parts there are, where an engine says only which one it is
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub shards: Option<u32>,
    /// What belongs to which part, as `town plan --out` wrote it [default: by name]
    #[arg(long, value_name = "FILE")]
    pub parts: Option<PathBuf>,
    /// Write what came of each app to this file, for `town gather`
    #[arg(long, value_name = "FILE")]
    pub result: Option<PathBuf>,
    /// Push images that were built to the registry of the town
    #[arg(long)]
    pub push: bool,
    /// Use no network: what is not at hand fails
    #[arg(long)]
    pub offline: bool,
    /// Fail where something is not pinned
    #[arg(long, conflicts_with = "update")]
    pub locked: bool,
    /// Move pins to what is newest
    #[arg(long)]
    pub update: bool,
}
