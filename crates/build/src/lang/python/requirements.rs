//! `requirements.txt` with exact versions and hashes, as pip's hash-checking mode wants it.

use crate::error::{BuildError, Place, Result};
use pep440_rs::Version;
use remote::{Integrity, packages::pypi};
use std::str::FromStr;

/// A parsed file.
#[derive(Debug)]
pub(super) struct Requirements {
    /// In the order of their names.
    pub(super) packages: Vec<LockedPackage>,
    /// The index that the file names.
    pub(super) index: Option<String>,
}

/// One pinned package.
#[derive(Debug, Clone)]
pub(super) struct LockedPackage {
    /// Canonical name.
    pub(super) name: String,
    pub(super) version: Version,
    pub(super) integrity: Integrity,
}

const PIN_ADVICE: &str = "pin it with == and give its --hash=sha256:… ";

impl Requirements {
    pub(super) fn parse(file: &str, text: &str) -> Result<Self> {
        let mut found = Self { packages: Vec::new(), index: None };
        for (line, number) in logical_lines(text) {
            found.take(&line, &Place::new(file, u32::try_from(number).ok()))?;
        }
        found.packages.sort_by(|a, b| a.name.cmp(&b.name));
        let twice = found.packages.windows(2).find(|w| w[0].name == w[1].name);
        if let Some(pair) = twice {
            let detail = format!("{} is listed twice", pair[0].name);
            return Err(BuildError::Malformed { place: Place::new(file, None), detail });
        }
        Ok(found)
    }

    fn take(&mut self, line: &str, place: &Place) -> Result<()> {
        let unsupported =
            |what: String, instead| BuildError::Unsupported { place: place.clone(), what, instead };
        if let Some(option) = line.strip_prefix('-') {
            let (name, value) = option.split_once([' ', '=']).unwrap_or((option, ""));
            match name {
                "-require-hashes" | "-no-binary" | "-only-binary" | "-prefer-binary" => {}
                "i" | "-index-url" => self.index = Some(value.trim().to_owned()),
                _ => {
                    let word = line.split_whitespace().next().unwrap_or(line);
                    return Err(unsupported(format!("the option {word}"), "list the packages in this file"));
                }
            }
            return Ok(());
        }
        let words = line.split_whitespace();
        let requirement: String = words.clone().take_while(|w| !w.starts_with("--")).collect();
        if requirement.contains("://") || requirement.contains('@') {
            return Err(unsupported(format!("the direct reference {requirement}"), "use a released version"));
        }
        if requirement.contains(';') {
            return Err(unsupported(
                format!("the marker of {requirement}"),
                "lock for one platform, without markers",
            ));
        }
        let Some((name, version)) = requirement.split_once("==") else {
            return Err(unsupported(format!("{requirement} without an exact version"), PIN_ADVICE));
        };
        let name = name.split('[').next().unwrap_or(name);
        let version = Version::from_str(version)
            .map_err(|e| BuildError::Malformed { place: place.clone(), detail: e.to_string() })?;
        let hashes = words.filter_map(|w| w.strip_prefix("--hash="));
        let integrity = Integrity::any_of(hashes)
            .ok_or_else(|| unsupported(format!("{requirement} without a hash"), PIN_ADVICE))?;
        self.packages.push(LockedPackage { name: pypi::canonical_name(name), version, integrity });
        Ok(())
    }
}

/// The canonical names of the packages that a file lists, pinned or not.
pub(super) fn names(text: &str) -> Vec<String> {
    logical_lines(text).iter().filter_map(|(line, _)| name(line)).collect()
}

/// The canonical name that a requirement begins with.
pub(super) fn name(requirement: &str) -> Option<String> {
    let end = requirement.find(|c: char| !(c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.')));
    let name = &requirement[..end.unwrap_or(requirement.len())];
    name.starts_with(|c: char| c.is_ascii_alphanumeric()).then(|| pypi::canonical_name(name))
}

/// Lines without comments, those that end in a backslash joined, each with its first number (from 1).
fn logical_lines(text: &str) -> Vec<(String, usize)> {
    let mut lines = Vec::new();
    let mut open: Option<(String, usize)> = None;
    for (index, line) in text.lines().enumerate() {
        let comment = if line.starts_with('#') { Some(0) } else { line.find(" #") };
        let line = comment.map_or(line, |at| &line[..at]).trim();
        let (part, goes_on) = match line.strip_suffix('\\') {
            Some(part) => (part, true),
            None => (line, false),
        };
        let (whole, _) = open.get_or_insert_with(|| (String::new(), index + 1));
        whole.push_str(part);
        whole.push(' ');
        if !goes_on {
            lines.extend(open.take());
        }
    }
    lines.extend(open);
    lines.into_iter().map(|(l, n)| (l.trim().to_owned(), n)).filter(|(l, _)| !l.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pinned_and_hashed_lines_are_read() {
        let text = "# made by hand\n--require-hashes\nFog_Horn[loud]==1.0 \\\n    --hash=sha256:00 \\\n    --hash=sha256:01\n\nquay==2.1.0 --hash=sha256:02  # server\n";
        let found = Requirements::parse("requirements.txt", text).unwrap();
        let packages: Vec<_> = found
            .packages
            .iter()
            .map(|p| format!("{} {} {}", p.name, p.version, p.integrity.canonical()))
            .collect();
        assert_eq!(packages, ["fog-horn 1.0 sha256:00 sha256:01", "quay 2.1.0 sha256:02"]);
    }

    #[test]
    fn what_is_not_handled_is_refused_at_its_line() {
        for (line, what) in [
            ("fog>=1", "without an exact version"),
            ("fog==1", "without a hash"),
            ("fog==1; python_version<'3' --hash=sha256:00", "marker"),
            ("fog @ https://mirror.example/fog.whl", "direct reference"),
            ("-r other.txt", "option -r"),
            ("-e .", "option -e"),
        ] {
            match Requirements::parse("requirements.txt", &format!("\n{line}\n")) {
                Err(BuildError::Unsupported { what: found, place, .. }) => {
                    assert!(found.contains(what), "{found}");
                    assert_eq!(place.line, Some(2));
                }
                other => panic!("{line} was not refused: {other:?}"),
            }
        }
    }
}
