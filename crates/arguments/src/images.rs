//! Options of the commands that are about images.

use super::RunNetwork;
use clap::{ArgGroup, Args, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Args)]
pub struct ShowOptions {
    /// A name with an optional tag, a layout folder, an archive, or an image in a registry
    pub image: String,
    /// List every package
    #[arg(long)]
    pub packages: bool,
    /// Also write a page for a browser: one self-contained file
    #[arg(long, value_name = "FILE")]
    pub page: Option<PathBuf>,
    /// The platform to show [default: this machine's, where the image has it]
    #[arg(long, value_parser = model::platform::PLATFORMS)]
    pub platform: Option<String>,
    /// Print the record: how the image was built, as JSON
    #[arg(long)]
    pub record: bool,
    /// Also list packages affected by advisories: an OSV document, or a folder of them
    #[arg(long, value_name = "PATH", conflicts_with = "record")]
    pub advisories: Option<PathBuf>,
    /// Exit with code 1 if an advisory has at least this severity
    #[arg(long, value_enum, value_name = "SEVERITY", requires = "advisories")]
    pub fail_on: Option<Threshold>,
}

/// How bad something is.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Threshold {
    Any,
    Low,
    Medium,
    High,
    Critical,
}

#[derive(Args)]
pub struct PushOptions {
    /// A name with an optional tag, a layout folder, an archive (- for standard input), or an image in a registry
    pub image: String,
    /// Where to: HOST[:PORT]/NAME[:TAG] [default tag: that of the image]
    pub to: String,
    /// Also attach the evidence of the image: bills of materials, and how it was built
    #[arg(long)]
    pub evidence: bool,
    #[command(flatten)]
    pub signing: SigningOptions,
}

#[derive(Args)]
pub struct CompareOptions {
    /// A name with an optional tag, a build of the ledger (timetable#12), a layout folder, an archive, or an image in a registry
    pub before: String,
    /// The other one
    pub after: String,
    /// List every package and file that changed
    #[arg(long)]
    pub all: bool,
    /// Also write a page for a browser: one self-contained file
    #[arg(long, value_name = "FILE")]
    pub page: Option<PathBuf>,
}

/// The key that signs.
#[derive(Args, Clone)]
pub struct SigningOptions {
    /// Private key that signs the evidence (PEM) [default: the key itself in the variable SHTETL_KEY]
    #[arg(long, value_name = "FILE")]
    pub key: Option<PathBuf>,
    /// File with the passphrase of the key [default: the passphrase in the variable SHTETL_KEY_PASSPHRASE]
    #[arg(long, value_name = "FILE")]
    pub passphrase_file: Option<PathBuf>,
}

#[derive(Args)]
pub struct EvidenceOptions {
    /// A name with an optional tag, a layout folder, an archive, or an image in a registry
    pub image: String,
    /// Folder for the documents
    pub folder: PathBuf,
    #[command(flatten)]
    pub signing: SigningOptions,
}

#[derive(Args)]
pub struct VerifyOptions {
    /// A name with an optional tag, a layout folder, an archive, or an image in a registry: HOST[:PORT]/NAME[:TAG]
    pub image: String,
    /// Folder with the evidence [default: what is attached to it in the registry]
    #[arg(long, value_name = "DIR")]
    pub evidence: Option<PathBuf>,
    /// Public key; one of them must have signed; may be repeated [default: `[trust] keys`]
    #[arg(long, value_name = "FILE")]
    pub trust: Vec<PathBuf>,
    /// Also rebuild the image from this source in an empty store, and compare it byte by byte; in a git repository, the
    /// commit of the record is built
    #[arg(long, value_name = "SOURCE")]
    pub again: Option<PathBuf>,
    /// Variant of shtetl.toml that it was built with
    #[arg(long, requires = "again", value_name = "NAME")]
    pub variant: Option<String>,
    /// Member of the workspace that is the app
    #[arg(long, requires = "again", value_name = "NAME")]
    pub member: Option<String>,
}

#[derive(Args)]
pub struct KeysOptions {
    #[command(subcommand)]
    pub what: KeysCommand,
}

#[derive(Subcommand)]
pub enum KeysCommand {
    /// Create a key pair: FILE and FILE.pub; never overwrites a file
    Make {
        /// File for the private key
        file: PathBuf,
        /// Kind of the key
        #[arg(long, default_value = "ed25519", value_parser = ["ed25519", "p256"])]
        kind: String,
        /// File with a passphrase for it [default: the passphrase in the variable SHTETL_KEY_PASSPHRASE, else none]
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
}

#[derive(Args)]
#[command(group = clap::ArgGroup::new("base").required(true))]
pub struct SwapBaseOptions {
    /// Names with an optional tag, or images in registries, whose tags are moved there
    #[arg(required_unless_present = "all", value_name = "IMAGE")]
    pub images: Vec<String>,
    /// New base, as in `[base] from`: debian:SUITE or oci:REFERENCE
    #[arg(long, value_name = "BASE", group = "base")]
    pub onto: Option<String>,
    /// Keep each image's base, updated to its newest state
    #[arg(long, group = "base")]
    pub newest: bool,
    /// Swap the base of all images in the store
    #[arg(long, conflicts_with = "images")]
    pub all: bool,
    /// Tag of the result; the old tag keeps the old image [default: the old tag]
    #[arg(long)]
    pub tag: Option<String>,
    /// Show what would change, without changing anything
    #[arg(long)]
    pub dry_run: bool,
    /// Also attach the evidence of the new images, where they are in a registry
    #[arg(long)]
    pub evidence: bool,
    #[command(flatten)]
    pub signing: SigningOptions,
}

#[derive(Args)]
pub struct PullOptions {
    /// HOST[:PORT]/NAME[:TAG] or HOST[:PORT]/NAME@DIGEST
    pub image: String,
    /// Name and tag in the store [default: the last part of its name, and its tag]
    #[arg(long, value_name = "NAME[:TAG]")]
    pub name: Option<String>,
}

/// A form of descriptors.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum DescriptorForm {
    Compose,
    Kubernetes,
    Systemd,
}

#[derive(Args)]
pub struct HandOverOptions {
    /// The image: HOST[:PORT]/NAME[:TAG], or a name of the store together with --registry
    pub image: String,
    /// Platform that runs the app
    #[arg(long, value_enum)]
    pub to: DescriptorForm,
    /// Folder for the files; existing files are replaced
    #[arg(long, value_name = "DIR")]
    pub folder: PathBuf,
    /// Where the store's image is in a registry: HOST[:PORT]/NAME
    #[arg(long, value_name = "HOST/NAME")]
    pub registry: Option<String>,
    /// Variant of shtetl.toml with the process types and settings
    #[arg(long, value_name = "NAME", requires = "source")]
    pub variant: Option<String>,
    /// Source of the app, where its shtetl.toml with the variant is
    #[arg(long, value_name = "DIR")]
    pub source: Option<PathBuf>,
    /// Host name of the first process type: adds an ingress (Kubernetes)
    #[arg(long, value_name = "NAME")]
    pub host: Option<String>,
    /// Instances of the first process type, scaled by its load (Kubernetes)
    #[arg(long, value_name = "LEAST..MOST", value_parser = scale)]
    pub scale: Option<(u32, u32)>,
}

/// `2..6`.
fn scale(text: &str) -> Result<(u32, u32), String> {
    let parts =
        text.split_once("..").and_then(|(least, most)| Some((least.parse().ok()?, most.parse().ok()?)));
    match parts {
        Some((least, most)) if 0 < least && least <= most => Ok((least, most)),
        _ => Err("write it as in 2..6".to_owned()),
    }
}

/// Values of settings.
#[derive(Args)]
pub struct GivenSettings {
    /// Value of a setting, or only its name to take the value from the environment; may be repeated
    #[arg(long, value_name = "NAME[=VALUE]")]
    pub set: Vec<String>,
    /// File with NAME=VALUE lines, - for standard input; may be repeated
    #[arg(long, value_name = "FILE")]
    pub settings_file: Vec<PathBuf>,
}

#[derive(Args)]
#[command(group(ArgGroup::new("many").multiple(true)))]
pub struct RunOptions {
    /// A name with an optional tag, a layout folder, an archive, or an image in a registry
    pub image: String,
    /// The process type or task [default: the image's first]
    pub process: Option<String>,
    /// Run all process types, each with its instances, after the tasks that come before a release
    #[arg(long, group = "many", conflicts_with_all = ["process", "shell"])]
    pub all: bool,
    /// Build the app in the folder IMAGE and run all process types; repeat whenever a file changes
    #[arg(long, group = "many", conflicts_with_all = ["process", "shell"])]
    pub watch: bool,
    /// Start the services that the app declares, from Debian packages
    #[arg(long, requires = "many")]
    pub with_services: bool,
    /// Use a service that is already running; may be repeated
    #[arg(long, value_name = "SERVICE=URL", requires = "many")]
    pub bind: Vec<String>,
    /// Open a shell where the process would run
    #[arg(long)]
    pub shell: bool,
    #[command(flatten)]
    pub settings: GivenSettings,
    /// Port on this machine for the process; 0 picks a free one [default: the image's]
    #[arg(long)]
    pub port: Option<u16>,
    /// Let the process reach this port on this machine, such as a database; may be repeated
    #[arg(long, value_name = "PORT")]
    pub reach: Vec<u16>,
    /// Network of the process: an isolated one of its own, or the host's [default: own]
    #[arg(long, value_enum, env = "SHTETL_RUN_NETWORK", hide_env_values = true)]
    pub network: Option<RunNetwork>,
    /// Keep what the process writes to its writable folders in this folder [default: discarded at the end]
    #[arg(long, value_name = "DIR")]
    pub data: Option<PathBuf>,
    /// Arguments for the named process; without a process, a command to run instead
    #[arg(last = true, value_name = "ARGUMENTS", conflicts_with_all = ["all", "watch", "shell"])]
    pub arguments: Vec<String>,
}
