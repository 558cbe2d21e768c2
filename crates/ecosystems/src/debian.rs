//! What a Debian machine says of where its packages come from (sources.list, deb822 sources).

use bases::debian::Suite;
use config::addresses::{KnownAddress, Origin};
use model::Ecosystem;
use remote::Address;
use std::fs;
use std::path::{Path, PathBuf};

/// The sources of the Debian machine whose root is `host`: the archive, and that of security updates.
pub fn of_debian_machine(host: &Path) -> Vec<KnownAddress> {
    let folder = host.join("etc/apt");
    let listed = fs::read_dir(folder.join("sources.list.d")).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = listed.map(|entry| entry.path()).collect();
    files.sort();
    files.insert(0, folder.join("sources.list"));
    let mut known: Vec<KnownAddress> = Vec::new();
    for file in files {
        let Ok(text) = fs::read_to_string(&file) else { continue };
        let sources =
            if file.extension().is_some_and(|e| e == "sources") { paragraphs(&text) } else { lines(&text) };
        for (url, suites) in sources {
            let of_debian = |s: &str| Suite::named(s.split('-').next().unwrap_or(s)).is_some();
            if !suites.iter().any(|s| of_debian(s)) {
                continue;
            }
            let security = suites.iter().any(|s| s.ends_with("-security"));
            let ecosystem = if security { Ecosystem::DEBIAN_SECURITY } else { Ecosystem::DEBIAN };
            if known.iter().all(|k| k.ecosystem != ecosystem) {
                let shown = file.strip_prefix(host).unwrap_or(&file);
                let detail = Path::new("/").join(shown).display().to_string();
                let address = Address::parse(&url, host);
                known.push(KnownAddress {
                    ecosystem,
                    bound: None,
                    address,
                    origin: Origin::Ecosystem,
                    detail,
                });
            }
        }
    }
    known
}

/// `deb [options] URL suite component …`.
fn lines(text: &str) -> Vec<(String, Vec<String>)> {
    let source = |line: &str| {
        let rest = line.trim().strip_prefix("deb ")?.trim_start();
        let rest = if rest.starts_with('[') { rest.split_once(']')?.1 } else { rest };
        let mut words = rest.split_whitespace();
        Some((words.next()?.to_owned(), vec![words.next()?.to_owned()]))
    };
    text.lines().filter_map(source).collect()
}

/// Paragraphs with `URIs` and `Suites`.
fn paragraphs(text: &str) -> Vec<(String, Vec<String>)> {
    let source = |paragraph: &str| {
        let field = |name: &str| {
            let value =
                paragraph.lines().find_map(|l| l.strip_prefix(name)?.trim_start().strip_prefix(':'))?;
            Some(value.split_whitespace().map(str::to_owned).collect::<Vec<_>>())
        };
        Some((field("URIs")?.into_iter().next()?, field("Suites")?))
    };
    text.split("\n\n").filter_map(source).collect()
}
