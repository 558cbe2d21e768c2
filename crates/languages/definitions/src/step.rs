//! A step of a definition: runs a program on some files of the source; some of what it makes goes into the image.

use crate::definition::{StepRule, patterns};
use content::layer::LayerWriter;
use engine::program_step::{self, CACHE, Cache, Job, SOURCE, copy_source, source_digests};
use engine::{Action, Fingerprint, Recipe, StepContext, collect};
use model::error::StepError;
use model::{Error, PackageFact, Result, shell_words};
use source::SourceTree;
use std::collections::BTreeMap;

/// The step's work.
pub(super) struct DefinedStep {
    rule: StepRule,
    /// The files that it reads, and nothing else.
    tree: SourceTree,
    /// Each with its digest.
    inputs: BTreeMap<String, String>,
}

impl DefinedStep {
    pub(super) fn new(rule: &StepRule, tree: &SourceTree) -> Result<Self> {
        let wanted = patterns(&rule.inputs);
        let files = tree.files().iter().filter(|(path, _)| wanted.is_match(path));
        let files: BTreeMap<_, _> = files.map(|(path, file)| (path.clone(), file.clone())).collect();
        let tree = SourceTree::new(tree.root().to_owned(), files);
        Ok(Self { rule: rule.clone(), inputs: source_digests(&tree)?, tree })
    }
}

impl Action for DefinedStep {
    fn fingerprint(&self) -> Fingerprint {
        // The tools are in the root.
        let Self { rule, tree: _, inputs } = self;
        let StepRule { name: _, run, tools: _, inputs: _, outputs } = rule;
        Fingerprint::of(Recipe::new("step of a definition", 1))
            .with_recipe(program_step::RECIPE)
            .values("command", [("run", run.clone()), ("outputs", shell_words::join(outputs))])
            .input("source", inputs.clone())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let job = Job {
            step: cx.step,
            shown: self.rule.run.clone(),
            argv: shell_words::split(&self.rule.run).unwrap_or_default(),
            env: vec![
                ("HOME", "/tmp".to_owned()),
                ("LANG", "C.UTF-8".to_owned()),
                ("PATH", "/usr/bin:/bin".to_owned()),
                ("SOURCE_DATE_EPOCH", content::layer::FILE_TIME.to_string()),
                ("XDG_CACHE_HOME", CACHE.to_owned()),
            ],
            folder: SOURCE,
            starts_in: "",
            fill: &|to| copy_source(&self.tree, to),
            packages: &[],
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, layer.store(), cx)?;
        let all = collect::files(&written.source)?;
        let wanted = patterns(&self.rule.outputs);
        let kept: Vec<_> = all
            .iter()
            .filter(|path| wanted.is_match(path.as_str()))
            .map(|path| (path.as_str(), format!("app/{path}")))
            .collect();
        if kept.is_empty() {
            return Err(Error::Step(StepError::NothingMade { keep: self.rule.outputs.clone() }));
        }
        collect::put(layer, &written.source, &kept)?;
        Ok(Vec::new())
    }
}
