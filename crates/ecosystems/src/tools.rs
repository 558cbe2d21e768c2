//! The ecosystems' own tools on this machine, which are asked where packages come from when nothing else says it.

use crate::maven;
use config::addresses::{KnownAddress, Origin};
use model::Ecosystem;
use remote::Address;
use std::path::Path;
use std::process::{Command, Stdio};

/// Asks the ecosystem's own tool on this machine.
pub fn ask_tool(ecosystem: Ecosystem) -> Option<KnownAddress> {
    if ecosystem == Ecosystem::MAVEN {
        return maven::of_program();
    }
    let (program, arguments): (&str, &[&str]) = match ecosystem {
        Ecosystem::NPM => ("npm", &["config", "get", "registry"]),
        Ecosystem::PYPI => ("python3", &["-m", "pip", "install", "--help"]),
        Ecosystem::GO => ("go", &["env", "GOPROXY"]),
        _ => return None,
    };
    let mut command = Command::new(program);
    // Within a member of a workspace, npm does not answer; what files of the app say is read without it.
    command.args(arguments).current_dir("/").stdin(Stdio::null()).stderr(Stdio::null());
    let output = command.output().ok()?;
    let text = String::from_utf8_lossy(&output.stdout);
    let address = match ecosystem {
        // pip states its default index in the help of the option.
        Ecosystem::PYPI => {
            let (_, after) = text.split_once("--index-url")?;
            let stated = after.split_once("(default")?.1;
            stated.split_whitespace().next()?.trim_end_matches([')', '.']).to_owned()
        }
        Ecosystem::GO => first_proxy(text.trim())?.to_owned(),
        _ => text.lines().find(|l| l.starts_with("http"))?.trim().to_owned(),
    };
    let detail = format!("{program} {}", arguments.join(" "));
    let address = Address::parse(&address, Path::new("/"));
    Some(KnownAddress { ecosystem, bound: None, address, origin: Origin::Tool, detail })
}

/// The first proxy of a list: the words for "none" and "from the repository itself" are passed over.
pub fn first_proxy(list: &str) -> Option<&str> {
    let is_address = |entry: &&str| entry.contains("://");
    list.split([',', '|']).map(str::trim).find(is_address)
}
