//! Which runtimes an image carries, found by looking into it.

use crate::image::view::View;
use model::RuntimeInUse;
use model::labels;
use model::pins::Carried;
use remote::oci::ForeignConfig;
use serde::Deserialize;
use std::collections::BTreeMap;

/// What the record of an image of this program says of its runtimes.
#[derive(Deserialize)]
struct OwnRecord {
    runtimes: Vec<RuntimeInUse>,
}

/// How a runtime is known.
struct Sign {
    runtime: &'static str,
    programs: &'static [&'static str],
    /// A variable of the image with its version.
    variable: &'static str,
    /// The end of a file's path, and what stands before each part of the version in it.
    file: (&'static str, &'static [&'static str]),
    /// Beginning and end of the name of its package.
    packages: &'static [(&'static str, &'static str)],
}

const SIGNS: [Sign; 5] = [
    Sign {
        runtime: "node",
        programs: &["node", "nodejs"],
        variable: "NODE_VERSION",
        file: ("node_version.h", &["NODE_MAJOR_VERSION ", "NODE_MINOR_VERSION ", "NODE_PATCH_VERSION "]),
        packages: &[("nodejs", "")],
    },
    Sign {
        runtime: "python",
        programs: &["python3"],
        variable: "PYTHON_VERSION",
        file: ("patchlevel.h", &["PY_VERSION"]),
        packages: &[("python3.", ""), ("python3", "")],
    },
    Sign {
        runtime: "ruby",
        programs: &["ruby"],
        variable: "RUBY_VERSION",
        file: ("rbconfig.rb", &["\"MAJOR\"] = ", "\"MINOR\"] = ", "\"TEENY\"] = "]),
        packages: &[("ruby3.", ""), ("ruby", "")],
    },
    Sign {
        runtime: "php",
        programs: &["php"],
        variable: "PHP_VERSION",
        file: ("php_version.h", &["PHP_VERSION \""]),
        packages: &[("php", "-cli"), ("php8", "")],
    },
    Sign {
        runtime: "java",
        programs: &["java"],
        variable: "JAVA_VERSION",
        file: ("release", &["JAVA_VERSION="]),
        packages: &[("openjdk-", "-jre-headless"), ("openjdk", "-jre-headless")],
    },
];

/// The path of programs where the image does not say one.
const USUAL_PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// The name under which a shell is noted.
pub(super) const SHELL: &str = "sh";

/// The runtimes in the image with this configuration.
pub(super) fn find(view: &View, config: &ForeignConfig) -> BTreeMap<String, Carried> {
    let env = &config.env();
    let record = config.label(labels::RECORD).and_then(|text| serde_json::from_str::<OwnRecord>(text).ok());
    let path = env.get("PATH").map_or(USUAL_PATH, String::as_str);
    let installed = installed(view);
    let mut found = BTreeMap::new();
    for sign in &SIGNS {
        let candidates = path.split(':').flat_map(|folder| {
            sign.programs.iter().map(move |name| format!("{}/{name}", folder.trim_end_matches('/')))
        });
        let Some((program, real)) = candidates.filter_map(|p| view.real(&p).map(|real| (p, real))).next()
        else {
            continue;
        };
        let in_record = || {
            let known = record.iter().flat_map(|record| &record.runtimes).find(|r| r.name == sign.runtime)?;
            Some((known.version.clone(), "its record".to_owned()))
        };
        let said = in_record()
            .or_else(|| in_file(view, sign, &real))
            .or_else(|| in_env(env, sign))
            .or_else(|| in_package(&installed, sign))
            .or_else(|| in_name(&real));
        if let Some((version, said)) = said {
            found.insert(sign.runtime.to_owned(), Carried { version, program, said });
        }
    }
    if let Some(program) = view.real("/bin/sh") {
        let carried = Carried { version: String::new(), said: program.clone(), program };
        found.insert(SHELL.to_owned(), carried);
    }
    found
}

/// The version as a file beside the program says it.
fn in_file(view: &View, sign: &Sign, program: &str) -> Option<(String, String)> {
    let (name, markers) = sign.file;
    let prefix = program.rsplit_once("/bin/").or_else(|| program.rsplit_once("/sbin/")).map(|(p, _)| p)?;
    let end = format!("/{name}");
    view.texts(&format!("{prefix}/"), &end).find_map(|(path, text)| {
        let parts: Option<Vec<String>> = markers.iter().map(|marker| number_after(text, marker)).collect();
        Some((parts?.join("."), path.to_owned()))
    })
}

/// The version that the program's own name ends with, as in `python3.13`.
fn in_name(program: &str) -> Option<(String, String)> {
    let name = program.rsplit('/').next()?;
    let version = number_after(name.trim_start_matches(|c: char| !c.is_ascii_digit()), "")?;
    version.contains('.').then(|| (version, program.to_owned()))
}

fn in_env(env: &BTreeMap<String, String>, sign: &Sign) -> Option<(String, String)> {
    let said = env.get(sign.variable)?;
    let version = number_after(said, "")?;
    Some((version, format!("its variable {}", sign.variable)))
}

fn in_package(installed: &BTreeMap<String, String>, sign: &Sign) -> Option<(String, String)> {
    for (begin, end) in sign.packages {
        let is_one = |name: &str| {
            let middle = name.strip_prefix(begin).and_then(|rest| rest.strip_suffix(end));
            middle.is_some_and(|m| m.chars().all(|c| c.is_ascii_digit() || c == '.'))
        };
        if let Some((name, version)) = installed.iter().find(|(name, _)| is_one(name)) {
            let plain = version.split_once(':').map_or(version.as_str(), |(_, rest)| rest);
            return Some((number_after(plain, "")?, format!("its package {name} {version}")));
        }
    }
    None
}

/// The first number (with dots) behind `marker`, leaving out quotes and the letter v before it.
fn number_after(text: &str, marker: &str) -> Option<String> {
    let rest = text.split_once(marker).map_or("", |(_, rest)| rest);
    let rest = rest.trim_start_matches([' ', '\t', '"', 'v', '=']);
    let number: String = rest.chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    let number = number.trim_end_matches('.');
    (!number.is_empty()).then(|| number.to_owned())
}

/// Installed packages with their versions, of the two lists that distributions keep.
fn installed(view: &View) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let lists = [("var/lib/dpkg/status", "Package: ", "Version: "), ("", "P:", "V:")];
    for (list, name, version) in lists {
        let ending = if list.is_empty() { "apk/db/installed" } else { list };
        for (_, text) in view.texts("", ending) {
            for paragraph in text.split("\n\n") {
                let field = |key: &str| paragraph.lines().find_map(|line| line.strip_prefix(key));
                if let (Some(name), Some(version)) = (field(name), field(version)) {
                    found.insert(name.to_owned(), version.to_owned());
                }
            }
        }
    }
    found
}
