//! Words of configuration and names.

use super::worded::{FAILED, WRONG, Worded, suggestion, worded};
use model::error::{BrokenDemand, ConfigError};
use model::{Complaint, Fault};
use render::{snippet, words};
use std::path::Path;

pub(super) fn words_of(error: &ConfigError) -> Worded {
    match error {
        ConfigError::Faults { path, text, complaints } => faults(path, text, complaints),
        ConfigError::HouseDemands { app, broken, by } => Worded {
            details: broken.iter().map(|one| format!("  {}", demand(one))).collect(),
            ..worded(
                FAILED,
                format!("the image of {app} violates the house rules in {by}"),
                format!("change the app, or ask for an exception: [exception.{app}] in the house rules"),
            )
        },
        ConfigError::Name { what, name, suggestion } => worded(
            WRONG,
            format!("{name:?} is not a valid name for an {what}").replace("an tag", "a tag"),
            match (suggestion, *what) {
                (Some(s), "app") => format!(
                    "a name has lower-case letters, digits and dashes and begins with a letter; in shtetl.toml: name = {s:?}"
                ),
                (Some(s), _) => format!("for example {s:?}"),
                (None, _) => "use lower-case letters, digits and dashes, beginning with a letter".to_owned(),
            },
        ),
        ConfigError::UnknownVariant { name, known } => worded(
            WRONG,
            format!("shtetl.toml has no variant {name:?}"),
            if known.is_empty() {
                "it has none; add one with [variant.NAME.settings]".to_owned()
            } else {
                suggestion(name, known)
            },
        ),
        ConfigError::UnknownBuildpack { name, known } => worded(
            WRONG,
            format!("shtetl.toml names the buildpack {name:?}, which does not exist"),
            suggestion(name, known),
        ),
        ConfigError::NotHeader { text } => worded(
            WRONG,
            format!("{text:?} is not a header field"),
            "use a name, a colon and a value, as in \"Referrer-Policy: no-referrer\"",
        ),
        ConfigError::UnknownBase { name } => worded(
            WRONG,
            format!("unknown base {name:?}"),
            "in shtetl.toml, under [base]: from = \"debian:trixie\", \"debian:bookworm\", \"oci:REFERENCE\", \"empty\", or \"host\" (captured from this machine)",
        ),
        ConfigError::BadReference { text, fault } => worded(
            WRONG,
            format!("oci:{text} is not an image reference: {}", super::registry::fault_of(*fault)),
            "use oci:HOST/NAME:TAG, oci:HOST/NAME@sha256:DIGEST, or oci:./FOLDER of a layout",
        ),
        ConfigError::NoAddress { ecosystem } => worded(
            WRONG,
            format!("no address is configured for {ecosystem} packages"),
            format!(
                "in shtetl.toml, under [addresses]: {ecosystem} = \"URL or folder\"; or --address {ecosystem}=WHERE"
            ),
        ),
        ConfigError::NoFiles { name } => worded(
            WRONG,
            format!("no address is configured for {name}, from which the build command downloads"),
            format!("in shtetl.toml, under [addresses]: \"{name}\" = \"URL or folder\""),
        ),
        ConfigError::UntrustedServer { name, server } => worded(
            WRONG,
            format!("the app asks to send the variable {name} to {server}, a server that only the app names"),
            trust_advice(server),
        ),
        ConfigError::BuildpackTwice { name, origin } => worded(
            WRONG,
            format!("there are two buildpacks called {name}; one comes from {origin}"),
            "rename the added one in its definition.toml",
        ),
        ConfigError::BuildpackPlace { text } => worded(
            WRONG,
            format!("{text:?} is not a folder with a {}", definitions::DEFINITION),
            "in shtetl.toml, under [buildpacks]: add = [\"./FOLDER\"], from the folder of that file",
        ),
        ConfigError::BuildpackMoves { text } => worded(
            WRONG,
            format!("the buildpack {text} is not named by a commit, and other names can move"),
            "write the full commit: add = [\"git+URL#COMMIT/FOLDER\"]; `git ls-remote URL` lists commits",
        ),
        ConfigError::PrivateModule { name } => worded(
            WRONG,
            format!("{name} is private (GOPRIVATE or GONOPROXY), and no address is bound to it"),
            format!(
                "name a module proxy that has it: --address go:{name}=URL; or vendor it with `go mod vendor`"
            ),
        ),
        ConfigError::NoVariable { name } => worded(
            WRONG,
            format!("the address of an index uses the variable {name}, which is not set"),
            format!("set {name} in the environment of this program"),
        ),
    }
}

/// One syntax fault can cause many others; the first ones are shown.
const MOST_FAULTS: usize = 12;

fn demand(broken: &BrokenDemand) -> String {
    match broken {
        BrokenDemand::Licence { package, version, licence: Some(licence) } => {
            format!("house-licence  {package} {version}: {licence}")
        }
        BrokenDemand::Licence { package, version, licence: None } => {
            format!("house-licence  {package} {version} declares no licence")
        }
        BrokenDemand::Size { bytes, most } => {
            format!("house-size  its layers have {}; {} is allowed", words::size(*bytes), words::size(*most))
        }
    }
}

fn faults(path: &Path, text: &str, complaints: &[Complaint]) -> Worded {
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
        ..worded(WRONG, format!("{} has {faults}", path.display()), "correct the file; nothing was built")
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
        Fault::Syntax { detail } => format!("invalid TOML: {detail}"),
        Fault::UnknownKey { key, table, nearest, known } => {
            let place = if table.is_empty() { String::new() } else { format!(" in [{table}]") };
            match nearest {
                Some(nearest) => format!("no key {key:?}{place}; did you mean {nearest:?}?"),
                None => format!("no key {key:?}{place}; known keys: {}", known.join(", ")),
            }
        }
        Fault::WrongType { key, expected, found } => format!("{key} takes {expected}, not {found}"),
        Fault::Locked { key, by } => format!("{key}: the house rules ({by}) do not let apps change this"),
        Fault::BadValue { key, detail } => format!("{key}: {detail}"),
    }
}

/// How a server becomes one that files of apps may send variables to.
pub fn trust_advice(server: &str) -> String {
    format!(
        "if you trust it, set SHTETL_TRUST={server}, or in your own config.toml, under [trust]: servers = [{server:?}]"
    )
}
