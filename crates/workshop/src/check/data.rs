//! Rules of what processes write: the image itself is only read.

use crate::check::{Found, Subject, error, warning};
use model::{Place, ProcessKind, Result};
use source::is_for_tests;

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
    let mut found = Vec::new();
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
