//! The file that defines a buildpack.

use globset::{Glob, GlobSet, GlobSetBuilder};
use model::error::SurveyError;
use model::shell_words::split;
use model::{Error, PathFacts, Place, Result, names};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// The name of the file.
pub const DEFINITION: &str = "definition.toml";
/// The format that is understood.
pub const FORMAT: &str = "shtetl/buildpack/1";
/// The largest definition, in bytes.
const LARGEST: u64 = 1 << 20;

/// What a definition says.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Definition {
    format: String,
    pub(super) name: String,
    #[serde(default)]
    pub(super) version: String,
    pub(super) about: String,
    /// Whether it is the app, or comes in addition to what is.
    #[serde(default)]
    pub(super) claims: Claims,
    /// What speaks for it: each of them is enough.
    pub(super) evidence: Vec<Rule>,
    /// A program among its files that is asked about every source that this speaks for.
    #[serde(default)]
    pub(super) program: Option<String>,
    /// Patterns of the files of the source that the program sees.
    #[serde(default)]
    pub(super) reads: Vec<String>,
    #[serde(default)]
    pub(super) runtime: Option<Runtime>,
    /// Packages of the distribution for the image.
    #[serde(default)]
    pub(super) packages: Vec<String>,
    /// The same for its steps.
    #[serde(default)]
    pub(super) build_packages: Vec<String>,
    #[serde(default)]
    pub(super) steps: Vec<StepRule>,
    #[serde(default)]
    pub(super) processes: BTreeMap<String, ProcessRule>,
    #[serde(default)]
    pub(super) tasks: BTreeMap<String, ProcessRule>,
    /// Environment of every process.
    #[serde(default)]
    pub(super) environment: BTreeMap<String, String>,
    /// Secrets that processes ask for at the start.
    #[serde(default)]
    pub(super) secrets: Vec<String>,
    #[serde(default)]
    pub(super) problems: Vec<ProblemRule>,
}

/// How much of a source it takes for its own.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Claims {
    App,
    #[default]
    Addition,
}

/// Files that speak for it.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct Rule {
    /// A pattern of paths.
    pub(super) files: String,
    /// How a line of such a file begins, if only then it speaks.
    #[serde(default)]
    pub(super) line: Option<String>,
    pub(super) tells: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct Runtime {
    pub(super) name: String,
    #[serde(default)]
    pub(super) versions: Option<String>,
}

/// A step that runs a program.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct StepRule {
    pub(super) name: String,
    pub(super) run: String,
    /// What it runs with, by the names of `[build] tools`.
    #[serde(default)]
    pub(super) tools: Vec<String>,
    /// Patterns of the files of the source that it reads; it finds no others.
    pub(super) inputs: Vec<String>,
    /// Patterns of the files that go into the image.
    pub(super) outputs: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ProcessRule {
    pub(super) run: String,
    #[serde(default)]
    pub(super) port: Option<u16>,
    #[serde(default)]
    pub(super) writable: Vec<String>,
}

/// Something that is wrong with a source.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ProblemRule {
    pub(super) code: String,
    /// It is a problem where the source has files of this pattern,
    pub(super) has: String,
    /// and none of this one.
    #[serde(default)]
    pub(super) lacks: Option<String>,
    pub(super) says: String,
    #[serde(rename = "do")]
    pub(super) advice: String,
    /// Whether the build would fail or the app not start.
    #[serde(default)]
    pub(super) breaks: bool,
}

impl Definition {
    /// Reads the definition in a folder; `shown` is how people know that.
    pub(super) fn read(folder: &Path, shown: &str) -> Result<Self> {
        let path = folder.join(DEFINITION);
        let bad = |line: Option<u32>, detail: String| {
            let place = Place::new(format!("{shown}/{DEFINITION}"), line);
            Error::Survey(SurveyError::Malformed { place, detail })
        };
        let metadata = fs::symlink_metadata(&path).facts(&path)?;
        if metadata.is_symlink() {
            return Err(bad(None, "it is a link".to_owned()));
        }
        let length = metadata.len();
        if length > LARGEST {
            return Err(bad(None, format!("it has {length} bytes, more than the maximum of {LARGEST}")));
        }
        let text = fs::read_to_string(&path).facts(&path)?;
        let definition: Self = toml::from_str(&text).map_err(|error| {
            let line = error.span().map(|span| text[..span.start.min(text.len())].matches('\n').count() + 1);
            bad(line.and_then(|line| u32::try_from(line).ok()), error.message().to_owned())
        })?;
        definition.checked().map_err(|detail| bad(None, detail))
    }

    /// An error where something cannot be meant.
    pub(super) fn checked(self) -> Result<Self, String> {
        if self.format != FORMAT {
            return Err(format!("its format is {:?}, but this version reads {FORMAT:?}", self.format));
        }
        names::check("buildpack", &self.name)
            .map_err(|_| format!("{:?} is not a valid buildpack name", self.name))?;
        if self.evidence.is_empty() {
            return Err("it has no [[evidence]], so it would never recognise any source".to_owned());
        }
        let of_steps = self.steps.iter().flat_map(|step| step.inputs.iter().chain(&step.outputs));
        let of_problems =
            self.problems.iter().flat_map(|problem| std::iter::once(&problem.has).chain(&problem.lacks));
        let of_evidence = self.evidence.iter().map(|rule| &rule.files);
        for pattern in of_evidence.chain(&self.reads).chain(of_steps).chain(of_problems) {
            Glob::new(pattern)
                .map_err(|error| format!("{pattern:?} is not a valid pattern: {}", error.kind()))?;
        }
        let processes = self.processes.iter().chain(&self.tasks);
        for name in self.processes.keys().chain(self.tasks.keys()) {
            names::check("process type", name)
                .map_err(|_| format!("{name:?} is not a valid name of a process type"))?;
        }
        let commands = self.steps.iter().map(|step| (&step.name, &step.run));
        for (name, run) in commands.chain(processes.map(|(name, rule)| (name, &rule.run))) {
            if split(run).map_or(true, |words| words.is_empty()) {
                return Err(format!("{name}: {run:?} needs a shell: run = \"sh -c '…'\""));
            }
        }
        let variables = self.environment.keys().chain(&self.secrets);
        match variables.into_iter().find(|name| !names::is_variable(name)) {
            Some(name) => Err(format!("{name:?} is not a valid variable name")),
            None => Ok(self),
        }
    }
}

/// The JSON Schema of a definition.
pub fn schema() -> serde_json::Value {
    schemars::schema_for!(Definition).to_value()
}

/// Patterns as one; those that are none were refused when they were read.
pub(super) fn patterns<'p>(all: impl IntoIterator<Item = &'p String>) -> GlobSet {
    let mut set = GlobSetBuilder::new();
    for pattern in all {
        let _ = Glob::new(pattern).map(|glob| set.add(glob));
    }
    set.build().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHOLE: &str = "format = \"shtetl/buildpack/1\"\nname = \"forms\"\nabout = \"forms\"\n\
        [[evidence]]\nfiles = \"forms/*.form\"\ntells = \"forms\"\n";

    fn read(text: &str) -> Result<Definition> {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join(DEFINITION), text).unwrap();
        Definition::read(folder.path(), "./tools/forms")
    }

    #[test]
    fn what_cannot_be_meant_is_told_with_its_place() {
        assert!(read(WHOLE).is_ok());
        let step = "[[steps]]\nname = \"a\"\ninputs = []\noutputs = []\n";
        for (text, told) in [
            (WHOLE.replace("/1", "/9"), "this version reads \"shtetl/buildpack/1\""),
            (WHOLE.replace("\"forms\"\nabout", "\"../forms\"\nabout"), "is not a valid buildpack name"),
            (WHOLE.replace("forms/*.form", "forms/[.form"), "is not a valid pattern"),
            (format!("{WHOLE}speed = 3\n"), "unknown field `speed`"),
            (format!("{WHOLE}[[steps]]\nname = \"a\"\n"), "missing field `run`"),
            (format!("{WHOLE}{step}run = \"a | b\"\n"), "needs a shell"),
            (format!("{WHOLE}[tasks.Bad]\nrun = \"a\"\n"), "\"Bad\" is not a valid name of a process type"),
            (WHOLE.replace("[[evidence]]", "evidence = []\nsecrets = [\"A B\"]\n[[x]]"), "unknown field"),
            (format!("secrets = [\"A B\"]\n{WHOLE}"), "is not a valid variable name"),
            ("{}".to_owned(), ""),
            (String::new(), "missing field"),
        ] {
            match read(&text) {
                Err(Error::Survey(SurveyError::Malformed { place, detail })) => {
                    assert!(detail.contains(told), "{text}: {detail}");
                    assert_eq!(place.file, "./tools/forms/definition.toml");
                }
                other => panic!("{text}: {other:?}"),
            }
        }
        let Err(Error::Survey(SurveyError::Malformed { place, .. })) = read(&format!("{WHOLE}speed = 3\n"))
        else {
            panic!("no fault")
        };
        assert_eq!(place.line, Some(7));
    }
}
