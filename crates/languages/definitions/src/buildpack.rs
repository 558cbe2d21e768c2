//! A buildpack that does what its definition says.

use crate::definition::{Claims, Definition, ProblemRule, ProcessRule, Rule, StepRule, patterns};
use crate::own_files::OwnFiles;
use crate::program::{Program, Told};
use crate::step::DefinedStep;
use content::store::Store;
use engine::Step;
use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, Place, Problem, ProcessKind, ProcessType, Result,
    Role, RuntimeWish, shell_words,
};
use planning::{Buildpack, Context, Contribution, Resolution, Resolving};
use source::SourceTree;
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// A buildpack that a folder defines.
pub struct Defined {
    definition: Definition,
    files: OwnFiles,
    folder: PathBuf,
    /// Where it comes from, for people.
    origin: String,
    /// What is asked about each source.
    program: Option<Program>,
}

/// What it is for one source: the definition, with what its program told.
struct Effective<'d> {
    definition: Cow<'d, Definition>,
    told: Told,
}

impl Defined {
    /// Reads the one in a folder; `shown` is how people know that. The store keeps what its program answers.
    pub fn read(folder: &Path, shown: &str, store: &Store) -> Result<Self> {
        let definition = Definition::read(folder, shown)?;
        let files = OwnFiles::read(folder, shown)?;
        let program = match &definition.program {
            Some(path) if !files.has_program(path) => {
                let place = Place::new(format!("{shown}/{}", crate::DEFINITION), None);
                let detail = format!("files/{path} is not an executable file");
                return Err(Error::Survey(SurveyError::Malformed { place, detail }));
            }
            Some(path) => Some(Program {
                path: path.clone(),
                reads: definition.reads.clone(),
                files: files.clone(),
                store: Store::open(store.root())?,
                shown: shown.to_owned(),
            }),
            None => None,
        };
        Ok(Self { program, files, definition, folder: folder.to_owned(), origin: shown.to_owned() })
    }

    /// What it is for a source, which it recognises.
    fn effective(&self, tree: &SourceTree) -> Result<Effective<'_>> {
        let Some(program) = &self.program else {
            return Ok(Effective { definition: Cow::Borrowed(&self.definition), told: Told::default() });
        };
        let told = program.ask(tree)?;
        Ok(Effective { definition: Cow::Owned(program.with(&self.definition, &told)?), told })
    }

    /// The names of its steps for a source.
    pub fn step_names(&self, tree: &SourceTree) -> Result<Vec<String>> {
        let effective = self.effective(tree)?;
        Ok(effective.definition.steps.iter().map(|rule| self.step_name(&rule.name)).collect())
    }

    /// The tools that its steps run with.
    pub fn tools(&self) -> impl Iterator<Item = &str> {
        self.definition.steps.iter().flat_map(|step| &step.tools).map(String::as_str)
    }

    fn step_name(&self, name: &str) -> String {
        format!("{}: {name}", self.definition.name)
    }

    fn evidence(&self, tree: &SourceTree) -> Result<Vec<Evidence>> {
        let mut all = Vec::new();
        for rule in &self.definition.evidence {
            all.extend(
                first_place(tree, rule)?
                    .map(|(place, value)| Evidence::speaks_for(place, value, &rule.tells)),
            );
        }
        Ok(all)
    }

    fn steps(&self, rules: &[StepRule], tree: &SourceTree) -> Result<Vec<Step>> {
        let of = |rule: &StepRule| {
            let work = DefinedStep::new(rule, tree)?;
            let files = (!self.files.is_empty()).then(|| {
                Step::new(format!("files of {}", self.definition.name), Role::Support, self.files.clone())
            });
            Ok(Step::new(self.step_name(&rule.name), Role::Built, work).in_root(files.into_iter().collect()))
        };
        rules.iter().map(of).collect()
    }
}

impl Buildpack for Defined {
    fn name(&self) -> &str {
        &self.definition.name
    }

    fn origin(&self) -> Option<&str> {
        Some(&self.origin)
    }

    fn version(&self) -> &str {
        &self.definition.version
    }

    fn about(&self) -> &str {
        &self.definition.about
    }

    fn survey(&self, tree: &SourceTree, _options: &BuildpackOptions) -> Result<Finding> {
        let mut finding = Finding::nothing(self.name(), Vec::new());
        let rules = &self.definition.evidence;
        finding.looked_for = rules.iter().map(|rule| Cow::Owned(rule.files.clone())).collect();
        finding.evidence = self.evidence(tree)?;
        let Some(said) = finding.first_place() else { return Ok(finding) };
        let Effective { definition, told } = self.effective(tree)?;
        if self.program.is_some() && !told.recognises {
            let against =
                Evidence::against(said, "present", "the program of the buildpack does not recognise it");
            finding.evidence = vec![against];
            return Ok(finding);
        }
        finding.evidence.extend(told.evidence.iter().map(|one| {
            Evidence::speaks_for(Place::new(one.file.as_str(), one.line), &one.value, &one.tells)
        }));
        finding.claim = match definition.claims {
            Claims::App => Claim::Whole,
            Claims::Addition => Claim::Addition,
        };
        let place = || Place::new(format!("{}/{}", self.origin, crate::DEFINITION), None);
        finding.runtime = definition.runtime.as_ref().map(|runtime| {
            let versions = runtime.versions.clone().map(|versions| (versions, place()));
            RuntimeWish::of(&runtime.name, versions, Vec::new())
        });
        let of_kind = |kind: ProcessKind| {
            let said = said.clone();
            move |(name, rule): (&String, &ProcessRule)| {
                let words = shell_words::split(&rule.run).unwrap_or_default();
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                let process = ProcessType::found(name, kind, &words, said.clone());
                ProcessType { port: rule.port, writable: rule.writable.clone(), ..process }
            }
        };
        finding.processes = definition.processes.iter().map(of_kind(ProcessKind::Process)).collect();
        finding.processes.extend(definition.tasks.iter().map(of_kind(ProcessKind::Task)));
        finding.system_packages.clone_from(&definition.packages);
        finding.runs_programs = !definition.steps.is_empty();
        finding.build_packages.clone_from(&definition.build_packages);
        finding.secrets = definition.secrets.iter().map(|name| (name.clone(), place())).collect();
        finding.problems = definition.problems.iter().filter_map(|rule| problem(tree, rule)).collect();
        finding.problems.extend(told.problems.into_iter().map(|one| Problem {
            place: Place::new(one.file, one.line),
            code: one.code,
            says: one.says,
            advice: one.advice,
            breaks: one.breaks,
        }));
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        planning::loosely_accepts(constraint, version)
    }

    fn resolve(&self, context: &Context<'_>, _resolving: &Resolving<'_>) -> Result<Resolution> {
        let mut resolution = Resolution::default();
        let Effective { definition, .. } = self.effective(context.tree)?;
        for tool in definition.steps.iter().flat_map(|step| &step.tools) {
            context.base.tool(tool)?;
            resolution.tools.insert(kept(tool));
        }
        if !definition.steps.is_empty() && resolution.tools.is_empty() {
            context.base.build_root()?;
        }
        Ok(resolution)
    }

    fn contribute(&self, context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        let Effective { definition, .. } = self.effective(context.tree)?;
        let env = definition.environment.iter().map(|(name, value)| (kept(name), value.clone()));
        // The image does not need the buildpack, where that lies in the source.
        let inside =
            self.folder.strip_prefix(context.tree.root()).ok().filter(|path| !path.as_os_str().is_empty());
        Ok(Contribution {
            leave_out: inside.map(|path| format!("{}/**", path.display())).into_iter().collect(),
            compiling: self.steps(&definition.steps, context.tree)?,
            env: env.collect(),
            path: context.runtime.iter().map(|runtime| runtime.bin_folder.clone()).collect(),
            ..Contribution::default()
        })
    }
}

/// The first file that fits a rule, with its line where the rule asks for one.
fn first_place(tree: &SourceTree, rule: &Rule) -> Result<Option<(Place, String)>> {
    let wanted = patterns([&rule.files]);
    for path in tree.files().keys().filter(|path| wanted.is_match(path.as_str())) {
        let Some(beginning) = &rule.line else {
            return Ok(Some((Place::new(path.as_str(), None), "present".to_owned())));
        };
        let Some(text) = tree.read_text(path)? else { continue };
        let found =
            text.lines().enumerate().find(|(_, line)| line.trim_start().starts_with(beginning.as_str()));
        if let Some((number, line)) = found {
            let place = Place::new(path.as_str(), u32::try_from(number + 1).ok());
            return Ok(Some((place, line.trim().to_owned())));
        }
    }
    Ok(None)
}

fn problem(tree: &SourceTree, rule: &ProblemRule) -> Option<Problem> {
    let first = |pattern: &String| {
        let wanted = patterns([pattern]);
        tree.files().keys().find(|path| wanted.is_match(path.as_str())).cloned()
    };
    let place = first(&rule.has)?;
    let is_whole = rule.lacks.as_ref().is_some_and(|lacks| first(lacks).is_some());
    (!is_whole).then(|| Problem {
        code: rule.code.clone(),
        place: Place::new(place, None),
        says: rule.says.clone(),
        advice: rule.advice.clone(),
        breaks: rule.breaks,
    })
}

/// The text for the life of the process; each is kept once.
fn kept(text: &str) -> &'static str {
    static KEPT: Mutex<BTreeSet<&'static str>> = Mutex::new(BTreeSet::new());
    let mut all = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    match all.get(text) {
        Some(known) => known,
        None => {
            let text: &'static str = Box::leak(text.to_owned().into_boxed_str());
            all.insert(text);
            text
        }
    }
}
