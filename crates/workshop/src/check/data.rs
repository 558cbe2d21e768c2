//! Rules of what processes write: the image itself is only read.

use crate::check::{Found, Subject, error, warning};
use model::{Place, Result};
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

const SIGNS: [Sign; 2] = [
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
];

/// Folders that the code writes to, and no process may.
pub(super) fn unwritable(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(web) = subject.survey.processes.first() else { return Ok(Vec::new()) };
    let is_python = subject.survey.chosen.iter().any(|name| name == "python");
    let mut found = Vec::new();
    for path in
        subject.tree.files().keys().filter(|path| is_python && path.ends_with(".py") && !is_for_tests(path))
    {
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
                format!("in shtetl.toml, under [process.{}]: writable = [{:?}]", web.name, sign.folder);
            found.push(match sign.makes.is_some() && !is_caught {
                true => error(place, what, advice),
                false => warning(place, what, advice),
            });
        }
    }
    Ok(found)
}
