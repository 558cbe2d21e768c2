//! Wording, advice and exit code of everything that can go wrong. The only place for them.

use crate::render::{BAD, Output, TYPED, snippet, styled, words};
use content::ContentError;
use model::dev_packages::Missing;
use model::{Complaint, Error, Fault, names};
use remote::RemoteError;
use remote::oci::ReferenceFault;
use remote::packages::debian::SignatureFault;
use sandbox::{Ground, Isolation, SandboxError};
use serde::Serialize;
use std::collections::BTreeSet;
use std::io;
use std::path::Path;
use std::process::ExitCode;

/// A command that could not do what was asked.
#[derive(Debug)]
pub enum Failure {
    /// The core failed.
    Build(Box<Error>),
    /// Wrong usage, found before the core was called.
    Usage { message: String, hint: String },
    /// There is no home folder to put the store into.
    NoHome,
    /// A process of the demo does not answer.
    Silent,
    /// The system refused something that only this program asks for.
    System(io::Error),
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Self::Build(Box::new(error))
    }
}

impl From<ContentError> for Failure {
    fn from(error: ContentError) -> Self {
        Error::from(error).into()
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self::System(error)
    }
}

/// The work failed.
const FAILED: u8 = 1;
/// Wrong usage or configuration.
const WRONG: u8 = 2;
/// Trouble outside: network, disk, sandbox.
const OUTSIDE: u8 = 3;
/// Ended by Ctrl-C, as shells count it.
const INTERRUPTED: u8 = 130;

/// An error in words.
#[derive(Debug, Default, Serialize)]
struct Worded {
    message: String,
    /// Lines that show the place or list the facts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    details: Vec<String>,
    /// What to do next.
    #[serde(skip_serializing_if = "Option::is_none")]
    hint: Option<String>,
    exit: u8,
}

fn worded(exit: u8, message: impl Into<String>, hint: impl Into<String>) -> Worded {
    let hint = hint.into();
    Worded { message: message.into(), details: Vec::new(), hint: (!hint.is_empty()).then_some(hint), exit }
}

/// Tells of the failure and gives the exit code.
pub fn report(output: &Output, failure: &Failure) -> ExitCode {
    let error = match failure {
        Failure::Build(error) => build_error(error),
        Failure::Usage { message, hint } => worded(WRONG, message, hint),
        Failure::NoHome => {
            worded(WRONG, "there is no home folder for the store", "give one with --store DIR")
        }
        Failure::Silent => {
            worded(FAILED, "the process does not answer", "run it by itself to see what it says")
        }
        Failure::System(error) => worded(OUTSIDE, system(error), ""),
    };
    if output.is_json() {
        let plain = |text: &String| anstream::adapter::strip_str(text).to_string();
        let details = error.details.iter().map(plain).collect();
        let document =
            serde_json::json!({ "event": "error", "error": Worded { details, ..error_copy(&error) } });
        output.aside(document);
    } else {
        output.aside(format!("{} {}", styled(BAD, "error:"), error.message));
        for line in &error.details {
            output.aside(line);
        }
        if let Some(hint) = &error.hint {
            output.aside(format!("{} {hint}", styled(TYPED, "what to do:")));
        }
    }
    ExitCode::from(error.exit)
}

fn error_copy(error: &Worded) -> Worded {
    Worded { message: error.message.clone(), details: Vec::new(), hint: error.hint.clone(), exit: error.exit }
}

/// Too many symbolic links on the way.
const ELOOP: i32 = 40;

fn system(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "it does not exist".to_owned(),
        io::ErrorKind::PermissionDenied => "permission denied".to_owned(),
        io::ErrorKind::StorageFull => "the disk is full".to_owned(),
        io::ErrorKind::NotADirectory => "it is not a folder".to_owned(),
        _ if error.raw_os_error() == Some(ELOOP) => "it is a link that leads to itself".to_owned(),
        _ => error.to_string(),
    }
}

fn at(path: &Path, error: &io::Error) -> String {
    format!("{}: {}", path.display(), system(error))
}

fn build_error(error: &Error) -> Worded {
    match error {
        Error::Content(error) => content_error(error),
        Error::Remote { wanted_by, source } => remote_error(wanted_by, source),
        Error::BaseImage { base, source } => base_image_error(base, source),
        Error::Source { .. }
        | Error::NoSource { .. }
        | Error::NoRepository { .. }
        | Error::NoRevision { .. }
        | Error::NotCommitted { .. }
        | Error::EmptySource { .. }
        | Error::FileName { .. }
        | Error::LinkOutside { .. } => source_error(error),
        Error::Config { path, text, complaints } => config_error(path, text, complaints),
        Error::Name { .. }
        | Error::Unrecognised { .. }
        | Error::Ambiguous { .. }
        | Error::UnknownBuildpack { .. }
        | Error::UnknownVariant { .. }
        | Error::NoProcess { .. }
        | Error::NeedsShell { .. }
        | Error::BadReference { .. }
        | Error::PlatformNotInBase { .. }
        | Error::UnknownBase { .. } => survey_error(error),
        Error::Malformed { .. }
        | Error::Unsupported { .. }
        | Error::LockMismatch { .. }
        | Error::InstallScripts { .. }
        | Error::NoSolution { .. }
        | Error::NoAddress { .. }
        | Error::NoVariable { .. }
        | Error::NoUsableFile { .. }
        | Error::BadPackage { .. } => package_error(error),
        Error::PackageUnmet { .. }
        | Error::PackageConflict { .. }
        | Error::Signature { .. }
        | Error::ReleaseOver { .. }
        | Error::PinsMissing { .. } => pin_error(error),
        Error::RuntimeMissing { .. }
        | Error::RuntimeNotInBase { .. }
        | Error::NoBuildRoot { .. }
        | Error::NoSuchVersion { .. }
        | Error::RuntimeMismatch { .. }
        | Error::Capture { .. } => runtime_error(error),
        _ => run_error(error),
    }
}

fn content_error(error: &ContentError) -> Worded {
    match error {
        ContentError::Io { path, source } => worded(
            OUTSIDE,
            at(path, source),
            match source.kind() {
                io::ErrorKind::StorageFull => "free some space, or put the store elsewhere with --store DIR",
                io::ErrorKind::PermissionDenied => "check who owns it, or use another store with --store DIR",
                _ => "",
            },
        ),
        ContentError::DigestMismatch { what, expected, found } => Worded {
            details: vec![format!("  expected {expected}"), format!("  found    {found}")],
            ..worded(FAILED, format!("{what} is damaged"), "get it again, or build it again")
        },
        ContentError::Malformed { what, detail } => worded(FAILED, format!("{what}: {detail}"), ""),
        ContentError::Escape { what, entry } => worded(
            FAILED,
            format!("{what} is not safe to unpack: its entry {entry:?} leaves the folder"),
            "do not use it; ask where it came from",
        ),
        ContentError::Missing { what } => {
            worded(FAILED, format!("{what} is not in the store"), "build or load the image again")
        }
    }
}

/// The same trouble as with packages, with other advice.
fn base_image_error(base: &str, error: &RemoteError) -> Worded {
    let plain = remote_error(&format!("base image {base}"), error);
    let hint = match error {
        RemoteError::NotFound { .. } => "check name, tag and platform in [base] from",
        RemoteError::Status { status: 429 | 500.., .. } => "try again later",
        RemoteError::Offline { .. } => "build once without --offline, or name a layout folder: oci:./FOLDER",
        RemoteError::Integrity { .. } => {
            "do not use it: the registry does not give what its own documents name"
        }
        RemoteError::Denied { .. } | RemoteError::Credentials { .. } => return plain,
        _ => "check the reference in [base] from",
    };
    Worded { hint: Some(hint.to_owned()), ..plain }
}

fn remote_error(wanted_by: &str, error: &RemoteError) -> Worded {
    match error {
        RemoteError::NotFound { url } => worded(
            FAILED,
            format!("{wanted_by} is not at {url}"),
            "check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from",
        ),
        RemoteError::Status { url, status, said, .. } => {
            let hint = match status {
                401 | 403 => {
                    "it refuses the package to you: check the address (`shtetl addresses`) and its access rules"
                }
                429 | 500.. => "try again later",
                _ => "check the address: `shtetl addresses` shows who said it",
            };
            Worded {
                details: said.iter().map(|said| format!("  it says: {said}")).collect(),
                ..worded(OUTSIDE, format!("{wanted_by}: {url} answered with status {status}"), hint)
            }
        }
        RemoteError::Unreachable { url, detail } => worded(
            OUTSIDE,
            format!("{wanted_by}: no answer from {url}: {detail}"),
            "check the network; `shtetl addresses` shows who said this address",
        ),
        RemoteError::Io { path, source } => worded(OUTSIDE, format!("{wanted_by}: {}", at(path, source)), ""),
        RemoteError::Offline { url } => worded(
            OUTSIDE,
            format!("{wanted_by} is not in the store, and {url} may not be asked with --offline"),
            "build once without --offline, or name a folder with the packages: --address KIND=FOLDER",
        ),
        RemoteError::Integrity { url, algorithm, expected, found } => Worded {
            details: vec![
                format!("  {algorithm} locked   {expected}"),
                format!("  {algorithm} received {found}"),
            ],
            ..worded(
                FAILED,
                format!("{wanted_by}: what {url} gave is not what was locked"),
                "do not use it: find out whether the package was replaced, then lock again",
            )
        },
        RemoteError::Malformed { url, detail } => {
            worded(OUTSIDE, format!("{wanted_by}: {url} is not understood: {detail}"), "check the address")
        }
        RemoteError::Denied { url, host, credentials } => worded(
            OUTSIDE,
            match credentials {
                Some(place) => format!("{wanted_by}: {url} is refused to the credentials in {place}"),
                None => format!("{wanted_by}: {url} is refused without credentials"),
            },
            format!(
                "log in to {host} with a tool that keeps credentials in ~/.config/containers/auth.json, or name such a file in REGISTRY_AUTH_FILE"
            ),
        ),
        RemoteError::Credentials { what, detail } => worded(
            WRONG,
            format!("credentials cannot be read: {what}: {detail}"),
            "correct it, or name another file in REGISTRY_AUTH_FILE",
        ),
    }
}

fn source_error(error: &Error) -> Worded {
    match error {
        Error::Source { path, source } => worded(
            if source.kind() == io::ErrorKind::NotFound { WRONG } else { OUTSIDE },
            at(path, source),
            match source.kind() {
                io::ErrorKind::NotFound => "give the folder of an app",
                io::ErrorKind::NotADirectory => "give the folder, not a file in it",
                io::ErrorKind::PermissionDenied => "make it readable, or leave it out with [source] exclude",
                _ => "",
            },
        ),
        Error::EmptySource { path, left_out } => worded(
            WRONG,
            format!("{} has nothing to pack", path.display()),
            if *left_out == 0 {
                "give the folder of an app"
            } else {
                "all its files are left out by rules; [source] include takes them in"
            },
        ),
        Error::NoSource { path } => worded(
            WRONG,
            format!("{} is neither a folder, an archive nor a built program", path.display()),
            "give the folder of an app, a zip or tar archive of it, a jar, or a compiled program",
        ),
        Error::NoRepository { path, searched } => {
            let has_git = searched.iter().any(|f| f.join("git").is_file());
            let hint = if has_git { "give a folder of the repository" } else { "install git: --rev asks it" };
            worded(WRONG, format!("{} lies in no git repository that can be asked", path.display()), hint)
        }
        Error::NoRevision { path, revision } => worded(
            WRONG,
            format!("the repository of {} has no revision {revision:?}", path.display()),
            "give a commit, a tag or a branch that it has; a shallow copy may lack it",
        ),
        Error::NotCommitted { path, commit } => worded(
            WRONG,
            format!("commit {} does not have {}", words::short(commit), path.display()),
            "give a revision in which the folder is there already",
        ),
        Error::FileName { path } => worded(
            WRONG,
            format!("the file name {path:?} is not UTF-8 or has a line break"),
            "rename it, or leave it out with [source] exclude",
        ),
        Error::LinkOutside { path, target } => worded(
            WRONG,
            format!("the link {path} leads out of the source, to {target}"),
            "replace it by what it leads to, or leave it out with [source] exclude",
        ),
        other => worded(FAILED, other.to_string(), ""),
    }
}

fn survey_error(error: &Error) -> Worded {
    match error {
        Error::Name { what, name, suggestion } => worded(
            WRONG,
            format!("{name:?} cannot be the name of an {what}").replace("an tag", "a tag"),
            match (suggestion, *what) {
                (Some(s), "app") => format!(
                    "a name has lower-case letters, digits and dashes and begins with a letter; in shtetl.toml: name = {s:?}"
                ),
                (Some(s), _) => format!("{s:?} would do"),
                (None, _) => "use lower-case letters, digits and dashes, beginning with a letter".to_owned(),
            },
        ),
        Error::Unrecognised { looked_for } => Worded {
            details: looked_for
                .iter()
                .map(|(name, what)| format!("  {name:<8} looked for {}", what.join(", ")))
                .collect(),
            ..worded(
                FAILED,
                "no language was recognised here",
                "give the folder of an app; one of these files must be in it",
            )
        },
        Error::Ambiguous { claims } => Worded {
            details: claims
                .iter()
                .map(|(name, places)| {
                    let places: Vec<_> = places.iter().map(words::place).collect();
                    format!("  {name:<8} because of {}", places.join(", "))
                })
                .collect(),
            ..worded(
                FAILED,
                format!("{} claim this source with equal right", joined(claims.iter().map(|c| c.0.as_str()))),
                format!(
                    "choose in shtetl.toml, under [buildpacks]: order = [{:?}], or name both, the main one first",
                    claims.first().map(|c| c.0.as_str()).unwrap_or_default()
                ),
            )
        },
        Error::UnknownVariant { name, known } => worded(
            WRONG,
            format!("shtetl.toml has no variant {name:?}"),
            if known.is_empty() {
                "it has none: [variant.NAME.settings] begins one".to_owned()
            } else {
                suggestion(name, known)
            },
        ),
        Error::UnknownBuildpack { name, known } => worded(
            WRONG,
            format!("shtetl.toml names the buildpack {name:?}, which does not exist"),
            suggestion(name, known),
        ),
        Error::NoProcess { language } => worded(
            FAILED,
            format!("nothing says how to start the app ({language})"),
            "in shtetl.toml: [process.web], then run = \"the command\"",
        ),
        Error::NeedsShell { command, sign, place } => worded(
            WRONG,
            match place {
                Some(place) => {
                    format!("{}: {command:?} needs a shell because of {sign:?}", words::place(place))
                }
                None => format!("{command:?} needs a shell because of {sign:?}"),
            },
            "give the command as plain words in [process.web] of shtetl.toml",
        ),
        Error::UnknownBase { name } => worded(
            WRONG,
            format!("this version has no base {name:?}"),
            "in shtetl.toml, under [base]: from = \"debian:trixie\", \"debian:bookworm\", \"oci:REFERENCE\", \"empty\", or \"host\" (captured from this machine)",
        ),
        Error::BadReference { text, fault } => worded(
            WRONG,
            format!(
                "oci:{text} names no image: {}",
                match fault {
                    ReferenceFault::NoRegistry => "it does not begin with a registry, and none is assumed",
                    ReferenceFault::Name =>
                        "a name has lower-case letters, digits and dots, dashes or underscores between them",
                    ReferenceFault::Tag =>
                        "a tag has letters, digits, dots, dashes and underscores, at most 128",
                    ReferenceFault::Digest => "behind the @ stands no SHA-256 digest",
                }
            ),
            "write oci:HOST/NAME:TAG, oci:HOST/NAME@sha256:DIGEST, or oci:./FOLDER of a layout",
        ),
        Error::PlatformNotInBase { base, platform } => worded(
            WRONG,
            format!("the base {base} is not to be had for {platform}"),
            match base.as_str() {
                "host" => "it is captured from this machine; choose another in [base] from",
                _ => "images can be built for linux/amd64 and linux/arm64",
            },
        ),
        other => worded(FAILED, other.to_string(), ""),
    }
}

fn package_error(error: &Error) -> Worded {
    match error {
        Error::Malformed { place, detail } => worded(WRONG, format!("{}: {detail}", words::place(place)), ""),
        Error::Unsupported { place, what, instead } => worded(
            FAILED,
            format!("{}: {what} is not supported by this version", words::place(place)),
            instead.trim(),
        ),
        Error::NoSolution { facts } => Worded {
            details: facts.iter().map(|fact| format!("  {fact}")).collect(),
            ..worded(
                FAILED,
                "no set of packages meets everything that is asked for",
                "change one of these requirements, or choose another version of the runtime",
            )
        },
        Error::InstallScripts { place, packages } => {
            // Name and version.
            let names = packages.iter().filter_map(|label| Some(format!("{:?}", label.rsplit_once(' ')?.0)));
            let names = names.collect::<Vec<_>>().join(", ");
            Worded {
                details: packages.iter().map(|package| format!("  {package}")).collect(),
                ..worded(
                    FAILED,
                    format!("{}: packages want to run a script when they are installed", words::place(place)),
                    format!(
                        "in shtetl.toml, under [buildpacks.node]: run-scripts-of = [{names}] runs them apart from this machine, skip-scripts-of = [{names}] goes without"
                    ),
                )
            }
        }
        Error::LockMismatch { lockfile, detail, how } => {
            worded(FAILED, format!("{lockfile} is out of date: {detail}"), *how)
        }
        Error::NoAddress { ecosystem } => worded(
            WRONG,
            format!("nothing says where {ecosystem} packages come from"),
            format!(
                "in shtetl.toml, under [addresses]: {ecosystem} = \"URL or folder\"; or --address {ecosystem}=WHERE"
            ),
        ),
        Error::NoVariable { name } => worded(
            WRONG,
            format!("the address of an index names the variable {name}, which is not set"),
            format!("set {name} in the environment of this program"),
        ),
        Error::NoUsableFile { package, address, offered } => Worded {
            details: if offered.is_empty() {
                vec!["  nothing is offered there".to_owned()]
            } else {
                offered.iter().take(8).map(|f| format!("  offered: {f}")).collect()
            },
            ..worded(
                FAILED,
                format!("{address} has no file for {package} that was locked and that fits the image"),
                "lock a version that has a wheel for this Python and platform, or its source archive with its hash",
            )
        },
        Error::BadPackage { package, detail } => worded(
            FAILED,
            format!("the archive of {package} cannot be used: {detail}"),
            "do not use it; ask the registry or the package's author",
        ),
        other => worded(FAILED, other.to_string(), ""),
    }
}

fn pin_error(error: &Error) -> Worded {
    match error {
        Error::PackageConflict { suite, package, excluded } => worded(
            FAILED,
            format!("{package} and {excluded} of {suite} cannot be together: {package} excludes it"),
            "leave one of them, or what needs it, out of [base] packages",
        ),
        Error::PackageUnmet { suite, wanted, chain } => Worded {
            details: chain.iter().map(|name| format!("  needed by {name}")).rev().collect(),
            ..worded(
                FAILED,
                format!("nothing in {suite} provides {wanted}"),
                if chain.is_empty() {
                    "correct the name: in [base] packages, or of an extension that the app asks for"
                } else {
                    "the archive may be incomplete: `shtetl addresses` shows which one is asked"
                },
            )
        },
        Error::Signature { what, fault } => {
            let detail = match fault {
                SignatureFault::NotSigned => "it is not signed".to_owned(),
                SignatureFault::UnknownKeys(ids) => {
                    format!("no known key has signed it, but {}", ids.join(", "))
                }
                SignatureFault::Wrong => "the signature is not that of this text".to_owned(),
                SignatureFault::UnfitKey => {
                    "the key that signed it is revoked, past its time, or too weak".to_owned()
                }
                SignatureFault::NotARelease => "it is no release of a suite".to_owned(),
                SignatureFault::BadKeyring => "there is no key in it".to_owned(),
            };
            worded(
                FAILED,
                format!("{what} is not believed: {detail}"),
                "do not use it; a copy with keys of its own needs [base] keyring = FILE",
            )
        }
        Error::ReleaseOver { what, until } => worded(
            FAILED,
            format!(
                "{what} was valid until {until}: the archive is an old copy, or somebody holds updates back"
            ),
            "bring the copy up to date; to use it all the same, in shtetl.toml, under [base]: outdated = true",
        ),
        Error::PinsMissing { base, file_is_there } => worded(
            FAILED,
            if *file_is_there {
                format!("shtetl.lock does not pin all that {base} has to provide")
            } else {
                format!("there is no shtetl.lock that pins {base}")
            },
            "build once without --locked, and commit shtetl.lock",
        ),
        other => worded(FAILED, other.to_string(), ""),
    }
}

fn runtime_error(error: &Error) -> Worded {
    match error {
        Error::RuntimeMissing { runtime, searched } => {
            let program = if *runtime == "python" { "python3" } else { runtime };
            let folders: Vec<_> = searched.iter().map(|p| p.display().to_string()).collect();
            Worded {
                details: vec![format!("  searched: {}", folders.join(", "))],
                ..worded(
                    OUTSIDE,
                    format!("the base `host` takes {runtime} from this machine, and {program} is not on it"),
                    format!(
                        "install {program} so that it is in the PATH; nothing else of the language is needed"
                    ),
                )
            }
        }
        Error::RuntimeMismatch { runtime, found, origin, wanted, place } => worded(
            FAILED,
            format!("{} wants {runtime} {wanted}, and the base {origin} has {found}", words::place(place)),
            match origin.as_str() {
                "host" => format!("install a fitting {runtime} on this machine, or change the constraint"),
                _ => "choose another base: in shtetl.toml, under [base]: from = …; or change the constraint"
                    .to_owned(),
            },
        ),
        Error::NoSuchVersion { runtime, wanted, place, base, registry } => worded(
            FAILED,
            format!(
                "{}{runtime} {wanted} is wanted, and neither {base} nor {registry} has such a version",
                place.as_ref().map(|p| format!("{}: ", words::place(p))).unwrap_or_default()
            ),
            "change the constraint; `shtetl runtimes` lists what there is",
        ),
        Error::NoBuildRoot { base } => worded(
            FAILED,
            format!("something has to be built, and the base {base} has nothing to build in"),
            "choose a Debian base, or empty, in [base] from; or build before, and take the result in with [source] include",
        ),
        Error::RuntimeNotInBase { runtime, base } => worded(
            FAILED,
            format!("the base {base} has no {runtime}"),
            "choose another base: in shtetl.toml, under [base]: from = …",
        ),
        Error::Capture { path, detail } => worded(
            OUTSIDE,
            format!("{} cannot be captured: {detail}", path.display()),
            "check that the runtime works on this machine",
        ),
        other => worded(FAILED, other.to_string(), ""),
    }
}

fn run_error(error: &Error) -> Worded {
    match error {
        Error::NothingMade { keep } => worded(
            FAILED,
            match keep.is_empty() {
                true => "the build command made no new file".to_owned(),
                false => format!("the build command made no file that fits {}", keep.join(", ")),
            },
            "correct run or keep under [build] in shtetl.toml",
        ),
        Error::StepNotStarted { step, program, detail } => worded(
            FAILED,
            format!("{step}: {program:?} cannot be started: {detail}"),
            "correct the command, or add what has it: tools under [build], build-packages under [base]",
        ),
        Error::StepFailed { step, command, status, said, missing } => Worded {
            details: said.iter().chain(&missing_words(missing)).map(|line| format!("  {line}")).collect(),
            ..worded(
                FAILED,
                format!("{step}: the command ended with {status}: {command}"),
                missing_advice(missing),
            )
        },
        Error::OtherPlatform { image, platform, here } => worded(
            WRONG,
            format!("{image} is for {platform}, and this machine is {here}"),
            format!("build it for this machine: --platform {here}"),
        ),
        Error::NoImage { name, known } => Worded {
            details: known.iter().take(8).map(|k| format!("  in the store: {k}")).collect(),
            ..worded(
                WRONG,
                format!("there is no image {name:?}"),
                match names::nearest(name, known.iter().filter_map(|k| k.split(':').next())) {
                    Some(near) if near != name => format!("did you mean {near:?}?"),
                    _ => "build it with `shtetl build`, or give a layout folder or an archive".to_owned(),
                },
            )
        },
        Error::NoRecord { image } => worded(
            FAILED,
            format!("{image} has no record: it was not made by this tool"),
            "give an image that `shtetl build` made",
        ),
        Error::NoSuchProcess { name, known } => {
            worded(WRONG, format!("the image has no process type or task {name:?}"), suggestion(name, known))
        }
        Error::SettingsMissing { names } => worded(
            WRONG,
            format!("no value for {}", joined(names.iter().map(String::as_str))),
            format!("give one: --set {}=VALUE", names.first().map(String::as_str).unwrap_or("NAME")),
        ),
        Error::PortTaken { port } => worded(
            OUTSIDE,
            format!("port {port} is in use on this machine"),
            "take another: --port N, or --port 0 for a free one",
        ),
        Error::NoSandbox(refusal) => Worded {
            details: refusal
                .tries
                .iter()
                .map(|(mode, step, detail)| {
                    let who = match mode.isolation {
                        Isolation::Superuser => "as the superuser",
                        Isolation::SingleUser => "in a user namespace",
                    };
                    let ground = match mode.ground {
                        Ground::Overlay => "overlay",
                        Ground::Copy => "copied root",
                    };
                    format!("  {who}, {ground}: could not {step} ({detail})")
                })
                .collect(),
            ..worded(
                OUTSIDE,
                "this machine does not allow a process to be isolated",
                "allow user namespaces (user.max_user_namespaces above 0), or run as root; building works without",
            )
        },
        Error::Sandbox(SandboxError::NotStarted { program, detail }) => worded(
            FAILED,
            format!("the image cannot start {program:?}: {detail}"),
            "check the command of the process type; `shtetl show` lists it",
        ),
        Error::Sandbox(other) => worded(OUTSIDE, format!("the process could not be run: {other}"), ""),
        Error::EndedEarly { status, output } => Worded {
            details: output.lines().map(|l| format!("  | {l}")).collect(),
            ..worded(FAILED, format!("the process ended before it answered ({status})"), "")
        },
        Error::Interrupted => worded(INTERRUPTED, "interrupted; nothing half done is left behind", ""),
        other => worded(FAILED, other.to_string(), ""),
    }
}

/// One broken sign can have many faults follow; the first ones tell.
const MOST_FAULTS: usize = 12;

fn config_error(path: &Path, text: &str, complaints: &[Complaint]) -> Worded {
    let file = path.file_name().unwrap_or_default().to_string_lossy();
    let mut details = Vec::new();
    for complaint in complaints.iter().take(MOST_FAULTS) {
        let (line, _) = snippet::position(text, complaint.span.start);
        details.push(format!("{file} line {line}: {}", fault(&complaint.fault)));
        let hide = fault_key(&complaint.fault).contains("settings.");
        details.extend(snippet::underline(text, &complaint.span, hide));
    }
    if complaints.len() > MOST_FAULTS {
        details.push(format!("and {} more", complaints.len() - MOST_FAULTS));
    }
    let faults = words::count(complaints.len(), "fault");
    Worded {
        details,
        ..worded(WRONG, format!("{} has {faults}", path.display()), "correct it; nothing was built")
    }
}

/// The full key that a fault is about.
fn fault_key(fault: &Fault) -> &str {
    match fault {
        Fault::Syntax { .. } => "",
        Fault::UnknownKey { table, .. } => table,
        Fault::WrongType { key, .. } | Fault::BadValue { key, .. } | Fault::Locked { key, .. } => key,
    }
}

fn fault(fault: &Fault) -> String {
    match fault {
        Fault::Syntax { detail } => format!("this is not TOML: {detail}"),
        Fault::UnknownKey { key, table, nearest, known } => {
            let place = if table.is_empty() { String::new() } else { format!(" in [{table}]") };
            match nearest {
                Some(nearest) => format!("no key {key:?}{place}; did you mean {nearest:?}?"),
                None => format!("no key {key:?}{place}; there are: {}", known.join(", ")),
            }
        }
        Fault::WrongType { key, expected, found } => format!("{key} takes {expected}, and this is {found}"),
        Fault::Locked { key, by } => format!("{key}: the house rules ({by}) do not let apps change this"),
        Fault::BadValue { key, detail } => format!("{key}: {detail}"),
    }
}

pub fn suggestion(name: &str, known: &[impl AsRef<str>]) -> String {
    match names::nearest(name, known.iter().map(AsRef::as_ref)) {
        Some(nearest) => format!("did you mean {nearest:?}?"),
        None => format!("there are: {}", joined(known.iter().map(AsRef::as_ref))),
    }
}

fn joined<'a>(names: impl Iterator<Item = &'a str>) -> String {
    let names: Vec<_> = names.collect();
    match names.split_last() {
        Some((last, others)) if !others.is_empty() => format!("{} and {last}", others.join(", ")),
        _ => names.concat(),
    }
}
/// What a program did not find, each with the package that has it.
fn missing_words(missing: &[Missing]) -> Vec<String> {
    let told = missing.iter().map(|Missing { what, package }| match package {
        Some(package) => format!("missing: {what}, which the Debian package {package} has"),
        None => format!("missing: {what}"),
    });
    told.collect()
}

fn missing_advice(missing: &[Missing]) -> String {
    let packages: BTreeSet<&str> = missing.iter().filter_map(|m| m.package).collect();
    match packages.len() {
        0 => "correct what it says; it runs without the network, and sees only what is packed".to_owned(),
        _ => {
            let list = packages.iter().map(|name| format!("{name:?}")).collect::<Vec<_>>().join(", ");
            format!("in shtetl.toml, under [base]: build-packages = [{list}]")
        }
    }
}
