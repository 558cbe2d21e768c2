//! Environment variables that the code reads, found by the patterns of each language.

use super::env_var_tables::{PATTERNS, Pattern, SCRIPT, USUAL, looks_secret};
use super::settings_classes;
use content::store::Store;
use model::{Place, Result};
use serde::{Deserialize, Serialize};
use source::{SourceTree, TreeKind};
use std::collections::BTreeMap;

/// A variable that the code reads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ReadSetting {
    /// Where it is read first.
    pub place: Place,
    /// Where else; the first places only, when there are many.
    pub also: Vec<Place>,
    /// Whether every place that reads it says what holds without it.
    pub has_default: bool,
    /// Whether a place only asks whether it is set: the app does without.
    pub is_asked_for: bool,
    /// Whether a place that reads it fails at once without it.
    pub fails_without: bool,
    /// Whether its name looks like that of a secret.
    pub looks_secret: bool,
}

impl ReadSetting {
    /// A secret that a framework reads, as a place in the source tells.
    pub(super) fn secret(place: Place) -> Self {
        Self {
            place,
            also: Vec::new(),
            has_default: false,
            is_asked_for: false,
            fails_without: false,
            looks_secret: true,
        }
    }

    /// Whether the app does without it.
    pub fn is_optional(&self) -> bool {
        self.has_default || self.is_asked_for && !self.fails_without
    }
}

/// Larger files are no sources that people write, in bytes.
const LARGEST: u64 = 1 << 20;
/// At most this much is read of a source, in bytes.
const MOST: u64 = 128 << 20;

/// Of each variable, this many further places are noted.
const MOST_PLACES: usize = 50;

/// Version of the patterns; what was found with others is not taken from memory.
const VERSION: u32 = 5;

/// The variables that code reads, from the store if no file has changed since it was looked at. `now` is
/// in nanoseconds since 1970.
pub fn find_or_remember(tree: &SourceTree, store: &Store, now: i64) -> Result<BTreeMap<String, ReadSetting>> {
    let memory = tree.appearance(now).map(|a| store.tree_path(&format!("reads-{VERSION}-{}.json", a.hex())));
    if let Some(known) = memory.as_ref().and_then(|memory| store.read_document(memory).whole()) {
        return Ok(known);
    }
    let found = find(tree)?;
    if let Some(memory) = memory {
        store.write_cache(&memory, &found)?;
    }
    Ok(found)
}

/// Finds the variables that the code of a source reads.
fn find(tree: &SourceTree) -> Result<BTreeMap<String, ReadSetting>> {
    let mut found = BTreeMap::new();
    let mut room = MOST;
    for (path, file) in tree.files() {
        let TreeKind::File { size, .. } = file.kind else { continue };
        let patterns: Vec<_> =
            PATTERNS.iter().filter(|p| p.endings.iter().any(|e| path.ends_with(e))).collect();
        let is_own = !source::is_for_tests(path) && !is_of_others(path) && !is_for_development(path);
        if patterns.is_empty() || size > LARGEST || size > room || !is_own {
            continue;
        }
        room -= size;
        // A file that is not text reads nothing.
        let Some(text) = tree.read_text(path)? else { continue };
        for pattern in patterns {
            scan(path, &text, pattern, &mut found);
        }
        if SCRIPT.iter().any(|ending| path.ends_with(ending)) {
            scan_destructured(path, &text, &mut found);
        }
        if path.ends_with(".py") {
            for (name, line, has_default) in settings_classes::fields(&text) {
                let place = Place::new(path, u32::try_from(line).ok());
                note(&mut found, &name, place, Read { has_default, fails: !has_default, ..Read::default() });
            }
        }
    }
    Ok(found)
}

/// Whether a file is of a package that lies with the source, or was made by a program.
fn is_of_others(path: &str) -> bool {
    const FOLDERS: [&str; 9] = [
        "vendor",
        "node_modules",
        "third_party",
        "site-packages",
        "dist",
        "build",
        ".next",
        "bower_components",
        "extern",
    ];
    path.split('/').any(|part| FOLDERS.contains(&part)) || path.ends_with(".min.js")
}

/// Whether a file serves those who develop or build the app, and is not read while it runs.
fn is_for_development(path: &str) -> bool {
    const FOLDERS: [&str; 12] = [
        "examples",
        "example",
        "docs",
        "doc",
        "benchmark",
        "benchmarks",
        "tools",
        "contrib",
        "e2e",
        "cypress",
        ".storybook",
        ".github",
    ];
    const NAMES: [&str; 8] = [
        "setup.py",
        "noxfile.py",
        "fabfile.py",
        "conftest.py",
        "Gruntfile.js",
        "gulpfile.js",
        "Guardfile",
        "Rakefile",
    ];
    let (folders, name) = path.rsplit_once('/').unwrap_or(("", path));
    // Next to it stands what it configures: a bundler, a linter, a test runner.
    let is_config = SCRIPT.iter().any(|ending| name.ends_with(&format!(".config{ending}")));
    folders.split('/').any(|part| FOLDERS.contains(&part))
        || NAMES.contains(&name)
        || is_config
        || name.ends_with(".rake")
}

fn scan(path: &str, text: &str, pattern: &Pattern, found: &mut BTreeMap<String, ReadSetting>) {
    for (at, _) in text.match_indices(pattern.before) {
        let line_start = text[..at].rfind('\n').map_or(0, |n| n + 1);
        let line_end = text[at..].find('\n').map_or(text.len(), |n| at + n);
        if is_comment(text[line_start..at].trim_start()) {
            continue;
        }
        let rest = &text[at + pattern.before.len()..line_end];
        let Some((name, after)) = name_of(rest, pattern.quoted) else { continue };
        if USUAL.contains(&name) || name.starts_with("HTTP_") {
            continue;
        }
        let after = after.trim_start_matches([')', ']', ' ']).trim_start();
        let direct = after.starts_with('=') && !after.starts_with("==");
        if direct {
            // It is set there, not read.
            continue;
        }
        let has_default = pattern.default.iter().any(|d| after.starts_with(d));
        let line = text[..at].matches('\n').count() + 1;
        let place = Place::new(path, u32::try_from(line).ok());
        let is_asked_for = is_question(&text[line_start..at], after);
        note(found, name, place, Read { has_default, is_asked_for, fails: pattern.strict && !has_default });
    }
}

/// Names taken out of the environment at once: `const { HARBOUR_URL, FOG = "x" } = process.env`.
fn scan_destructured(path: &str, text: &str, found: &mut BTreeMap<String, ReadSetting>) {
    for (number, line) in text.lines().enumerate() {
        let code = line.trim_start();
        let Some((before, _)) = code.split_once("} = process.env").filter(|_| !is_comment(code)) else {
            continue;
        };
        let Some((_, names)) = before.rsplit_once('{') else { continue };
        for part in names.split(',') {
            let (name, default) =
                part.split_once('=').map_or((part, None), |(name, value)| (name, Some(value)));
            let name = name.split(':').next().unwrap_or(name).trim();
            let is_variable = name.len() > 1
                && name.chars().all(|c| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_');
            if is_variable && !USUAL.contains(&name) {
                let place = Place::new(path, u32::try_from(number + 1).ok());
                note(found, name, place, Read { has_default: default.is_some(), ..Read::default() });
            }
        }
    }
}

/// Whether code around a read only asks whether the variable is set, or compares it.
fn is_question(before: &str, after: &str) -> bool {
    const WORDS: [&str; 6] = ["if", "elif", "elsif", "unless", "while", "assert"];
    const COMPARED: [&str; 6] = ["==", "!=", "is ", "in ", "&&", "and "];
    const BEFORE: [&str; 5] = ["!", "==", "&&", "isset(", "empty("];
    let is_condition =
        before.split(|c: char| !c.is_alphanumeric() && c != '_').any(|word| WORDS.contains(&word));
    let before = before.trim_end();
    let is_chosen = after.starts_with('?') && !after.starts_with("??") && !after.starts_with("?.");
    is_condition
        || is_chosen
        || COMPARED.iter().any(|sign| after.starts_with(sign))
        || BEFORE.iter().any(|sign| before.ends_with(sign))
}

/// How a place reads a variable.
#[derive(Default)]
struct Read {
    has_default: bool,
    is_asked_for: bool,
    fails: bool,
}

fn note(found: &mut BTreeMap<String, ReadSetting>, name: &str, place: Place, read: Read) {
    let Read { has_default, is_asked_for, fails } = read;
    match found.get_mut(name) {
        Some(known) => {
            if known.also.len() < MOST_PLACES {
                known.also.push(place);
            }
            known.has_default &= has_default;
            known.is_asked_for |= is_asked_for;
            known.fails_without |= fails;
        }
        None => {
            let setting = ReadSetting {
                place,
                also: Vec::new(),
                has_default,
                is_asked_for,
                fails_without: fails,
                looks_secret: looks_secret(name),
            };
            found.insert(name.to_owned(), setting);
        }
    }
}

fn is_comment(before: &str) -> bool {
    ["//", "#", "*", "/*", "--"].iter().any(|sign| before.starts_with(sign))
}

/// The variable's name, and what follows it on its line.
fn name_of(rest: &str, quoted: bool) -> Option<(&str, &str)> {
    let (rest, quote) = match (quoted, rest.trim_start().chars().next()?) {
        (false, _) => (rest, None),
        (true, sign @ ('"' | '\'' | '`')) => (&rest.trim_start()[1..], Some(sign)),
        (true, _) => return None,
    };
    let end = rest.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_')).unwrap_or(rest.len());
    let (name, mut after) = rest.split_at(end);
    let shaped = name.starts_with(|c: char| c.is_ascii_uppercase() || c == '_') && name.len() > 1;
    if let Some(quote) = quote {
        after = after.strip_prefix(quote)?;
    }
    (shaped && name.chars().any(|c| c.is_ascii_uppercase()) && !name.chars().any(|c| c.is_ascii_lowercase()))
        .then_some((name, after))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(file: &str, text: &str) -> Vec<(String, bool, bool)> {
        let mut found = BTreeMap::new();
        for pattern in PATTERNS.iter().filter(|p| p.endings.iter().any(|e| file.ends_with(e))) {
            scan(file, text, pattern, &mut found);
        }
        found.into_iter().map(|(n, r)| (n, r.has_default, r.fails_without)).collect()
    }

    #[test]
    fn names_taken_out_of_the_environment_at_once_are_read() {
        let mut found = BTreeMap::new();
        let text =
            "const { HARBOUR_URL, FOG = 'thick', PORT, TIDE: tide } = process.env;\nconst { a } = other;\n";
        scan_destructured("a.js", text, &mut found);
        let found: Vec<_> = found.into_iter().map(|(name, read)| (name, read.has_default)).collect();
        let expected = [("FOG", true), ("HARBOUR_URL", false), ("TIDE", false)];
        assert_eq!(found, expected.map(|(name, has_default)| (name.to_owned(), has_default)));
    }

    #[test]
    fn what_the_code_asks_for_may_be_missing() {
        let optional = |file: &str, text: &str| {
            let mut found = BTreeMap::new();
            for pattern in PATTERNS.iter().filter(|p| p.endings.iter().any(|e| file.ends_with(e))) {
                scan(file, text, pattern, &mut found);
            }
            found["HARBOUR_URL"].is_optional()
        };
        for (file, text) in [
            ("a.js", "if (process.env.HARBOUR_URL) {\n  go(process.env.HARBOUR_URL) }"),
            ("a.js", "const u = process.env.HARBOUR_URL ? 1 : 2"),
            ("a.js", "const u = !process.env.HARBOUR_URL"),
            ("a.js", "const live = process.env.HARBOUR_URL === 'x'"),
            ("a.py", "if os.environ.get('HARBOUR_URL') is not None:"),
            ("a.php", "if ( false !== getenv( 'HARBOUR_URL' ) ) {"),
        ] {
            assert!(optional(file, text), "{text}");
        }
        for (file, text) in [
            ("a.js", "connect(process.env.HARBOUR_URL)"),
            ("a.js", "const u = process.env.HARBOUR_URL?.trim()"),
            ("a.py", "if ready:\n    url = os.environ['HARBOUR_URL']"),
        ] {
            assert!(!optional(file, text), "{text}");
        }
    }

    #[test]
    fn each_language_is_read_by_its_own_patterns() {
        for (file, text, expected) in [
            ("a.js", "const u = process.env.HARBOUR_URL;", Some(("HARBOUR_URL", false, false))),
            ("a.ts", "process.env['HARBOUR_URL'] ?? 'x'", Some(("HARBOUR_URL", true, false))),
            ("a.js", "process.env.HARBOUR_URL = 'x'", None),
            ("a.js", "// process.env.HARBOUR_URL", None),
            ("a.js", "process.env.PORT", None),
            ("a.py", "os.environ[\"HARBOUR_URL\"]", Some(("HARBOUR_URL", false, true))),
            ("a.py", "os.environ.get('HARBOUR_URL', 'x')", Some(("HARBOUR_URL", true, false))),
            ("a.py", "os.getenv('HARBOUR_URL')", Some(("HARBOUR_URL", false, false))),
            ("a.rb", "ENV.fetch('HARBOUR_URL') { 'x' }", Some(("HARBOUR_URL", true, false))),
            ("a.rb", "ENV.fetch(\"HARBOUR_URL\")", Some(("HARBOUR_URL", false, true))),
            ("a.php", "$u = getenv('HARBOUR_URL') ?: 'x';", Some(("HARBOUR_URL", true, false))),
            ("A.java", "System.getenv(\"HARBOUR_URL\")", Some(("HARBOUR_URL", false, false))),
            ("a.go", "os.Getenv(\"HARBOUR_URL\")", Some(("HARBOUR_URL", false, false))),
            (
                "src/main/resources/application.yml",
                "url: ${HARBOUR_URL:x}",
                Some(("HARBOUR_URL", true, false)),
            ),
            ("a.py", "os.environ[name]", None),
        ] {
            let expected: Vec<_> = expected.into_iter().map(|(n, d, f)| (n.to_owned(), d, f)).collect();
            assert_eq!(read(file, text), expected, "{file}: {text}");
        }
    }
}
