//! What can go wrong in a build, as facts; wording, advice and exit codes are the program's.

use crate::dev_packages::Missing;
use crate::{Complaint, Place};
use content::ContentError;
use remote::RemoteError;
use remote::oci::ReferenceFault;
use remote::packages::debian::SignatureFault;
use sandbox::{Refusal, SandboxError};
use std::path::PathBuf;

/// The result of this crate's functions.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// A failure of a build.
#[derive(Debug, thiserror::Error)]
#[allow(missing_docs, reason = "the fields say what they are; each variant is documented")]
pub enum Error {
    /// The store, a layer or an image document.
    #[error(transparent)]
    Content(#[from] ContentError),
    /// Something from elsewhere; `wanted_by` is the package that was asked for.
    #[error("{wanted_by}: {source}")]
    Remote { wanted_by: String, source: RemoteError },
    /// The source folder cannot be read.
    #[error("{path}: {source}", path = path.display())]
    Source { path: PathBuf, source: std::io::Error },
    /// The source holds nothing that could be packed.
    #[error("{path} holds no files", path = path.display())]
    EmptySource { path: PathBuf, left_out: usize },
    /// A file that is no source: neither an archive nor a program.
    #[error("{path} is no source", path = path.display())]
    NoSource { path: PathBuf },
    /// A revision was asked for where there is no repository, or git is missing.
    #[error("{path} is in no repository", path = path.display())]
    NoRepository { path: PathBuf, searched: Vec<PathBuf> },
    /// The repository has no such revision.
    #[error("no revision {revision}")]
    NoRevision { path: PathBuf, revision: String },
    /// The commit does not have the folder.
    #[error("{path} is not in {commit}", path = path.display())]
    NotCommitted { path: PathBuf, commit: String },
    /// A file name that is not UTF-8.
    #[error("{path:?} is not UTF-8")]
    FileName { path: PathBuf },
    /// A symbolic link that leads out of the source.
    #[error("{path} leads to {target}")]
    LinkOutside { path: String, target: String },
    /// `shtetl.toml` has faults.
    #[error("{path} has faults", path = path.display())]
    Config { path: PathBuf, text: String, complaints: Vec<Complaint> },
    /// A variant that the configuration does not have.
    #[error("no variant {name}")]
    UnknownVariant { name: String, known: Vec<String> },
    /// A name of an app, process type or tag that is not allowed.
    #[error("{name:?} is not a valid name")]
    Name { what: &'static str, name: String, suggestion: Option<String> },
    /// Nothing recognised the source.
    #[error("no language was recognised")]
    Unrecognised { looked_for: Vec<(String, Vec<String>)> },
    /// Several buildpacks claim the source with equal right.
    #[error("several languages claim this source")]
    Ambiguous { claims: Vec<(String, Vec<Place>)> },
    /// The configuration names a buildpack that does not exist.
    #[error("no buildpack {name}")]
    UnknownBuildpack { name: String, known: Vec<&'static str> },
    /// Nothing says how the app is started.
    #[error("no process type was found")]
    NoProcess { language: String },
    /// A command that only a shell understands, or that has an open quote.
    #[error("{command:?} needs a shell")]
    NeedsShell { command: String, sign: String, place: Option<Place> },
    /// A file of the source has the wrong form.
    #[error("{place:?}: {detail}")]
    Malformed { place: Place, detail: String },
    /// Something that this version does not do; it is refused rather than done wrongly.
    #[error("{place:?}: {what}")]
    Unsupported { place: Place, what: String, instead: &'static str },
    /// Requirements that cannot all be met.
    #[error("no versions meet all requirements")]
    NoSolution { facts: Vec<String> },
    /// Packages that want to run something when they are installed.
    #[error("install scripts of {packages:?}")]
    InstallScripts { place: Place, packages: Vec<String> },
    /// The lockfile does not fit its source.
    #[error("{lockfile}: {detail}")]
    LockMismatch { lockfile: String, detail: String, how: &'static str },
    /// The base in the configuration is not one that exists.
    #[error("no base {name}")]
    UnknownBase { name: String },
    /// The runtime is not on this machine.
    #[error("{runtime} is not on this machine")]
    RuntimeMissing { runtime: &'static str, searched: Vec<PathBuf> },
    /// Neither the base nor a registry has a version of the runtime that would do.
    #[error("no {runtime} {wanted}")]
    NoSuchVersion {
        runtime: &'static str,
        wanted: String,
        place: Option<Place>,
        base: String,
        registry: String,
    },
    /// Nothing can be built on the base.
    #[error("nothing can be built on {base}")]
    NoBuildRoot { base: String },
    /// The build command made none of the files that it should.
    #[error("the build command made nothing")]
    NothingMade { keep: Vec<String> },
    /// A program of a step cannot be started.
    #[error("{step}: {program}: {detail}")]
    StepNotStarted { step: String, program: String, detail: String },
    /// A program of a step failed.
    #[error("{step}: {command} failed")]
    StepFailed { step: String, command: String, status: String, said: Vec<String>, missing: Vec<Missing> },
    /// A base image cannot be got.
    #[error("{base}: {source}")]
    BaseImage { base: String, source: RemoteError },
    /// A text that names no image.
    #[error("{text:?} names no image")]
    BadReference { text: String, fault: ReferenceFault },
    /// Packages of a distribution that cannot be together.
    #[error("{package} excludes {excluded}")]
    PackageConflict { suite: String, package: String, excluded: String },
    /// An image for another platform cannot be run here.
    #[error("{image} is for {platform}")]
    OtherPlatform { image: String, platform: String, here: String },
    /// The base cannot be had for the platform.
    #[error("{base} is not for {platform}")]
    PlatformNotInBase { base: String, platform: String },
    /// The base does not have the runtime.
    #[error("{base} has no {runtime}")]
    RuntimeNotInBase { runtime: &'static str, base: String },
    /// The runtime of the base is not the one that the source asks for.
    #[error("{runtime} {found} does not meet {wanted}")]
    RuntimeMismatch { runtime: &'static str, found: String, origin: String, wanted: String, place: Place },
    /// The runtime of this machine cannot be captured.
    #[error("{path}: {detail}", path = path.display())]
    Capture { path: PathBuf, detail: String },
    /// No address is known for a kind of packages.
    #[error("no address for {ecosystem}")]
    NoAddress { ecosystem: &'static str },
    /// An address names a variable that the user's environment does not have.
    #[error("{name} is not set")]
    NoVariable { name: String },
    /// Packages of a distribution need one that nothing provides.
    #[error("{suite}: nothing provides {wanted}")]
    PackageUnmet { suite: String, wanted: String, chain: Vec<String> },
    /// The signature of something does not hold.
    #[error("{what}: {fault:?}")]
    Signature { what: String, fault: SignatureFault },
    /// A signed release is past its time.
    #[error("{what} was valid until {until}")]
    ReleaseOver { what: String, until: String },
    /// Pins that were to be kept do not hold, or are missing.
    #[error("{base} is not pinned")]
    PinsMissing { base: String, file_is_there: bool },
    /// A package that is locked is not at the address.
    #[error("{package} has no usable file at {address}")]
    NoUsableFile { package: String, address: String, offered: Vec<String> },
    /// A package's archive is damaged or hostile.
    #[error("{package}: {detail}")]
    BadPackage { package: String, detail: String },
    /// An image that was asked for does not exist.
    #[error("no image {name}")]
    NoImage { name: String, known: Vec<String> },
    /// An image without the record that this tool writes.
    #[error("{image} has no record")]
    NoRecord { image: String },
    /// A process type that the image does not have.
    #[error("no process type {name}")]
    NoSuchProcess { name: String, known: Vec<String> },
    /// Settings that must have a value and have none.
    #[error("settings without a value: {names:?}")]
    SettingsMissing { names: Vec<String> },
    /// The port is taken.
    #[error("port {port} is in use")]
    PortTaken { port: u16 },
    /// No way to isolate a process works on this machine.
    #[error(transparent)]
    NoSandbox(#[from] Refusal),
    /// A process could not be started.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
    /// The process ended before it answered.
    #[error("the process ended before it answered")]
    EndedEarly { status: String, output: String },
    /// The build was interrupted.
    #[error("interrupted")]
    Interrupted,
}

impl From<std::io::Error> for Error {
    fn from(error: std::io::Error) -> Self {
        Self::Content(error.into())
    }
}

/// Gives an I/O result of the source the path that it happened on.
pub trait PathFacts<T> {
    /// Turns the error into [`Error::Source`] with `path`.
    fn facts(self, path: &std::path::Path) -> Result<T>;
}

impl<T> PathFacts<T> for std::io::Result<T> {
    fn facts(self, path: &std::path::Path) -> Result<T> {
        self.map_err(|source| Error::Source { path: path.to_owned(), source })
    }
}
