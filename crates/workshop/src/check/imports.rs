//! Rules of what the code of a Node app imports, followed from the files that its commands start.

use crate::check::packages::Installed;
use crate::check::program::declare;
use crate::check::start::other_case;
use crate::check::{Found, Subject, error, python_imports, warning};
use model::{Place, Result};
use source::SourceTree;
use std::collections::BTreeSet;

/// Endings of files with code.
const CODE: [&str; 5] = [".js", ".mjs", ".cjs", ".ts", ".mts"];
/// What an import may leave out, in the order in which Node tries it.
const ENDINGS: [&str; 8] = ["", ".js", ".mjs", ".cjs", ".json", ".node", ".ts", ".mts"];
const INDEXES: [&str; 5] = ["/index.js", "/index.mjs", "/index.json", "/index.node", "/index.ts"];

/// One import: who, where, what.
struct Import {
    place: Place,
    name: String,
    /// Whether it happens whenever the app starts: not within a function or a condition.
    always: bool,
}

/// What can be reached from the start commands.
struct Reached {
    /// Imports of packages.
    packages: Vec<Import>,
    /// Imports of files that are not there.
    missing: Vec<Import>,
    /// Files.
    files: BTreeSet<String>,
}

/// The files of the app that its start commands lead to, where they can be followed; nothing where what is started
/// is not in the source.
pub(super) fn reached_files(subject: &Subject<'_>) -> Option<BTreeSet<String>> {
    // What a build makes is started in place of its sources.
    let files = reachable(subject).files;
    (!files.is_empty() && subject.survey.build.is_none()).then_some(files)
}

fn reachable(subject: &Subject<'_>) -> Reached {
    let (mut packages, mut missing) = (Vec::new(), Vec::new());
    if !subject.survey.chosen.iter().any(|name| name == "node") {
        return Reached { packages, missing, files: BTreeSet::new() };
    }
    let started = subject.survey.processes.iter().flat_map(|p| p.command.iter().map(|word| p.path_of(word)));
    let mut pending: Vec<String> = started.filter(|path| subject.tree.has(path)).collect();
    let mut seen: BTreeSet<String> = BTreeSet::new();
    // Files that only code within functions leads to come last: from there on, nothing is certain.
    let mut perhaps: Vec<String> = Vec::new();
    let mut certain = true;
    while let Some(file) = pending.pop().or_else(|| {
        certain = false;
        perhaps.pop()
    }) {
        if !seen.insert(file.clone()) || !CODE.iter().any(|end| file.ends_with(end)) {
            continue;
        }
        // A source that is not text imports nothing; one that cannot be read fails when it is packed.
        let Ok(Some(text)) = subject.tree.read_text(&file) else { continue };
        for mut import in imports(&file, &text) {
            import.always &= certain;
            if !import.name.starts_with('.') {
                packages.push(import);
                continue;
            }
            match local_file(subject.tree, &joined(&file, &import.name)) {
                Some(found) if import.always => pending.push(found),
                Some(found) => perhaps.push(found),
                None => missing.push(import),
            }
        }
    }
    Reached { packages, missing, files: seen }
}

/// The file that an import of `path` loads, as Node looks for it: the file itself, one with a usual ending, or what
/// the folder's package.json or index names.
fn local_file(tree: &SourceTree, path: &str) -> Option<String> {
    let file = |path: &str| {
        ENDINGS.iter().chain(&INDEXES).map(|end| format!("{path}{end}")).find(|candidate| tree.has(candidate))
    };
    let main = || {
        let manifest = format!("{path}/package.json");
        let text = tree.has(&manifest).then(|| tree.read_text(&manifest).ok().flatten()).flatten()?;
        let value: serde_json::Value = serde_json::from_str(&text).ok()?;
        file(&joined(&manifest, value.get("main")?.as_str()?))
    };
    file(path).or_else(main)
}

/// `require("x")`, `from "x"`, `import "x"` with a plain string, outside of comments.
fn imports(file: &str, text: &str) -> Vec<Import> {
    let mut found = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let code = line.trim_start();
        if code.starts_with("//") || code.starts_with('*') || code.starts_with("/*") {
            continue;
        }
        for sign in ["require(", "from ", "import "] {
            let Some((before, rest)) = code.split_once(sign) else { continue };
            let is_statement = sign == "require("
                || before.is_empty()
                || before.starts_with("import")
                || before.starts_with("export")
                || before.starts_with('}');
            let Some(quote) = rest.chars().next().filter(|q| matches!(q, '"' | '\'')) else { continue };
            let Some(name) = rest[1..].split(quote).next().filter(|_| is_statement) else { continue };
            // Code that catches the failure works without it.
            let optional = text.contains("try {")
                && sign == "require("
                && !before.starts_with("const")
                && !before.starts_with("var");
            if !optional {
                let place = Place::new(file, u32::try_from(number + 1).ok());
                let always = !line.starts_with([' ', '\t']) && !nested(before);
                found.push(Import { place, name: name.to_owned(), always });
            }
        }
    }
    found
}

/// Whether what follows `before` on its line is within a function or a condition.
fn nested(before: &str) -> bool {
    before.contains("=>") || before.contains("function") || before.starts_with("if")
}

/// A relative path from the folder of `file`.
fn joined(file: &str, relative: &str) -> String {
    let mut parts: Vec<&str> = file.split('/').collect();
    parts.pop();
    for part in relative.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            name => parts.push(name),
        }
    }
    parts.join("/")
}

pub(super) fn packages(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(node) = subject.survey.chosen_findings().find(|f| f.buildpack == "node") else {
        return Ok(Vec::new());
    };
    let imports = reachable(subject).packages;
    let mut told = BTreeSet::new();
    let mut found = Vec::new();
    for import in imports {
        let package = package_of(&import.name);
        if node.development.contains(&package)
            && !node.declared.contains(&package)
            && told.insert(package.clone())
        {
            let what = format!(
                "{package} is used at run time but is a development package, so it is not in the image"
            );
            let advice = format!("move {package} to dependencies and lock again");
            found.push(told_as(import.always, import.place, what, advice));
        }
    }
    Ok(found)
}

/// Modules of Node itself.
const OWN: &str = "assert async_hooks buffer child_process cluster console constants crypto dgram \
    diagnostics_channel dns domain events fs http http2 https inspector module net os path perf_hooks process \
    punycode querystring readline repl stream string_decoder sys timers tls trace_events tty url util v8 vm wasi \
    worker_threads zlib";

/// Packages that the code uses on its way from the start, and that nothing declares.
pub(super) fn undeclared(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = python_imports::undeclared(subject)?;
    let Some(node) = subject.survey.chosen_findings().find(|f| f.buildpack == "node") else {
        return Ok(found);
    };
    let installed = Installed::of(subject, node)?;
    let imports = reachable(subject).packages;
    let mut told = BTreeSet::new();
    for import in imports {
        let package = package_of(&import.name);
        let is_own = import.name.starts_with("node:") || OWN.split_whitespace().any(|own| own == package);
        let is_alias = import.name.starts_with(['#', '/', '~']) || import.name.starts_with("@/");
        let is_known = installed.names.contains(&package) || node.development.contains(&package);
        if is_own || is_alias || is_known || !told.insert(package.clone()) {
            continue;
        }
        let what = format!("{package} is imported but not declared");
        let advice = declare(subject, &package, "node");
        found.push(told_as(installed.all_names && import.always, import.place, what, advice));
    }
    Ok(found)
}

/// An error where it is certain, else a warning.
fn told_as(certain: bool, place: Place, what: String, advice: String) -> Found {
    if certain { error(place, what, advice) } else { warning(place, what, advice) }
}

/// The package of an import: `@scope/name` or `name`.
fn package_of(import: &str) -> String {
    let depth = if import.starts_with('@') { 2 } else { 1 };
    import.split('/').take(depth).collect::<Vec<_>>().join("/")
}

pub(super) fn files(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let builds = subject.survey.build.is_some();
    let missing = reachable(subject).missing;
    let tell = |import: Import| {
        let path = joined(&import.place.file, &import.name);
        let other = ENDINGS.iter().find_map(|end| other_case(subject, &format!("{path}{end}")));
        let on_disk =
            ENDINGS.iter().map(|e| format!("{path}{e}")).find(|p| subject.app.opened.root.join(p).is_file());
        match (other, on_disk) {
            (Some(other), _) => {
                let what = format!("{} is imported, but the file is {other}", import.name);
                Some(error(
                    import.place,
                    what,
                    "use the file's exact name: file names are case-sensitive in images",
                ))
            }
            (None, Some(path)) => {
                let what = format!("{} is imported, but a rule excludes it", import.name);
                Some(error(
                    import.place,
                    what,
                    format!("in shtetl.toml, under [source]: include = [{path:?}]"),
                ))
            }
            (None, None) if builds => None,
            (None, None) => {
                let what = format!("{} is imported, but is not in the source", import.name);
                Some(told_as(
                    import.always,
                    import.place,
                    what,
                    "add the file, or correct the name".to_owned(),
                ))
            }
        }
    };
    Ok(missing.into_iter().filter_map(tell).collect())
}
