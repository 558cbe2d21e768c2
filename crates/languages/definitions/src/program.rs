//! The program of a buildpack: it is asked about a source, and answers with more of a definition. It runs apart from
//! this machine, and sees only the files of the source that the definition names.
//!
//! ```text
//! question: {"format": "shtetl/buildpack-question/1", "files": ["forms/tide.form", …]}
//! answer:   {"format": "shtetl/buildpack-answer/1", "processes": {"clerk": {"run": "/app/clerk"}}, …}
//! ```

use crate::definition::{Definition, ProcessRule, Runtime, StepRule, patterns};
use crate::own_files::{OwnFiles, PLACE};
use content::digest::Sha256;
use content::store::{Store, Stored};
use engine::asked_program::{self, Answer, Limit, Question};
use engine::program_step::{SOURCE, copy_source, source_digests};
use model::error::SurveyError;
use model::{Error, Place, Result};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use source::SourceTree;
use std::collections::BTreeMap;

/// The format of questions.
const QUESTION: &str = "shtetl/buildpack-question/1";
/// The format of answers.
const ANSWER: &str = "shtetl/buildpack-answer/1";

/// A program with what it may see.
pub(super) struct Program {
    /// Its path in the buildpack's files.
    pub(super) path: String,
    /// Patterns of the files of the source that it sees.
    pub(super) reads: Vec<String>,
    /// All files of the buildpack.
    pub(super) files: OwnFiles,
    /// Keeps answers.
    pub(super) store: Store,
    /// How people know the buildpack.
    pub(super) shown: String,
}

#[derive(Serialize)]
struct Asked<'a> {
    format: &'static str,
    files: Vec<&'a str>,
}

/// What the program of a buildpack says of a source.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Told {
    /// `shtetl/buildpack-answer/1`.
    format: String,
    /// Whether the buildpack has to do with the source at all.
    #[serde(default = "yes")]
    pub(super) recognises: bool,
    /// What speaks for it.
    #[serde(default)]
    pub(super) evidence: Vec<ToldEvidence>,
    #[serde(default)]
    runtime: Option<Runtime>,
    #[serde(default)]
    packages: Vec<String>,
    #[serde(default)]
    build_packages: Vec<String>,
    #[serde(default)]
    steps: Vec<StepRule>,
    #[serde(default)]
    processes: BTreeMap<String, ProcessRule>,
    #[serde(default)]
    tasks: BTreeMap<String, ProcessRule>,
    #[serde(default)]
    environment: BTreeMap<String, String>,
    #[serde(default)]
    secrets: Vec<String>,
    /// What is wrong with the source.
    #[serde(default)]
    pub(super) problems: Vec<ToldProblem>,
}

fn yes() -> bool {
    true
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ToldEvidence {
    /// A file of the source.
    pub(super) file: String,
    #[serde(default)]
    pub(super) line: Option<u32>,
    /// What stands there.
    pub(super) value: String,
    /// What it tells.
    pub(super) tells: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ToldProblem {
    /// What kind of problem it is, in the buildpack's own words.
    pub(super) code: String,
    /// A file of the source.
    pub(super) file: String,
    #[serde(default)]
    pub(super) line: Option<u32>,
    /// What is wrong.
    pub(super) says: String,
    #[serde(rename = "do")]
    pub(super) advice: String,
    /// Whether the build would fail or the app not start.
    #[serde(default)]
    pub(super) breaks: bool,
}

impl Program {
    /// What it says of a source; the same question is asked once.
    pub(super) fn ask(&self, tree: &SourceTree) -> Result<Told> {
        let names = tree.files().keys().map(String::as_str);
        let asked = Asked { format: QUESTION, files: names.collect() };
        let text = serde_json::to_vec(&asked).map_err(|error| self.bad(error.to_string()))?;
        let wanted = patterns(&self.reads);
        let seen = tree.files().iter().filter(|(path, _)| wanted.is_match(path));
        let seen = SourceTree::new(
            tree.root().to_owned(),
            seen.map(|(path, file)| (path.clone(), file.clone())).collect(),
        );
        let key = (&self.path, self.files.digests(), &text, source_digests(&seen)?);
        let key = serde_json::to_vec(&key).map_err(|error| self.bad(error.to_string()))?;
        let kept = self.store.fragment_path("buildpack-answer", Sha256::of(&key));
        if let Stored::Whole(told) = self.store.read_document::<Told>(&kept) {
            return Ok(told);
        }
        let question = Question {
            argv: vec![format!("/{PLACE}/{}", self.path)],
            folders: &[(&SOURCE[1..], &|to| copy_source(&seen, to)), (PLACE, &|to| self.files.write_to(to))],
            text: &text,
        };
        let told = self.understood(asked_program::ask(&question, &self.store)?)?;
        // An answer that cannot be kept is asked for again.
        let _ = self.store.write_cache(&kept, &told);
        Ok(told)
    }

    fn understood(&self, answer: Answer) -> Result<Told> {
        let said = match answer {
            Answer::Said(said) => said,
            Answer::NotStarted(why) => {
                return Err(
                    self.bad(format!("it cannot be started ({why}); it must need nothing but itself"))
                );
            }
            Answer::Over(limit) => {
                let what = match limit {
                    Limit::Memory => "memory",
                    Limit::Written => "output",
                    Limit::Time => "time",
                };
                return Err(self.bad(format!("it used too much {what}")));
            }
            Answer::Failed(status, last) if last.is_empty() => {
                return Err(self.bad(format!("it ended with {status}")));
            }
            Answer::Failed(status, last) => {
                return Err(self.bad(format!("it ended with {status}: {}", last.join("; "))));
            }
        };
        let told: Told = serde_json::from_slice(&said)
            .map_err(|error| self.bad(format!("its answer is not valid: {error}")))?;
        if told.format != ANSWER {
            let detail =
                format!("the format of its answer is {:?}, but this version reads {ANSWER:?}", told.format);
            return Err(self.bad(detail));
        }
        Ok(told)
    }

    fn bad(&self, detail: String) -> Error {
        let place = Place::new(format!("{}/files/{}", self.shown, self.path), None);
        Error::Survey(SurveyError::Malformed { place, detail })
    }

    /// A definition with what was told about a source; an error where something of that cannot be meant.
    pub(super) fn with(&self, definition: &Definition, told: &Told) -> Result<Definition> {
        let mut whole = definition.clone();
        let Told { runtime, packages, build_packages, steps, processes, tasks, environment, secrets, .. } =
            told.clone();
        whole.runtime = runtime.or(whole.runtime);
        whole.packages.extend(packages);
        whole.build_packages.extend(build_packages);
        whole.steps.extend(steps);
        whole.processes.extend(processes);
        whole.tasks.extend(tasks);
        whole.environment.extend(environment);
        whole.secrets.extend(secrets);
        whole.checked().map_err(|detail| self.bad(format!("its answer: {detail}")))
    }
}

/// The JSON Schema of an answer.
pub fn answer_schema() -> serde_json::Value {
    schemars::schema_for!(Told).to_value()
}
