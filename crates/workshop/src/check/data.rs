//! Rules of what processes write: the image itself is only read.

use crate::check::{Found, Subject, error, warning};
use model::{Place, ProcessKind, Result};
use source::is_for_tests;
use std::path::Path;

/// Where code is known to write.
struct Sign {
    /// What the line has.
    text: &'static str,
    /// What it has besides, when it fails at once without a folder that can be written to.
    makes: Option<&'static str>,
    /// The folder, from that of the app.
    folder: &'static str,
    /// What it is.
    what: &'static str,
}

const SIGNS: [Sign; 5] = [
    Sign {
        text: "instance_path",
        makes: Some("makedirs("),
        folder: "instance",
        what: "the code creates the folder instance",
    },
    Sign {
        text: "django.db.backends.sqlite3",
        makes: None,
        folder: ".",
        what: "the database is a file next to the code",
    },
    Sign {
        text: "import chainlit",
        makes: Some("import chainlit"),
        folder: ".",
        what: "chainlit keeps files next to the code",
    },
    // Settings in the form of PasteDeploy.
    Sign {
        text: "sqlite:///%(here)s/",
        makes: None,
        folder: ".",
        what: "the database is a file next to the settings",
    },
    Sign {
        text: "file://%(here)s/",
        makes: Some("zodbconn.uri"),
        folder: ".",
        what: "the app creates its database next to the settings",
    },
];
/// Endings of files that are looked at.
const ENDINGS: [&str; 2] = [".py", ".ini"];

/// Folders that the code writes to, and no process may.
pub(super) fn unwritable(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let processes = &subject.survey.processes;
    let web = processes.iter().find(|process| process.name == "web").or(processes.first());
    let Some(web) = web else { return Ok(Vec::new()) };
    let table = if web.kind == ProcessKind::Task { "task" } else { "process" };
    let is_python = subject.survey.chosen.iter().any(|name| name == "python");
    let mut found: Vec<Found> = rails_database(subject)?.into_iter().collect();
    for path in subject
        .tree
        .files()
        .keys()
        .filter(|path| is_python && ENDINGS.iter().any(|end| path.ends_with(end)) && !is_for_tests(path))
    {
        let is_named =
            || processes.iter().any(|process| process.command.iter().any(|word| word.contains(path)));
        // Of several files with settings, only those count that a process is given.
        if path.ends_with(".ini") && !is_named() {
            continue;
        }
        // A source that is not text writes nothing.
        let Some(text) = subject.tree.read_text(path)? else { continue };
        for sign in SIGNS.iter().filter(|sign| text.contains(sign.text)) {
            let is_declared = subject
                .survey
                .processes
                .iter()
                .flat_map(|p| &p.writable)
                .any(|f| f == sign.folder || f == ".");
            let lines: Vec<&str> = text.lines().collect();
            let makes = |line: &&str| sign.makes.is_none_or(|makes| line.contains(makes));
            let Some(at) = lines.iter().position(|line| line.contains(sign.text) && makes(line)) else {
                continue;
            };
            if is_declared {
                continue;
            }
            let is_caught = at > 0 && lines[at - 1].trim() == "try:";
            let place = Place::new(path.as_str(), u32::try_from(at + 1).ok());
            let what = format!("{}, but the image is read-only for {}", sign.what, web.name);
            let advice =
                format!("in shtetl.toml, under [{table}.{}]: writable = [{:?}]", web.name, sign.folder);
            found.push(match sign.makes.is_some() && !is_caught {
                true => error(place, what, advice),
                false => warning(place, what, advice),
            });
        }
    }
    Ok(found)
}

/// Where an app on Rails says what database it has.
const RAILS_DATABASE: &str = "config/database.yml";

/// A database of Rails that is a file, in a folder that not all processes may write to.
fn rails_database(subject: &Subject<'_>) -> Result<Option<Found>> {
    let mut findings = subject.survey.chosen_findings();
    let has_gem = findings
        .any(|finding| [&finding.locked, &finding.declared].iter().any(|all| all.contains("sqlite3")));
    let Some(text) = subject.tree.read_text(RAILS_DATABASE)?.filter(|_| has_gem) else { return Ok(None) };
    let Some((file, line)) = production_file(&text) else { return Ok(None) };
    let folder = file.rsplit_once('/').map_or(".", |(folder, _)| folder);
    let may_write = |writable: &[String]| {
        writable.iter().any(|own| own == "." || Path::new(folder).starts_with(own.trim_end_matches('/')))
    };
    let tables = subject.survey.processes.iter().filter(|process| !may_write(&process.writable));
    let tables: Vec<String> = tables
        .map(|process| match process.kind {
            ProcessKind::Task => format!("[task.{}]", process.name),
            ProcessKind::Process => format!("[process.{}]", process.name),
        })
        .collect();
    if tables.is_empty() {
        return Ok(None);
    }
    Ok(Some(warning(
        Place::new(RAILS_DATABASE, Some(line)),
        format!("the database is the file {file}, but the image is read-only"),
        format!("in shtetl.toml, under {}: writable = [{folder:?}]", tables.join(" and ")),
    )))
}

/// The file that is the database in production, relative to the app, and its line; nothing where it is another kind, or
/// where code decides.
fn production_file(text: &str) -> Option<(&str, u32)> {
    let mut section = "";
    let mut found = None;
    let mut is_file = false;
    for (number, line) in (1..).zip(text.lines()) {
        let content = line.split(" #").next().unwrap_or_default();
        if content.starts_with(|c: char| c.is_alphabetic()) {
            section = content.split(':').next().unwrap_or_default();
        }
        let Some((key, value)) = content.trim().split_once(':') else { continue };
        let value = value.trim().trim_matches(['"', '\'']);
        match (key, section) {
            // What all have in common is often written once.
            ("adapter", "default" | "production") => is_file = value == "sqlite3",
            ("database", "production") => found = found.or(Some((value, number))),
            _ => {}
        }
    }
    let is_plain = |path: &str| !path.is_empty() && !path.starts_with('/') && !path.contains(['<', ':']);
    found.filter(|(path, _)| is_file && is_plain(path))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_database_of_rails_is_found_where_it_is_a_file() {
        let of = production_file;
        assert_eq!(
            of("production:\n  adapter: sqlite3\n  database: db/quay.sqlite3\n"),
            Some(("db/quay.sqlite3", 3))
        );
        let shared = "default: &default\n  adapter: sqlite3\ntest:\n  database: db/t\nproduction:\n  <<: *default\n  \
                      primary:\n    database: \"storage/quay.sqlite3\" # kept\n  queue:\n    database: storage/q\n";
        assert_eq!(of(shared), Some(("storage/quay.sqlite3", 8)));
        let own =
            "default: &default\n  adapter: sqlite3\nproduction:\n  adapter: postgresql\n  database: quay\n";
        assert_eq!(of(own), None, "the section's own adapter counts");
        assert_eq!(of("production:\n  adapter: sqlite3\n  database: <%= ENV['FILE'] %>\n"), None);
        assert_eq!(of("production:\n  adapter: sqlite3\n  database: ':memory:'\n"), None);
        assert_eq!(of("development:\n  adapter: sqlite3\n  database: db/d\n"), None);
    }
}
