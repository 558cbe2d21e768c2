//! Go: modules, and programs that are already compiled.
#![forbid(unsafe_code)]

mod compile;

use compile::Compile;
use engine::Step;
use goblin::container::Ctx;
use goblin::elf::header::ELFMAG;
use goblin::elf::program_header::PT_INTERP;
use goblin::elf::{Elf, ProgramHeader};
use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, LockFound, Place, ProcessKind, ProcessType, Result,
    Role, RuntimeWish, configured_constraint,
};
use planning::{Buildpack, Context, Contribution, Resolution};
use source::{SourceTree, TreeKind};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::sync::Arc;

const MANIFEST: &str = "go.mod";
const LOCKFILE: &str = "go.sum";
/// What a module has when the packages that it needs are with it.
const VENDORED: &str = "vendor/modules.txt";

/// The headers of a program lie within so many bytes.
const HEAD: u64 = 64 << 10;

/// The buildpack.
pub struct Go;

impl Buildpack for Go {
    fn name(&self) -> &str {
        "go"
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let mut finding = Finding::nothing(self.name(), vec![MANIFEST, "a program in bin/ or at the top"]);
        match tree.read(MANIFEST)? {
            Some(text) => module(tree, &text, options, &mut finding)?,
            None => prebuilt(tree, &mut finding),
        }
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        // The line says the least version; later ones compile it too.
        planning::loosely_accepts(&format!(">={constraint}"), version)
    }

    fn contribute(&self, context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        let tree = context.tree;
        // Programs that are compiled already need nothing more.
        if context.runtime.is_none() {
            return Ok(Contribution::default());
        }
        let locked = tree.read(LOCKFILE)?.is_some_and(|text| !text.trim().is_empty());
        let vendored = tree.has(VENDORED);
        if locked && !vendored {
            return Err(Error::Survey(SurveyError::Unsupported {
                place: Place::new(LOCKFILE, None),
                what: "getting modules of Go".to_owned(),
                instead: "run `go mod vendor`, and take them in: in shtetl.toml, under [source]: include = [\"vendor/**\"]",
            }));
        }
        let mains = main_packages(tree)?.into_keys().collect();
        let work = Compile {
            tree: Arc::clone(tree),
            mains,
            processor: context.platform.rsplit('/').next().unwrap_or_default().to_owned(),
            vendored,
        };
        let step = Step::new(compile::STEP, Role::Built, work);
        Ok(Contribution { steps: vec![step], ..Contribution::default() })
    }
}

fn module(tree: &SourceTree, text: &str, options: &BuildpackOptions, finding: &mut Finding) -> Result<()> {
    finding.claim = Claim::Whole;
    let said_in = |key: &str| {
        let (number, line) = text.lines().enumerate().find(|(_, l)| l.starts_with(key))?;
        Some((line[key.len()..].trim().to_owned(), Place::new(MANIFEST, u32::try_from(number + 1).ok())))
    };
    let (name, place) = said_in("module ").unwrap_or_else(|| (String::new(), Place::new(MANIFEST, None)));
    finding.evidence.push(Evidence::speaks_for(place, &name, "a Go module"));
    // The line `toolchain` is what its author would like best; only the line `go` has to be met.
    if let Some((version, place)) = said_in("toolchain go") {
        finding.evidence.push(Evidence::speaks_for(place, version, "the Go version its author prefers"));
    }
    let said: Vec<_> = said_in("go ").into_iter().collect();
    for (version, place) in &said {
        finding.evidence.push(Evidence::speaks_for(
            place.clone(),
            version,
            "the Go version it is written for",
        ));
    }
    let wish = RuntimeWish::of("go", configured_constraint(options), said);
    finding.runtime = Some(RuntimeWish { for_build: true, ..wish });
    if let Some(lock) = tree.read(LOCKFILE)? {
        let packages = lock.lines().filter(|l| !l.contains("/go.mod ")).count();
        finding.lock = Some(LockFound { file: LOCKFILE.to_owned(), packages, development: 0 });
    }
    let mains = main_packages(tree)?;
    let only = mains.len() == 1;
    for (folder, said) in mains {
        let own = folder.rsplit('/').next().filter(|n| !n.is_empty());
        let program = own.unwrap_or_else(|| name.rsplit('/').next().unwrap_or("app")).to_owned();
        let process = if only || folder.is_empty() {
            "web".to_owned()
        } else {
            program.to_lowercase().replace('_', "-")
        };
        finding.evidence.push(Evidence::speaks_for(said.clone(), "package main", "a program"));
        let command = format!("bin/{program}");
        finding.processes.push(ProcessType::found(&process, ProcessKind::Process, &[&command], said));
    }
    Ok(())
}

/// Folders with `package main` and a `main` function, with the place of that function.
fn main_packages(tree: &SourceTree) -> Result<BTreeMap<String, Place>> {
    let mut found = BTreeMap::new();
    for path in tree.files().keys().filter(|p| p.ends_with(".go") && !p.ends_with("_test.go")) {
        let folder = path.rsplit_once('/').map_or("", |(f, _)| f);
        let hidden = |part: &str| {
            part.starts_with('_') || part.starts_with('.') || matches!(part, "vendor" | "testdata")
        };
        if found.contains_key(folder) || folder.split('/').any(hidden) {
            continue;
        }
        // A source that is not text is no program.
        let Some(text) = tree.read_text(path)? else { continue };
        let is_main = text.lines().any(|l| l.trim_end() == "package main");
        if is_main && text.contains("\nfunc main()") {
            found.insert(folder.to_owned(), Place::find(path, &text, "func main()"));
        }
    }
    Ok(found)
}

/// Programs that are already compiled: what they were written in does not matter any more.
fn prebuilt(tree: &SourceTree, finding: &mut Finding) {
    let sources =
        ["package.json", "requirements.txt", "pyproject.toml", "Gemfile", "composer.json", "pom.xml"];
    if sources.iter().any(|s| tree.has(s)) {
        return;
    }
    let mut all_complete = true;
    for (path, file) in tree.files() {
        let in_place =
            !path.contains('/') || path.strip_prefix("bin/").is_some_and(|rest| !rest.contains('/'));
        let TreeKind::File { executable: true, .. } = file.kind else { continue };
        let Some(is_complete) = in_place.then(|| program(&tree.root().join(path))).flatten() else {
            continue;
        };
        finding.claim = Claim::Whole;
        let said = Place::new(path.as_str(), None);
        let linked = if is_complete { ", with all its libraries" } else { "" };
        let tells = format!("a program, already compiled{linked}");
        finding.evidence.push(Evidence::speaks_for(said.clone(), "ELF", tells));
        all_complete &= is_complete;
        finding.static_binary = all_complete.then(|| said.clone());
        if finding.processes.is_empty() {
            let command = format!("./{path}");
            finding.processes.push(ProcessType::found("web", ProcessKind::Process, &[&command], said));
        }
    }
}

/// Whether a program needs no loader; `None` for what is no program (ELF, as Linux has it).
fn program(path: &Path) -> Option<bool> {
    let mut head = Vec::new();
    File::open(path).ok()?.take(HEAD).read_to_end(&mut head).ok()?;
    let segments = || {
        let header = Elf::parse_header(&head).ok()?;
        let context = Ctx::new(header.container().ok()?, header.endianness().ok()?);
        let start = usize::try_from(header.e_phoff).ok()?;
        ProgramHeader::parse(&head, start, header.e_phnum.into(), context).ok()
    };
    let is_complete = || segments().is_some_and(|all| !all.iter().any(|s| s.p_type == PT_INTERP));
    head.starts_with(ELFMAG).then(is_complete)
}
