//! `Gemfile.lock`: which versions of which gems, and where they come from.

use crate::LOCKFILE;
use crate::version::GemVersion;
use model::error::SurveyError;
use model::{Error, Place, Result};
use std::collections::{BTreeMap, BTreeSet};

/// What a lockfile says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Lock {
    /// The sources, with the gems of each.
    pub(super) sources: Vec<Source>,
    /// The platforms that it was made for.
    pub(super) platforms: Vec<String>,
    /// What the Gemfile asks for by name, as it is written.
    pub(super) asked: BTreeMap<String, String>,
    /// SHA-256 in hexadecimal digits of the files of gems, by their names without the ending.
    pub(super) checksums: BTreeMap<String, String>,
    /// The Ruby that it was made with.
    pub(super) ruby: Option<(String, u32)>,
}

/// Where gems come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Source {
    pub(super) kind: SourceKind,
    /// Addresses; for a folder, its path.
    pub(super) remotes: Vec<String>,
    /// The commit, of a repository.
    pub(super) revision: String,
    pub(super) specs: Vec<Spec>,
}

/// The kind of a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum SourceKind {
    /// A registry.
    Registry,
    /// A repository.
    Git,
    /// A folder of the app.
    Folder,
}

/// A gem in a version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Spec {
    pub(super) name: String,
    pub(super) version: GemVersion,
    /// What it was compiled for; nothing for one that is for every platform, or has to be compiled.
    pub(super) platform: Option<String>,
    /// What it needs: names with requirements.
    pub(super) needs: BTreeMap<String, String>,
    pub(super) line: u32,
}

impl Spec {
    /// Its name with version and platform, as files and folders are called.
    pub(super) fn full_name(&self) -> String {
        match &self.platform {
            Some(platform) => format!("{}-{}-{platform}", self.name, self.version),
            None => format!("{}-{}", self.name, self.version),
        }
    }

    /// Name and version, for people.
    pub(super) fn label(&self) -> String {
        format!("{} {}", self.name, self.version)
    }
}

impl Lock {
    /// Reads the text of a lockfile.
    pub(super) fn parse(text: &str) -> Result<Self> {
        let mut reader = Reader::default();
        for (number, line) in text.lines().enumerate() {
            let number = u32::try_from(number + 1).unwrap_or(u32::MAX);
            reader.line(line.trim_end(), number).map_err(|detail| {
                let place = Place::new(LOCKFILE, Some(number));
                Error::Survey(SurveyError::Malformed { place, detail })
            })?;
        }
        Ok(reader.lock)
    }

    /// All gems, in the order of their names.
    pub(super) fn specs(&self) -> impl Iterator<Item = (&Source, &Spec)> {
        self.sources.iter().flat_map(|source| source.specs.iter().map(move |spec| (source, spec)))
    }

    /// The names of gems that these need, and they themselves.
    pub(super) fn reached(&self, from: impl Iterator<Item = String>) -> BTreeSet<String> {
        let mut by_name: BTreeMap<&str, Vec<&Spec>> = BTreeMap::new();
        for (_, spec) in self.specs() {
            by_name.entry(&spec.name).or_default().push(spec);
        }
        let mut reached = BTreeSet::new();
        let mut waiting: Vec<String> = from.collect();
        while let Some(name) = waiting.pop() {
            let Some(specs) = by_name.get(name.as_str()) else { continue };
            if reached.insert(name) {
                waiting.extend(specs.iter().flat_map(|spec| spec.needs.keys().cloned()));
            }
        }
        reached
    }
}

/// Reads line by line.
#[derive(Default)]
struct Reader {
    lock: Lock,
    section: String,
}

impl Reader {
    fn line(&mut self, line: &str, number: u32) -> Result<(), String> {
        if ["<<<<<<<", "=======", ">>>>>>>"].iter().any(|mark| line.starts_with(mark)) {
            return Err("a merge was not finished: this line is between two versions of the file".to_owned());
        }
        if line.is_empty() {
            return Ok(());
        }
        if !line.starts_with(' ') {
            line.clone_into(&mut self.section);
            let kind = match line {
                "GEM" => SourceKind::Registry,
                "GIT" => SourceKind::Git,
                "PATH" => SourceKind::Folder,
                "PLUGIN SOURCE" => {
                    return Err("plugin sources are not supported: a build runs no plugins".to_owned());
                }
                _ => return Ok(()),
            };
            let source = Source { kind, remotes: Vec::new(), revision: String::new(), specs: Vec::new() };
            self.lock.sources.push(source);
            return Ok(());
        }
        match self.section.as_str() {
            "GEM" | "GIT" | "PATH" => self.source_line(line, number),
            "PLATFORMS" => {
                self.lock.platforms.push(line.trim().to_owned());
                Ok(())
            }
            "DEPENDENCIES" => {
                let (name, requirement) = named(line.trim());
                self.lock.asked.insert(name.trim_end_matches('!').to_owned(), requirement.to_owned());
                Ok(())
            }
            "CHECKSUMS" => self.checksum(line.trim()),
            "RUBY VERSION" => {
                let version = line.trim().strip_prefix("ruby ").unwrap_or_default();
                // `3.3.5p100`: the patch level says nothing more.
                let plain = version.split('p').next().unwrap_or(version).trim();
                self.lock.ruby = Some((plain.to_owned(), number)).filter(|_| !plain.is_empty());
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn source_line(&mut self, line: &str, number: u32) -> Result<(), String> {
        let Some(source) = self.lock.sources.last_mut() else { return Ok(()) };
        let text = line.trim_start();
        match line.len() - text.len() {
            0..=3 => {
                let (key, value) = text.split_once(':').unwrap_or((text, ""));
                match key {
                    "remote" => source.remotes.push(value.trim().to_owned()),
                    "revision" => value.trim().clone_into(&mut source.revision),
                    _ => {}
                }
            }
            4 | 5 => source.specs.push(spec(text, number)?),
            _ => {
                let (name, requirement) = named(text);
                let spec = source.specs.last_mut().ok_or("this dependency belongs to no gem")?;
                spec.needs.insert(name.to_owned(), requirement.to_owned());
            }
        }
        Ok(())
    }

    /// `rack (3.1.8) sha256=…`
    fn checksum(&mut self, line: &str) -> Result<(), String> {
        let (gem, hashes) = line.split_once(')').ok_or("this line lacks a version")?;
        let spec = spec(&format!("{gem})"), 0)?;
        let sha256 = hashes.split([' ', ',']).find_map(|hash| hash.strip_prefix("sha256="));
        if let Some(sha256) = sha256 {
            self.lock.checksums.insert(spec.full_name(), sha256.to_ascii_lowercase());
        }
        Ok(())
    }
}

/// `rack (~> 3.0)`: the name, and what is in the brackets.
fn named(text: &str) -> (&str, &str) {
    match text.split_once(" (") {
        Some((name, rest)) => (name, rest.trim_end_matches([')', '!'])),
        None => (text, ""),
    }
}

/// `nokogiri (1.18.3-x86_64-linux-gnu)`
fn spec(text: &str, line: u32) -> Result<Spec, String> {
    let (name, version) = named(text);
    let (version, platform) = match version.split_once('-') {
        Some((version, platform)) => (version, Some(platform.to_owned())),
        None => (version, None),
    };
    let is_word = |text: &str| {
        text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'))
            && !text.starts_with('.')
    };
    let fits = !name.is_empty() && is_word(name) && platform.as_deref().is_none_or(is_word);
    let version = GemVersion::parse(version).filter(|_| fits);
    let version = version.ok_or_else(|| format!("{text:?} is not a gem with a version"))?;
    Ok(Spec { name: name.to_owned(), version, platform, needs: BTreeMap::new(), line })
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "GIT
  remote: https://forge.example/ferry/horn.git
  revision: 0123456789abcdef0123456789abcdef01234567
  branch: main
  specs:
    horn (1.0)
      rack (>= 2)

PATH
  remote: parts/tide
  specs:
    tide (0.1.0)

GEM
  remote: https://gems.example/
  specs:
    fog (1.18.3)
      mist (~> 2.8.2, < 3)
    fog (1.18.3-x86_64-linux-gnu)
    mist (2.8.8)
    rack (3.1.8)

PLATFORMS
  ruby
  x86_64-linux

DEPENDENCIES
  fog
  horn!
  rack (~> 3.0)

CHECKSUMS
  fog (1.18.3-x86_64-linux-gnu) sha256=ABCD
  rack (3.1.8)

RUBY VERSION
   ruby 3.3.5p100

BUNDLED WITH
   2.5.22
";

    #[test]
    fn every_section_is_read() {
        let lock = Lock::parse(TEXT).unwrap();
        let kinds: Vec<_> =
            lock.sources.iter().map(|source| (source.kind, source.remotes[0].as_str())).collect();
        assert_eq!(
            kinds,
            [
                (SourceKind::Git, "https://forge.example/ferry/horn.git"),
                (SourceKind::Folder, "parts/tide"),
                (SourceKind::Registry, "https://gems.example/"),
            ]
        );
        assert!(lock.sources[0].revision.starts_with("0123"));
        let names: Vec<String> = lock.specs().map(|(_, spec)| spec.full_name()).collect();
        assert_eq!(
            names.join(" "),
            "horn-1.0 tide-0.1.0 fog-1.18.3 fog-1.18.3-x86_64-linux-gnu mist-2.8.8 rack-3.1.8"
        );
        assert_eq!(lock.sources[2].specs[0].needs["mist"], "~> 2.8.2, < 3");
        assert_eq!(lock.platforms, ["ruby", "x86_64-linux"]);
        assert_eq!(lock.asked["rack"], "~> 3.0");
        assert_eq!(lock.asked["horn"], "");
        assert_eq!(lock.checksums["fog-1.18.3-x86_64-linux-gnu"], "abcd");
        assert_eq!(lock.ruby, Some(("3.3.5".to_owned(), 37)));
        let reached = lock.reached(["horn".to_owned(), "fog".to_owned(), "gone".to_owned()].into_iter());
        assert_eq!(reached.into_iter().collect::<Vec<_>>().join(" "), "fog horn mist rack");
    }

    #[test]
    fn what_cannot_be_a_lockfile_is_refused() {
        let told = |text: &str| match Lock::parse(text) {
            Err(Error::Survey(SurveyError::Malformed { place, detail })) => format!("{place}: {detail}"),
            other => format!("{other:?}"),
        };
        assert!(told("GEM\n<<<<<<< HEAD\n").contains("Gemfile.lock line 2: a merge was not finished"));
        assert!(told("PLUGIN SOURCE\n  remote: x\n").contains("plugin sources are not supported"));
        for name in ["../out", "a/b", ".hidden", ""] {
            let text = format!("GEM\n  remote: x\n  specs:\n    {name} (1.0)\n");
            assert!(told(&text).contains("is not a gem with a version"), "{name}");
        }
        assert!(told("GEM\n  specs:\n    rack (../..)\n").contains("is not a gem with a version"));
        assert!(told("GEM\n  specs:\n    rack (1.0-../x)\n").contains("is not a gem with a version"));
        assert!(told("GEM\n  specs:\n      rack\n").contains("this dependency belongs to no gem"));
    }
}
