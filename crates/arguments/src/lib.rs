//! The command line, as it is written: every comment on an option is its help.
#![forbid(unsafe_code)]
#![allow(missing_docs, reason = "comments on options are help texts")]
#![allow(rustdoc::broken_intra_doc_links, rustdoc::invalid_html_tags, reason = "help texts are not Markdown")]

mod buildpacks;
mod documents;
mod images;
pub mod reference;
mod store;
mod town;
mod yard;

pub use buildpacks::{BuildpacksCommand, BuildpacksOptions, ScaffoldOptions, TrialOptions};
pub use documents::{CompletionsOptions, DemoOptions, ExplainOptions, ManOptions, SchemaOptions};
pub use images::{
    CompareOptions, DescriptorForm, EvidenceOptions, GivenSettings, HandOverOptions, KeysCommand,
    KeysOptions, PullOptions, PushOptions, RunOptions, ShowOptions, SigningOptions, SwapBaseOptions,
    Threshold, VerifyOptions,
};
pub use store::{StoreAction, StoreOptions};
pub use town::{JobEngine, TownBuildOptions, TownCommand, TownFilter, TownJobOptions, TownOptions};
pub use yard::{YardCommand, YardOptions};

use clap::builder::styling::{AnsiColor, Styles};
use clap::{Args, Parser, Subcommand, ValueEnum};
use render::Format;
use std::path::{Path, PathBuf};

const STYLES: Styles = Styles::styled()
    .header(AnsiColor::Cyan.on_default().bold())
    .usage(AnsiColor::Cyan.on_default().bold())
    .literal(AnsiColor::Green.on_default());

/// Turns application source into runnable, layered OCI images: no daemon, no root, no toolchain.
#[derive(Parser)]
#[command(name = "shtetl", version, styles = STYLES, max_term_width = 100)]
#[command(after_help = "New here? `shtetl demo` walks through a whole build.\n\
    Exit codes: 0 done, 1 the work failed, 2 wrong usage or configuration, 3 an outside failure (network, disk, registry).")]
pub struct Arguments {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

/// Options of every command.
#[derive(Args)]
pub struct Global {
    /// How results are written: text for people, json for programs
    #[arg(
        long,
        global = true,
        value_enum,
        default_value_t,
        value_name = "FORMAT",
        help_heading = "Global options"
    )]
    pub format: Format,
    /// Also show requests to servers, and what an error was caused by
    #[arg(long, global = true, help_heading = "Global options")]
    pub verbose: bool,
    /// Folder of the store [default: the user's cache folder]
    #[arg(
        long,
        global = true,
        env = "SHTETL_STORE",
        hide_env_values = true,
        value_name = "DIR",
        help_heading = "Global options"
    )]
    pub store: Option<PathBuf>,
    /// Where packages come from: npm=URL or pypi=FOLDER; may be repeated
    #[arg(long = "address", global = true, value_name = "KIND=WHERE", help_heading = "Global options")]
    pub addresses: Vec<String>,
    /// How many things to do at once [default: the number of CPUs, at least 8]
    #[arg(
        long,
        global = true,
        env = "SHTETL_JOBS",
        hide_env_values = true,
        value_name = "N",
        help_heading = "Global options"
    )]
    pub jobs: Option<usize>,
    /// House rules of the organisation [default: the file that shtetl.toml names]
    #[arg(
        long,
        global = true,
        env = "SHTETL_RULES",
        hide_env_values = true,
        value_name = "FILE",
        help_heading = "Global options"
    )]
    pub house_rules: Option<PathBuf>,
    /// Folder whose files are captured for the base `host`
    #[arg(
        long,
        global = true,
        env = "SHTETL_HOST_ROOT",
        value_name = "DIR",
        hide = true,
        default_value = "/"
    )]
    pub host_root: PathBuf,
}

/// What a process sees of the network.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum RunNetwork {
    Own,
    Host,
}

#[derive(Subcommand)]
pub enum Command {
    /// Show what a source is and why; nothing is built
    #[command(after_help = "Examples:\n  shtetl survey\n  shtetl survey apps/timetable --format json\n  \
        shtetl survey apps/timetable --rev v14\n  shtetl survey timetable-1.4.zip")]
    Survey(SurveyOptions),
    /// Write a commented shtetl.toml from what the survey finds; never overwrites one
    #[command(after_help = "Examples:\n  shtetl init\n  shtetl init apps/timetable --yes")]
    Init(InitOptions),
    /// Show the effective configuration and where each value comes from; secrets are masked
    #[command(after_help = "Examples:\n  shtetl settings\n  shtetl settings apps/timetable --variant live")]
    Settings(SettingsOptions),
    /// Find everything that would break the build or the start; nothing is built
    #[command(
        after_help = "Examples:\n  shtetl check\n  shtetl check apps/timetable --format json\n  shtetl check --rules\n\n\
        Exit code 1 if something will fail; warnings alone do not count."
    )]
    Check(CheckOptions),
    /// Build the image of an app
    #[command(
        after_help = "Examples:\n  shtetl build\n  shtetl build apps/timetable --tag 14 --archive timetable.tar\n  \
        shtetl build --dry-run        what would run, and why"
    )]
    Build(BuildOptions),
    /// Show what is in an image: layers, process types, settings, packages
    #[command(after_help = "Examples:\n  shtetl show timetable\n  shtetl show ./layout --packages\n  \
        shtetl show timetable:14 --record\n  shtetl show timetable:14 --advisories osv --fail-on high")]
    Show(ShowOptions),
    /// Run a process type or task of an image on this machine
    #[command(
        after_help = "Examples:\n  shtetl run timetable\n  shtetl run timetable tides --set HARBOUR=Kestrel\n  \
        shtetl run fares:14 audit -- --from 2026-01-01\n  shtetl run fares --all\n  \
        shtetl run fares -- python -m this\n\n\
        The exit code is the process's own; 0 when it was stopped with Ctrl-C or SIGTERM."
    )]
    Run(RunOptions),
    /// Work with many apps at once: survey, check, build, push, maintain
    #[command(after_help = "Examples:\n  shtetl town list\n  shtetl town check --group web\n  \
        shtetl town build --changed-since main\n  shtetl town build --shard 3/8 --result 3.json\n  shtetl town gather *.json")]
    Town(TownOptions),
    /// Release images on this machine: health, scaling, roll-backs and logs, as a platform would
    #[command(after_help = "Examples:\n  shtetl yard release timetable\n  shtetl yard status\n  \
        shtetl yard scale timetable web=3\n  shtetl yard logs timetable --follow\n  shtetl yard roll-back timetable\n  \
        shtetl yard end timetable --confirm timetable\n\n\
        The yard runs in the background; `shtetl yard stop` ends it, its data stays.")]
    Yard(YardOptions),
    /// Write descriptors for a platform that runs the app: Compose, Kubernetes or systemd
    #[command(
        after_help = "Examples:\n  shtetl hand-over harbour.example/ferry/timetable:14 --to kubernetes --folder deploy\n  \
        shtetl hand-over timetable:14 --registry harbour.example/ferry/timetable --to compose --folder .\n  \
        shtetl hand-over harbour.example/ferry/timetable:14 --to kubernetes --folder live --source . --variant live --host timetable.example --scale 2..6\n\n\
        Images are referenced by digest, and secrets by name only."
    )]
    HandOver(HandOverOptions),
    /// Swap the base of images, or update it to its newest state, without rebuilding
    #[command(after_help = "Examples:\n  shtetl swap-base --newest --all\n  \
        shtetl swap-base timetable fares:14 --onto debian:trixie --dry-run\n  \
        shtetl swap-base harbour.example/ferry/timetable:live --newest --evidence\n\n\
        An image is refused if its app needs something that the new base lacks. Exit code 1 if any was refused.")]
    SwapBase(SwapBaseOptions),
    /// Push an image to a registry; only missing content is sent, tags last
    #[command(after_help = "Examples:\n  shtetl push timetable harbour.example/ferry/timetable\n  \
        shtetl push timetable:14 harbour.example/ferry/timetable:live\n\n\
        Besides the image's tag, each process type gets its own: live-web, live-tides.")]
    Push(PushOptions),
    /// Pull an image built by shtetl from a registry into the store, verifying everything
    #[command(after_help = "Examples:\n  shtetl pull harbour.example/ferry/timetable:14\n  \
        shtetl pull harbour.example/ferry/timetable@sha256:… --name timetable:live")]
    Pull(PullOptions),
    /// Compare two images: packages, layers, files, settings, and why each layer changed
    #[command(after_help = "Examples:\n  shtetl compare timetable:13 timetable:14\n  \
        shtetl compare harbour.example/ferry/timetable:live timetable --all")]
    Compare(CompareOptions),
    /// Write the evidence of an image: bills of materials (CycloneDX, SPDX) and how it was built (in-toto, SLSA)
    #[command(after_help = "Examples:\n  shtetl evidence timetable out\n  \
        shtetl evidence timetable:14 out --key ferry.key\n\n\
        `push --evidence` attaches the same documents to the image in the registry.")]
    Evidence(EvidenceOptions),
    /// Check an image: every digest, the record, the evidence, and who signed it
    #[command(after_help = "Examples:\n  shtetl verify timetable --evidence out --trust ferry.key.pub\n  \
        shtetl verify harbour.example/ferry/timetable:14 --trust ferry.key.pub\n\n\
        Exit code 1 if verification fails. Missing evidence is reported, and is a failure only if a key is trusted.")]
    Verify(VerifyOptions),
    /// Create keys that sign evidence
    #[command(after_help = "Examples:\n  shtetl keys make ferry.key\n  \
        shtetl keys make ferry.key --kind p256 --passphrase-file ~/passphrase")]
    Keys(KeysOptions),
    /// List past builds: what ran, why, and how long it took
    #[command(
        after_help = "Examples:\n  shtetl ledger\n  shtetl ledger timetable\n  shtetl ledger timetable --log 3"
    )]
    Ledger(LedgerOptions),
    /// Show where packages come from and what set each address
    #[command(after_help = "Examples:\n  shtetl addresses\n  shtetl addresses apps/timetable")]
    Addresses(AddressesOptions),
    /// List the runtimes that can be provided, and from where
    #[command(after_help = "Examples:\n  shtetl runtimes\n  shtetl runtimes node --format json")]
    Runtimes(RuntimesOptions),
    /// List the active buildpacks, scaffold a new one, or test one
    #[command(after_help = "Examples:\n  shtetl buildpacks\n  shtetl buildpacks scaffold tools/forms\n  \
        shtetl buildpacks trial tools/forms")]
    Buildpacks(BuildpacksOptions),
    /// Show how much the store holds, prune it, check its integrity
    #[command(after_help = "Examples:\n  shtetl store usage\n  shtetl store prune --older 30d --dry-run\n  \
        shtetl store prune --keep 20GB\n  shtetl store check --repair")]
    Store(StoreOptions),
    /// Print the JSON Schema of a file or an output; without a name, list them
    #[command(after_help = "Examples:\n  shtetl schema\n  shtetl schema configuration > shtetl.schema.json")]
    Schema(SchemaOptions),
    /// Explain the code of an error or of a problem; without a code, list them
    #[command(after_help = "Examples:\n  shtetl explain\n  shtetl explain lock-stale")]
    Explain(ExplainOptions),
    /// Write the sample apps and walk through the whole workflow
    #[command(
        after_help = "Examples:\n  shtetl demo\n  shtetl demo ~/ferry-apps --no-pause\n  shtetl demo --base debian:trixie"
    )]
    Demo(DemoOptions),
    /// Print a completion script for a shell
    Completions(CompletionsOptions),
    /// Write manual pages, or all commands as one document
    Man(ManOptions),
}

impl Command {
    /// The folder of the app that the command is about.
    pub fn app(&self) -> Option<&Path> {
        match self {
            Self::Survey(options) => Some(&options.source.path),
            Self::Check(options) => Some(&options.source.path),
            Self::Build(options) => Some(&options.source.path),
            Self::Addresses(options) => Some(&options.path),
            _ => None,
        }
    }
}

/// The source, and overrides for this run.
#[derive(Args)]
pub struct SourceOptions {
    /// The app: its folder, an archive (zip, tar) of it, a built program, or the URL of a git repository
    #[arg(default_value = ".")]
    pub path: PathBuf,
    /// Take the committed files of this git revision, not those in the folder
    #[arg(long, value_name = "REVISION")]
    pub rev: Option<String>,
    /// Take this member of the workspace as the app: its name or its folder
    #[arg(long, value_name = "NAME")]
    pub member: Option<String>,
    /// Use this variant of shtetl.toml
    #[arg(long, env = "SHTETL_VARIANT", hide_env_values = true, value_name = "NAME")]
    pub variant: Option<String>,
    /// Set a key of shtetl.toml for this run only: process.web.port=9000; may be repeated
    #[arg(long = "value", value_name = "KEY=VALUE")]
    pub values: Vec<String>,
}

impl SourceOptions {
    /// The folder `path` as it is.
    pub fn of(path: &Path) -> Self {
        Self { path: path.to_owned(), rev: None, member: None, variant: None, values: Vec::new() }
    }
}

#[derive(Args)]
pub struct SurveyOptions {
    #[command(flatten)]
    pub source: SourceOptions,
    /// Also list what other buildpacks looked for, and every effective value with its origin
    #[arg(long)]
    pub explain: bool,
}

#[derive(Args)]
pub struct CheckOptions {
    #[command(flatten)]
    pub source: SourceOptions,
    /// Also ask the registries whether each locked version is still available
    #[arg(long)]
    pub online: bool,
    /// Also list packages affected by advisories: an OSV document, or a folder of them
    #[arg(long, value_name = "PATH", conflicts_with_all = ["rules", "machine"])]
    pub advisories: Option<PathBuf>,
    /// Exit with code 1 if an advisory has at least this severity
    #[arg(long, value_enum, value_name = "SEVERITY", requires = "advisories")]
    pub fail_on: Option<Threshold>,
    /// List the rules instead
    #[arg(long)]
    pub rules: bool,
    /// Show how this machine isolates build steps and processes, and their limits
    #[arg(long, conflicts_with = "rules")]
    pub machine: bool,
}

#[derive(Args)]
pub struct BuildOptions {
    #[command(flatten)]
    pub source: SourceOptions,
    /// Rebuild whenever a file changes
    #[arg(long, conflicts_with_all = ["dry_run", "shell_on_failure"])]
    pub watch: bool,
    /// Tag of the image
    #[arg(long, default_value = workshop::inspect::DEFAULT_TAG)]
    pub tag: String,
    /// Also write the image as an OCI layout folder
    #[arg(long, value_name = "DIR")]
    pub layout: Option<PathBuf>,
    /// Also write the image as a tar archive of an OCI layout, - for standard output; older programs
    /// can read it, too, with --compress gzip
    #[arg(long, value_name = "FILE")]
    pub archive: Option<PathBuf>,
    /// Also push the image to a registry: HOST[:PORT]/NAME[:TAG] [default tag: that of --tag]
    #[arg(long, value_name = "REFERENCE", conflicts_with_all = ["dry_run", "offline"])]
    pub push: Option<String>,
    /// With --push: also attach the evidence of the image
    #[arg(long, requires = "push")]
    pub evidence: bool,
    #[command(flatten)]
    pub signing: SigningOptions,
    /// How layers are compressed
    #[arg(long, value_name = "CODEC", default_value = "zstd", value_parser = ["zstd", "gzip"])]
    pub compress: String,
    /// Platform of the image, or several separated by commas [default: this machine's]
    #[arg(long, value_parser = model::platform::PLATFORMS, value_delimiter = ',')]
    pub platform: Vec<String>,
    /// Take everything from the store and from folders; never use the network
    #[arg(long)]
    pub offline: bool,
    /// Build only what shtetl.lock pins; fail if a pin is missing
    #[arg(long, conflicts_with = "update")]
    pub locked: bool,
    /// Move the pins in shtetl.lock to the newest versions, and list what moved
    #[arg(long)]
    pub update: bool,
    /// Show what would run and why, without running it
    #[arg(long)]
    pub dry_run: bool,
    /// Build even if `check` predicts that the build or the start will fail
    #[arg(long)]
    pub anyway: bool,
    /// If a step fails, open a shell where it ran, with its files and environment
    #[arg(long, conflicts_with = "dry_run")]
    pub shell_on_failure: bool,
}

#[derive(Args)]
pub struct InitOptions {
    /// The app's folder
    #[arg(default_value = ".")]
    pub path: PathBuf,
    /// Ask nothing; accept what was found
    #[arg(long)]
    pub yes: bool,
    /// Also write the JSON Schema next to it, so that editors complete and check the file
    #[arg(long)]
    pub schema: bool,
}

#[derive(Args)]
pub struct SettingsOptions {
    #[command(flatten)]
    pub source: SourceOptions,
}

#[derive(Args)]
pub struct LedgerOptions {
    /// The app; without it, all apps are listed
    pub app: Option<String>,
    /// Print the log of this build
    #[arg(long, value_name = "N", requires = "app")]
    pub log: Option<u32>,
    /// Also write a page for a browser: one self-contained file
    #[arg(long, value_name = "FILE", conflicts_with = "log")]
    pub page: Option<PathBuf>,
}

#[derive(Args)]
pub struct AddressesOptions {
    /// The app's folder
    #[arg(default_value = ".")]
    pub path: PathBuf,
}

#[derive(Args)]
pub struct RuntimesOptions {
    /// Only this runtime
    pub name: Option<String>,
}
