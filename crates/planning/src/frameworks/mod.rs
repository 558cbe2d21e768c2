//! What is known of frameworks and servers, as a table: which packages tell of them, and how apps
//! made with them are started.

mod object;
mod python;
mod ruby;

pub use python::PYTHON;
pub use ruby::RUBY;

use model::Sign;
use model::{Evidence, Place, ProcessKind, ProcessType, Result};
use object::{AppObject, Sources};
use source::SourceTree;
use std::collections::BTreeSet;

/// A framework, known by a package that the app declares.
pub struct Framework {
    /// The declared package.
    pub package: &'static str,
    /// A file that an app made with it has; without it, the package alone does not tell.
    pub marker: Option<&'static str>,
    /// What is assigned to the app's object (`Flask(`), for frameworks that have one.
    pub object: Option<&'static str>,
    /// What begins a line of the script that the framework's own program is given (`import streamlit`).
    pub script: Option<&'static str>,
    /// How it is run.
    pub starts: &'static [Start],
}

impl Framework {
    /// What its app is made by, as code calls it.
    fn called(&self) -> Option<&'static str> {
        self.object.map(|call| call.trim_end_matches('('))
    }
}

/// One way to run an app made with a framework.
pub struct Start {
    /// The process type or task.
    pub name: &'static str,
    /// Process or task.
    pub kind: ProcessKind,
    /// A server that must be declared, too.
    pub server: Option<&'static str>,
    /// A file or folder (with a slash at its end) that must be there, too.
    pub with: Option<&'static str>,
    /// `{object}` stands for the app's object, `{module}` for its module, `{script}` for its script.
    pub command: &'static [&'static str],
}

const fn process(
    name: &'static str,
    server: Option<&'static str>,
    command: &'static [&'static str],
) -> Start {
    Start { name, kind: ProcessKind::Process, server, with: None, command }
}

const fn task(name: &'static str, with: Option<&'static str>, command: &'static [&'static str]) -> Start {
    Start { name, kind: ProcessKind::Task, server: None, with, command }
}

/// Frameworks of Node; apps with a start script or an entry file need none of this.
pub const NODE: &[Framework] = &[
    Framework {
        package: "prisma",
        marker: Some("prisma/schema.prisma"),
        object: None,
        script: None,
        starts: &[task("migrate", Some("prisma/migrations/"), &["prisma", "migrate", "deploy"])],
    },
    Framework {
        package: "knex",
        marker: None,
        object: None,
        script: None,
        starts: &[task("migrate", Some("migrations/"), &["knex", "migrate:latest"])],
    },
];

/// Frameworks whose build makes a server only with an adapter, which their own configuration names: a series of the
/// framework, and the adapter for it. The last one is for all newer series.
const ADAPTERS: [(&str, &str, &str); 2] =
    [("@sveltejs/kit", "2", "@sveltejs/adapter-node@5"), ("@sveltejs/kit", "", "@sveltejs/adapter-node")];

/// The adapter with which the build of a framework makes a server; `wanted` is the framework with the versions of it that
/// will do, as in `fog ^2.1`.
pub fn adapter_for(wanted: &str) -> Option<&'static str> {
    let (package, range) = wanted.split_once(' ').unwrap_or((wanted, ""));
    let series = range.trim_start_matches(['^', '~', '=', 'v']).split('.').next().unwrap_or_default();
    let fits = |of: &str| of.is_empty() || of == series;
    ADAPTERS.iter().find(|(framework, of, _)| *framework == package && fits(of)).map(|(.., adapter)| *adapter)
}

/// The usual server of a framework that needs one; it is known by its package, or by what its app is made by.
pub fn server_for(package: &str) -> Option<&'static str> {
    let all = PYTHON.iter().chain(RUBY);
    all.filter(|framework| framework.package == package || framework.called() == Some(package))
        .flat_map(|framework| framework.starts)
        .find_map(|start| start.server)
}

/// The package of a framework, which is known by its package, or by what its app is made by.
pub fn package_of(framework: &str) -> Option<&'static str> {
    let known = PYTHON.iter().chain(RUBY).find(|f| f.package == framework || f.called() == Some(framework));
    known.map(|framework| framework.package)
}

/// What the frameworks of an app say of how it is run.
#[derive(Default)]
pub struct Known {
    /// The process types.
    pub processes: Vec<ProcessType>,
    /// What speaks for them.
    pub evidence: Vec<Evidence>,
}

/// Applies `table` to an app that declares `packages` in `manifest`; sources end with `ending`.
pub fn apply(
    table: &[Framework],
    tree: &SourceTree,
    packages: &BTreeSet<String>,
    manifest: &Place,
    ending: &'static str,
) -> Result<Known> {
    let mut known = Known::default();
    let sources = Sources::of(tree, ending);
    for framework in table.iter().filter(|f| packages.contains(f.package)) {
        if framework.marker.is_some_and(|file| !tree.has(file)) {
            continue;
        }
        let object = match (framework.object, framework.script) {
            (Some(call), _) => sources.object(call)?,
            (None, Some(line)) => sources.script(line)?,
            (None, None) => None,
        };
        if object.is_none() && (framework.object.is_some() || framework.script.is_some()) {
            continue;
        }
        let place = object.as_ref().map_or_else(|| manifest.clone(), |o| o.place.clone());
        known.evidence.push(Evidence::speaks_for(place.clone(), framework.package, "the framework"));
        for start in framework.starts {
            let with =
                start.with.is_none_or(|w| tree.has(w) || tree.files().keys().any(|f| f.starts_with(w)));
            let server = start.server.is_none_or(|s| packages.contains(s));
            if with && server && !known.processes.iter().any(|p| p.name == start.name) {
                known.processes.push(found(start, object.as_ref(), &place));
            }
        }
        let servers: Vec<_> = framework.starts.iter().filter_map(|s| s.server).collect();
        let is_told =
            known.evidence.iter().any(|e| e.sign == Some(Sign::NoServer) && e.value == framework.package);
        if !servers.is_empty() && !is_told && !known.processes.iter().any(|p| p.name == "web") {
            let tells = format!("it needs a server, and none is declared ({})", servers.join(", "));
            // A package may have apps of two kinds, for different servers.
            let first = table.iter().find(|other| other.package == framework.package);
            let is_first = first.is_some_and(|first| first.object == framework.object);
            let value =
                if is_first { framework.package } else { framework.called().unwrap_or(framework.package) };
            let missing = Evidence::against(place, value, tells);
            known.evidence.push(missing.as_sign(Sign::NoServer));
        }
    }
    Ok(known)
}

fn found(start: &Start, object: Option<&AppObject>, place: &Place) -> ProcessType {
    let nothing = || (String::new(), String::new(), "");
    let (whole, module, option) = object.map_or_else(nothing, |o| {
        let (call, option) = o.given_to(start.command[0]);
        (format!("{}:{call}", o.module), o.module.clone(), option)
    });
    let word =
        |w: &&str| w.replace("{object}", &whole).replace("{module}", &module).replace("{script}", &module);
    let mut words: Vec<String> = start.command.iter().map(word).collect();
    if !option.is_empty() {
        words.insert(1, option.to_owned());
    }
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    ProcessType::found(start.name, start.kind, &words, place.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_adapter_fits_the_series_of_its_framework() {
        assert_eq!(adapter_for("@sveltejs/kit ^2.63.0"), Some("@sveltejs/adapter-node@5"));
        assert_eq!(adapter_for("@sveltejs/kit ~2"), Some("@sveltejs/adapter-node@5"));
        assert_eq!(adapter_for("@sveltejs/kit ^3.0.0"), Some("@sveltejs/adapter-node"));
        assert_eq!(adapter_for("@sveltejs/kit"), Some("@sveltejs/adapter-node"));
        assert_eq!(adapter_for("express ^5"), None);
    }
}
