//! The command line of `town`.

use super::{SigningOptions, Threshold};
use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Args)]
pub struct TownOptions {
    /// The file that lists the apps of the town
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
    /// Find everything that would break a build or a start; identical problems are grouped
    Check {
        #[command(flatten)]
        filter: TownFilter,
        /// Also ask the registries for withdrawn and deprecated versions
        #[arg(long)]
        online: bool,
    },
    /// Build all apps; a step shared by many apps runs once
    Build(TownBuildOptions),
    /// Push images of apps to the registry of the town
    Push {
        #[command(flatten)]
        filter: TownFilter,
        /// Registry and name prefix [default: that of town.toml]
        #[arg(long, value_name = "REGISTRY/NAME")]
        to: Option<String>,
        /// Also attach the evidence of each image
        #[arg(long)]
        evidence: bool,
        #[command(flatten)]
        signing: SigningOptions,
    },
    /// Show an overview: languages, bases, runtimes, sizes, ages, support, failures
    Show {
        #[command(flatten)]
        filter: TownFilter,
        /// Also write a page for a browser, with charts: one self-contained file
        #[arg(long, value_name = "FILE")]
        page: Option<PathBuf>,
    },
    /// Write a job that builds this town on an engine, with secrets by reference
    HandOver(TownJobOptions),
    /// Simulate a day of commits, from the durations of past builds
    Simulate {
        #[command(flatten)]
        filter: TownFilter,
        /// Number of apps; 0 takes the number in the town
        #[arg(long, value_name = "N", default_value_t = 0)]
        count: usize,
        /// Share of the apps that each commit changes, in percent
        #[arg(long, value_name = "PERCENT", default_value_t = 0.5)]
        changed: f64,
        /// Number of commits on that day
        #[arg(long, value_name = "N", default_value_t = 200)]
        pushes: usize,
        /// Number of steps that run at once
        #[arg(long, value_name = "N", default_value_t = 2)]
        workers: usize,
        /// Share of the commits that change something many apps share, in percent
        #[arg(long, value_name = "PERCENT", default_value_t = 1.0)]
        shared_changed: f64,
        /// Also write a page for a browser, with a chart: one self-contained file
        #[arg(long, value_name = "FILE")]
        page: Option<PathBuf>,
    },
    /// Divide the apps into shards of similar duration, based on past builds
    Plan {
        #[command(flatten)]
        filter: TownFilter,
        /// Number of shards
        #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
        shards: u32,
        /// Write the plan to this file, for `town build --parts`
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// List the images that contain a package, such as hull@<4.17.21
    Find {
        /// NAME, KIND:NAME or a package URL, optionally with @VERSION or @RANGE (>=4,<4.17.21)
        package: String,
        /// Search the images in the town's registry instead of the store
        #[arg(long)]
        registry: bool,
    },
    /// List what is out of date: unsupported bases and runtimes, distribution packages with updates
    Outdated {
        #[command(flatten)]
        filter: TownFilter,
        /// Do not use the network; check support dates only
        #[arg(long)]
        offline: bool,
    },
    /// Move the pins to the newest versions and build; an app that fails keeps its pins
    Update {
        #[command(flatten)]
        filter: TownFilter,
        /// Commit the moved pins, one commit per repository
        #[arg(long, conflicts_with_all = ["patch", "dry_run"])]
        commit: bool,
        /// Write the moved pins to this file as a patch, and leave the folders unchanged
        #[arg(long, value_name = "FILE", conflicts_with = "dry_run")]
        patch: Option<PathBuf>,
        /// Show what would move, without changing anything
        #[arg(long)]
        dry_run: bool,
    },
    /// Swap the base of the apps' images without rebuilding
    SwapBase {
        #[command(flatten)]
        filter: TownFilter,
        /// New base, as in `[base] from`: debian:SUITE or oci:REFERENCE
        #[arg(long, value_name = "BASE", required_unless_present = "newest", conflicts_with = "newest")]
        onto: Option<String>,
        /// Keep each image's base, updated to its newest state
        #[arg(long)]
        newest: bool,
        /// Swap the images in the town's registry instead of the store
        #[arg(long)]
        registry: bool,
        /// Show what would change, without changing anything
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        signing: SigningOptions,
    },
    /// List images affected by advisories
    Advisories {
        /// An OSV document, or a folder of them
        advisories: PathBuf,
        /// Only apps of this group
        #[arg(long, value_name = "GROUP")]
        group: Option<String>,
        /// Exit with code 1 if an advisory has at least this severity
        #[arg(long, value_enum, value_name = "SEVERITY")]
        fail_on: Option<Threshold>,
    },
    /// Combine the results of all shards into one summary and exit code
    Gather {
        /// Result files of the shards, written by `town build --result`
        #[arg(required = true, value_name = "FILE")]
        results: Vec<PathBuf>,
    },
}

/// Engines that start shards and retry those that die.
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
    /// Number of shards
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub shards: u32,
    /// Image that contains shtetl, for Kubernetes
    #[arg(long, value_name = "REFERENCE", default_value = "shtetl")]
    pub image: String,
    /// Write the files to this folder instead of standard output
    #[arg(long, value_name = "DIR")]
    pub out: Option<PathBuf>,
    /// CPUs per shard
    #[arg(long, value_name = "N", default_value_t = 2)]
    pub cpus: u32,
    /// Memory per shard, in MiB
    #[arg(long, value_name = "MIB", default_value_t = 2048)]
    pub memory: u64,
    /// How often a shard that dies is retried
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub retries: u32,
    /// Location of the shared store [default: the variable SHTETL_SHARED]
    #[arg(long, value_name = "PLACE")]
    pub shared: Option<String>,
    /// Push images to the registry of the town
    #[arg(long)]
    pub push: bool,
    /// Name of the engine's secret that holds the keys
    #[arg(long, value_name = "NAME", default_value = "town")]
    pub secret: String,
}

#[derive(Args)]
pub struct TownBuildOptions {
    #[command(flatten)]
    pub filter: TownFilter,
    /// Tag of the images, unless town.toml sets one for a group
    #[arg(long, default_value = "latest")]
    pub tag: String,
    /// Stop at the first app that fails
    #[arg(long)]
    pub fail_fast: bool,
    /// Build even apps that `check` predicts will fail
    #[arg(long)]
    pub anyway: bool,
    /// Build only this shard: I/N, or auto to read it from the engine's variables
    #[arg(long, value_name = "I/N")]
    pub shard: Option<String>,
    /// Number of shards, if the engine provides only the index
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub shards: Option<u32>,
    /// Which apps belong to which shard, as written by `town plan --out` [default: by name]
    #[arg(long, value_name = "FILE")]
    pub parts: Option<PathBuf>,
    /// Write the result of each app to this file, for `town gather`
    #[arg(long, value_name = "FILE")]
    pub result: Option<PathBuf>,
    /// Also push the images to the town's registry
    #[arg(long)]
    pub push: bool,
    /// Never use the network; fail if something is not in the store
    #[arg(long)]
    pub offline: bool,
    /// Fail if a pin is missing
    #[arg(long, conflicts_with = "update")]
    pub locked: bool,
    /// Move the pins to the newest versions
    #[arg(long)]
    pub update: bool,
}
