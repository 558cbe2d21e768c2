//! What a gem says of itself: read from the metadata in its file, written as the specification that Ruby loads.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt::Write;

/// The largest metadata that are read, in bytes.
pub(super) const LARGEST: u64 = 16 << 20;

/// What a gem says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Specification {
    pub(super) name: String,
    pub(super) version: String,
    /// Folders that Ruby loads files from, from that of the gem.
    pub(super) require_paths: Vec<String>,
    /// The folder with its commands.
    pub(super) bin: String,
    pub(super) commands: Vec<String>,
    /// What compiles its parts in C: `extconf.rb` and others. Nothing once they are compiled.
    pub(super) extensions: Vec<String>,
    /// The supported Ruby versions.
    pub(super) ruby: Vec<String>,
    /// What it needs when it runs: names with requirements.
    pub(super) needs: BTreeMap<String, Vec<String>>,
    pub(super) licences: Vec<String>,
}

impl Specification {
    /// Reads metadata (YAML, as RubyGems writes them).
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let metadata: Metadata = serde_saphyr::from_str(text).map_err(|e| e.to_string())?;
        let needs = metadata.dependencies.unwrap_or_default().into_iter();
        let needs =
            needs.filter(|need| !need.kind.as_deref().is_some_and(|kind| kind.contains("development")));
        let needs = needs.map(|need| {
            let requirement = need.requirement.or(need.version_requirements).unwrap_or_default();
            (need.name, requirement.texts())
        });
        let licences = metadata.licenses.unwrap_or_default().into_iter().chain(metadata.license);
        let specification = Self {
            name: metadata.name,
            version: metadata.version.version,
            require_paths: metadata
                .require_paths
                .filter(|paths| !paths.is_empty())
                .unwrap_or_else(|| vec!["lib".to_owned()]),
            bin: metadata.bindir.unwrap_or_else(|| "bin".to_owned()),
            commands: metadata.executables.unwrap_or_default(),
            extensions: metadata.extensions.unwrap_or_default(),
            ruby: metadata.required_ruby_version.unwrap_or_default().texts(),
            needs: needs.collect(),
            licences: licences.collect(),
        };
        specification.checked()
    }

    /// An error where a name leads out of the gem.
    fn checked(self) -> Result<Self, String> {
        let is_inside = |path: &str| {
            !path.is_empty()
                && !path.starts_with('/')
                && !path.split('/').any(|part| part == ".." || part.is_empty())
        };
        let is_file = |name: &str| is_inside(name) && !name.contains('/') && name != ".";
        let plain = |text: &str| !text.chars().any(char::is_control);
        let mut folders = self.require_paths.iter().chain(&self.extensions).chain(std::iter::once(&self.bin));
        if let Some(path) = folders.find(|path| !is_inside(path) || !plain(path)) {
            return Err(format!("its specification names {path:?}, which points outside the gem's folder"));
        }
        if let Some(command) = self.commands.iter().find(|name| !is_file(name) || !plain(name)) {
            return Err(format!(
                "its specification names the command {command:?}, which is not a valid file name"
            ));
        }
        Ok(self)
    }

    /// The file that Ruby loads, for a platform where it is for one.
    pub(super) fn text(&self, platform: Option<&str>) -> String {
        let mut text = String::from("# -*- encoding: utf-8 -*-\n");
        let stub = self.require_paths.join("\0");
        let _ =
            writeln!(text, "# stub: {} {} {} {stub}", self.name, self.version, platform.unwrap_or("ruby"));
        if !self.extensions.is_empty() {
            let _ = writeln!(text, "# stub: {}", self.extensions.join("\0"));
        }
        text.push_str("\nGem::Specification.new do |s|\n");
        let _ = writeln!(text, "  s.name = {}", quoted(&self.name));
        let _ = writeln!(text, "  s.version = {}", quoted(&self.version));
        if let Some(platform) = platform {
            let _ = writeln!(text, "  s.platform = {}", quoted(platform));
        }
        let _ = writeln!(text, "  s.require_paths = [{}]", list(&self.require_paths));
        if self.bin != "bin" {
            let _ = writeln!(text, "  s.bindir = {}", quoted(&self.bin));
        }
        for (key, values) in
            [("executables", &self.commands), ("extensions", &self.extensions), ("licenses", &self.licences)]
        {
            if !values.is_empty() {
                let _ = writeln!(text, "  s.{key} = [{}]", list(values));
            }
        }
        if !self.ruby.is_empty() {
            let _ = writeln!(text, "  s.required_ruby_version = Gem::Requirement.new({})", list(&self.ruby));
        }
        for (name, requirements) in &self.needs {
            let _ = writeln!(text, "  s.add_dependency({}, [{}])", quoted(name), list(requirements));
        }
        text.push_str("end\n");
        text
    }
}

fn list(texts: &[String]) -> String {
    texts.iter().map(|text| quoted(text)).collect::<Vec<_>>().join(", ")
}

/// A text of Ruby in which nothing is replaced.
fn quoted(text: &str) -> String {
    format!("'{}'.freeze", text.replace('\\', "\\\\").replace('\'', "\\'"))
}

/// The metadata in the file of a gem (the tags of its objects do not matter).
#[derive(Deserialize)]
struct Metadata {
    name: String,
    version: Version,
    require_paths: Option<Vec<String>>,
    bindir: Option<String>,
    executables: Option<Vec<String>>,
    extensions: Option<Vec<String>>,
    dependencies: Option<Vec<Dependency>>,
    required_ruby_version: Option<Requirement>,
    licenses: Option<Vec<String>>,
    license: Option<String>,
}

#[derive(Deserialize)]
struct Version {
    version: String,
}

#[derive(Deserialize)]
struct Dependency {
    name: String,
    #[serde(rename = "type")]
    kind: Option<String>,
    requirement: Option<Requirement>,
    version_requirements: Option<Requirement>,
}

#[derive(Default, Deserialize)]
struct Requirement {
    #[serde(default)]
    requirements: Option<Vec<(String, Version)>>,
}

impl Requirement {
    fn texts(self) -> Vec<String> {
        let all = self.requirements.unwrap_or_default();
        all.into_iter().map(|(operator, version)| format!("{operator} {}", version.version)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const METADATA: &str = "--- !ruby/object:Gem::Specification
name: fog
version: !ruby/object:Gem::Version
  version: '1.10'
platform: ruby
authors:
- Ada O'Ferry
bindir: exe
cert_chain: []
date: 2026-11-01 00:00:00.000000000 Z
dependencies:
- !ruby/object:Gem::Dependency
  name: mist
  requirement: &id001 !ruby/object:Gem::Requirement
    requirements:
    - - \"~>\"
      - !ruby/object:Gem::Version
        version: 2.0
    - - \"<\"
      - !ruby/object:Gem::Version
        version: 2.1.5
  type: :runtime
  prerelease: false
  version_requirements: *id001
- !ruby/object:Gem::Dependency
  name: minitest
  requirement: *id001
  type: :development
executables:
- fog
extensions:
- ext/fog/extconf.rb
licenses:
- MIT
metadata: {}
require_paths:
- lib
required_ruby_version: !ruby/object:Gem::Requirement
  requirements:
  - - \">=\"
    - !ruby/object:Gem::Version
      version: '2.7'
rubygems_version: 3.5.22
specification_version: 4
summary: Fog
test_files: []
";

    #[test]
    fn metadata_are_read_and_written_as_a_specification() {
        let mut specification = Specification::parse(METADATA).unwrap();
        assert_eq!(specification.version, "1.10", "a version is no number");
        assert_eq!(specification.needs["mist"], ["~> 2.0", "< 2.1.5"]);
        assert_eq!(specification.needs.len(), 1);
        specification.extensions.clear();
        insta::assert_snapshot!(specification.text(Some("x86_64-linux")), @"
        # -*- encoding: utf-8 -*-
        # stub: fog 1.10 x86_64-linux lib

        Gem::Specification.new do |s|
          s.name = 'fog'.freeze
          s.version = '1.10'.freeze
          s.platform = 'x86_64-linux'.freeze
          s.require_paths = ['lib'.freeze]
          s.bindir = 'exe'.freeze
          s.executables = ['fog'.freeze]
          s.licenses = ['MIT'.freeze]
          s.required_ruby_version = Gem::Requirement.new('>= 2.7'.freeze)
          s.add_dependency('mist'.freeze, ['~> 2.0'.freeze, '< 2.1.5'.freeze])
        end
        ");
    }

    #[test]
    fn names_that_leave_the_gem_are_refused_and_quotes_stay_quotes() {
        for (from, to) in [
            ("bindir: exe", "bindir: ../../bin"),
            ("- lib", "- /etc"),
            ("- ext/fog/extconf.rb", "- ../extconf.rb"),
            ("executables:\n- fog", "executables:\n- ../fog"),
            ("executables:\n- fog", "executables:\n- \"a\\nb\""),
        ] {
            assert!(Specification::parse(&METADATA.replace(from, to)).is_err(), "{to}");
        }
        assert_eq!(quoted("it's #{1} \\"), "'it\\'s #{1} \\\\'.freeze");
        for text in ["", "[]", "--- !ruby/object:Gem::Specification\nname: 1\n", "{{{{"] {
            assert!(Specification::parse(text).is_err(), "{text:?}");
        }
    }
}
