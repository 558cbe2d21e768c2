//! What a process says when it could not write: its folders are read-only unless they are declared.

/// How runtimes and databases report a write to what is read-only.
const SIGNS: [&str; 6] = [
    "EROFS",
    "Read-only file system",
    "read-only file system",
    "readonly database",
    "read-only database",
    "unable to open database file",
];
/// The folder of the app in the image.
const APP: &str = "/app/";

/// What could not be written to.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Unwritable {
    /// A folder, from that of the app.
    Folder(String),
    /// A path outside of the app.
    Outside(String),
    /// Something that the line does not name.
    Unnamed,
}

/// What a line of a process's output says that it could not write to, if it says so.
pub fn in_line(line: &str) -> Option<Unwritable> {
    SIGNS.iter().find(|sign| line.contains(**sign))?;
    let path = match line.split_once(APP) {
        Some((_, path)) => path.split(is_end).next().unwrap_or_default(),
        None => match line.rsplit(['\'', '"']).nth(1).filter(|quoted| is_path(quoted)) {
            Some(path) if path.starts_with('/') => return Some(Unwritable::Outside(path.to_owned())),
            // Processes start in the folder of the app.
            Some(path) => path.trim_start_matches("./"),
            None => return Some(Unwritable::Unnamed),
        },
    };
    let path = path.trim_end_matches(['/', '.']);
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    Some(Unwritable::Folder(match (folder, name.contains('.')) {
        // The last part looks like a file.
        ("", true) => ".".to_owned(),
        (folder, true) => folder.to_owned(),
        (_, false) if path.is_empty() => ".".to_owned(),
        (_, false) => path.to_owned(),
    }))
}

fn is_end(c: char) -> bool {
    c.is_whitespace() || matches!(c, '\'' | '"' | '`' | ')' | '(' | ':' | ',' | ';' | '>')
}

fn is_path(text: &str) -> bool {
    !text.is_empty() && !text.contains(is_end)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn failed_writes_are_recognised_as_runtimes_report_them() {
        let folder = |name: &str| Some(Unwritable::Folder(name.to_owned()));
        let cases = [
            ("OSError: [Errno 30] Read-only file system: '/app/instance'", folder("instance")),
            ("Error: EROFS: read-only file system, open '/app/data/tides.json'", folder("data")),
            ("EROFS: read-only file system, mkdir 'data'", folder("data")),
            (
                "[Errno 30] Read-only file system: '/var/lib/radio'",
                Some(Unwritable::Outside("/var/lib/radio".to_owned())),
            ),
            ("mkdir /app/var/log: read-only file system", folder("var/log")),
            ("file_put_contents(/app/cache.php): Failed to open stream: Read-only file system", folder(".")),
            ("sqlite3.OperationalError: attempt to write a readonly database", Some(Unwritable::Unnamed)),
            ("sqlite3.OperationalError: unable to open database file", Some(Unwritable::Unnamed)),
            ("GET /app/data 404", None),
        ];
        for (line, expected) in cases {
            assert_eq!(in_line(line), expected, "{line}");
        }
    }
}
