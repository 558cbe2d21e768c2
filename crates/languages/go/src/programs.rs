//! The programs of a module: which there are, and which of them serves.

use crate::constraints;
use model::{BuildpackOptions, Place, Result};
use source::SourceTree;
use std::collections::BTreeMap;

/// Folders of programs that are for work on the source, and not for running the app.
const ASIDE: [&str; 18] = [
    "bench",
    "ci",
    "docs",
    "e2e",
    "example",
    "examples",
    "gen",
    "generate",
    "generator",
    "hack",
    "internal",
    "script",
    "scripts",
    "test",
    "tests",
    "testutil",
    "tool",
    "tools",
];
/// Names of programs that serve, where none is called like the module.
const SERVING: [&str; 5] = ["server", "web", "api", "app", "serve"];

/// A program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Program {
    /// The folder of its package, from the root of the module; empty for that itself.
    pub(super) folder: String,
    /// What the compiler calls it.
    pub(super) name: String,
    /// Its `main` function.
    pub(super) said: Place,
    /// Whether it is what the app serves with.
    pub(super) serves: bool,
    /// The port that its code says, where that is the only one and no variable says another.
    pub(super) port: Option<(u16, Place)>,
}

/// The programs of the module `module`, in the order of their folders, as a build with `tags` has them.
pub(super) fn of(tree: &SourceTree, module: &str, tags: &[String]) -> Result<Vec<Program>> {
    let mut mains = main_packages(tree, tags)?;
    let is_aside = |folder: &str| folder.split('/').any(|part| ASIDE.contains(&part));
    if mains.keys().any(|folder| !is_aside(folder)) {
        mains.retain(|folder, _| !is_aside(folder));
    }
    let own = module_name(module);
    let name = |folder: &str| match folder.rsplit('/').next() {
        Some(last) if !last.is_empty() => last.to_owned(),
        _ => own.to_owned(),
    };
    let serving =
        serving(&mains.keys().map(|folder| (folder.as_str(), name(folder))).collect::<Vec<_>>(), own);
    let program = |(folder, said): (String, Place)| {
        let serves = serving.as_deref() == Some(folder.as_str());
        let port = if serves { port_of(tree, &folder)? } else { None };
        Ok(Program { name: name(&folder), folder, said, serves, port })
    };
    mains.into_iter().map(program).collect()
}

/// The folder of the program that serves: the only one, that at the top, the one called like the module, or the only one
/// whose name says so.
fn serving(programs: &[(&str, String)], module: &str) -> Option<String> {
    if let [(only, _)] = programs {
        return Some((*only).to_owned());
    }
    let named = |is_it: &dyn Fn(&str, &str) -> bool| {
        let mut found =
            programs.iter().filter(|(folder, name)| is_it(folder, name)).map(|(folder, _)| *folder);
        found.next().filter(|_| found.next().is_none()).map(str::to_owned)
    };
    named(&|folder, _| folder.is_empty())
        .or_else(|| named(&|_, name| name == module))
        .or_else(|| named(&|_, name| SERVING.contains(&name) || name.strip_suffix("-server") == Some(module)))
}

/// The variable that says the port, wherever an app is run.
const VARIABLE: &str = "\"PORT\"";

/// The port that the code of a program says, where there is one and no more, and no variable says another.
fn port_of(tree: &SourceTree, folder: &str) -> Result<Option<(u16, Place)>> {
    let mut found: BTreeMap<u16, Place> = BTreeMap::new();
    for path in tree.files().keys().filter(|p| p.ends_with(".go") && !p.ends_with("_test.go")) {
        if path.rsplit_once('/').map_or("", |(f, _)| f) != folder {
            continue;
        }
        let Some(text) = tree.read_text(path)? else { continue };
        if text.contains(VARIABLE) {
            return Ok(None);
        }
        for (number, line) in
            text.lines().enumerate().filter(|(_, line)| !line.trim_start().starts_with("//"))
        {
            let place = || Place::new(path.as_str(), u32::try_from(number + 1).ok());
            for port in ports_in(line) {
                found.entry(port).or_insert_with(place);
            }
        }
    }
    Ok(if found.len() == 1 { found.pop_first() } else { None })
}

/// Ports in a line: addresses such as `":8080"`, and the default of what is called `port`, as in `Int("port", 8080`.
fn ports_in(line: &str) -> impl Iterator<Item = u16> {
    const LOWEST: u16 = 80;
    let addresses =
        line.split("\":").skip(1).filter_map(|rest| rest.split_once('"').map(|(number, _)| number));
    let defaults = line.split("\"port\",").skip(1).map(|rest| {
        let rest = rest.trim_start().trim_start_matches('"');
        let end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
        &rest[..end]
    });
    addresses.chain(defaults).filter_map(|number| number.parse().ok()).filter(|port| *port >= LOWEST)
}

/// The last part of a module's path, without that of its major version.
fn module_name(module: &str) -> &str {
    let mut parts = module.rsplit('/');
    let last = parts.next().filter(|last| !last.is_empty()).unwrap_or("app");
    let is_version = last.strip_prefix('v').is_some_and(|rest| rest.bytes().all(|b| b.is_ascii_digit()));
    parts.next().filter(|_| is_version).unwrap_or(last)
}

/// Folders with `package main` and a `main` function, with the place of that function.
fn main_packages(tree: &SourceTree, tags: &[String]) -> Result<BTreeMap<String, Place>> {
    let mut found = BTreeMap::new();
    for path in tree.files().keys().filter(|p| p.ends_with(".go")) {
        let folder = path.rsplit_once('/').map_or("", |(f, _)| f);
        let hidden = |part: &str| {
            part.starts_with('_') || part.starts_with('.') || matches!(part, "vendor" | "testdata")
        };
        if found.contains_key(folder) || folder.split('/').any(hidden) || is_of_another(tree, folder) {
            continue;
        }
        // A source that is not text is no program.
        let Some(text) = tree.read_text(path)? else { continue };
        let is_main = text.lines().any(|l| l.trim_end() == "package main");
        if is_main && text.contains("\nfunc main()") && constraints::takes(path, &text, tags) {
            found.insert(folder.to_owned(), Place::find(path, &text, "func main()"));
        }
    }
    Ok(found)
}

/// Modules that do nothing without their part in C.
const IN_C: [&str; 6] = [
    "github.com/mattn/go-sqlite3",
    "github.com/confluentinc/confluent-kafka-go",
    "github.com/go-gl/gl",
    "github.com/h2non/bimg",
    "github.com/tecbot/gorocksdb",
    "gopkg.in/gographics/imagick.v3/imagick",
];

/// Whether a C compiler has to be there: as the configuration says, else where the source or a module that it needs is
/// written in C in part.
pub(super) fn needs_c(tree: &SourceTree, options: &BuildpackOptions) -> Result<bool> {
    if let Some(said) = options.truth(super::C) {
        return Ok(said);
    }
    let manifest = tree.read(super::MANIFEST)?.unwrap_or_default();
    let is_one =
        |word: &str| IN_C.iter().any(|module| word == *module || word.starts_with(&format!("{module}/")));
    if manifest.split_whitespace().any(is_one) {
        return Ok(true);
    }
    has_c(tree, options.texts(super::TAGS))
}

/// Whether a source of the module is written in C in part.
fn has_c(tree: &SourceTree, tags: &[String]) -> Result<bool> {
    for path in tree.files().keys().filter(|p| p.ends_with(".go")) {
        let Some(text) = tree.read_text(path)? else { continue };
        let imports_c = text.lines().any(|line| line.trim() == "import \"C\"");
        if imports_c && constraints::takes(path, &text, tags) {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Whether a folder belongs to a module of its own below this one.
fn is_of_another(tree: &SourceTree, folder: &str) -> bool {
    let ends = folder.match_indices('/').map(|(at, _)| at).chain([folder.len()]);
    ends.filter(|at| *at > 0).any(|at| tree.has(&format!("{}/{}", &folder[..at], super::MANIFEST)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn serving_of(programs: &[(&str, &str)], module: &str) -> Option<String> {
        let programs: Vec<_> = programs.iter().map(|(folder, name)| (*folder, (*name).to_owned())).collect();
        serving(&programs, module)
    }

    #[test]
    fn ports_are_read_from_addresses_and_defaults() {
        let ports = |line: &str| ports_in(line).collect::<Vec<_>>();
        assert_eq!(ports(r#"http.ListenAndServe(":8090", nil)"#), [8090]);
        assert_eq!(ports(r#"fs.Int("port", 9898, "HTTP port")"#), [9898]);
        assert_eq!(ports(r#"flag.String("port", "3000", "")"#), [3000]);
        assert_eq!(ports(r#"fs.Int("grpc-port", 0, ":0")"#), [0; 0]);
    }

    #[test]
    fn the_program_that_serves_is_found_by_place_and_name() {
        let serving = |programs: &[(&str, &str)]| serving_of(programs, "ferry");
        assert_eq!(serving(&[("cmd/tide", "tide")]).as_deref(), Some("cmd/tide"));
        assert_eq!(serving(&[("", "ferry"), ("cmd/tide", "tide")]).as_deref(), Some(""));
        assert_eq!(serving(&[("cmd/ferry", "ferry"), ("cmd/tide", "tide")]).as_deref(), Some("cmd/ferry"));
        assert_eq!(serving(&[("cmd/server", "server"), ("cmd/tide", "tide")]).as_deref(), Some("cmd/server"));
        assert_eq!(serving(&[("cmd/api", "api"), ("cmd/web", "web")]), None, "two that may be it");
        assert_eq!(serving(&[("cmd/fog", "fog"), ("cmd/tide", "tide")]), None);
        assert_eq!(module_name("kestrel.example/ferry/v2"), "ferry");
        assert_eq!(module_name("ferry"), "ferry");
        assert_eq!(module_name(""), "app");
    }
}
