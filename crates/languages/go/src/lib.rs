//! Go: modules, and programs that are already compiled.
#![forbid(unsafe_code)]

mod build_info;
mod compile;
mod constraints;
#[cfg(fuzzing)]
pub mod fuzzing;
mod go_mod;
mod go_sum;
mod licences;
mod module_files;
mod modules;
mod programs;
mod proxy;
mod retractions;
mod toolchain;
mod version_selection;

use compile::Compile;
use engine::Step;
use go_mod::{GoMod, Replacement};
use goblin::container::Ctx;
use goblin::elf::header::ELFMAG;
use goblin::elf::program_header::PT_INTERP;
use goblin::elf::{Elf, ProgramHeader};
use model::error::SurveyError;
use model::platform::own_platform;
use model::{
    BuildpackOptions, Claim, Ecosystem, Error, Evidence, Finding, LockFound, OptionSpec, Place, Problem,
    ProcessKind, ProcessType, Result, Role, RuntimeWish, Takes, configured_constraint,
};
use module_files::ModuleFiles;
use modules::Needed;
use planning::{Buildpack, Context, Contribution, Resolution, Resolving};
use source::{SourceTree, TreeKind};
use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use toolchain::Release;

const MANIFEST: &str = "go.mod";
const LOCKFILE: &str = "go.sum";
/// Options of the buildpack.
const TAGS: &str = "tags";
const LINKER_FLAGS: &str = "linker-flags";
const C: &str = "c";
/// What a module has when the packages that it needs are with it.
const VENDORED: &str = "vendor/modules.txt";

/// What only the compiler reads.
const READ_BY_BUILD: [&str; 6] = ["**/*.go", "go.mod", "go.sum", "go.work", "go.work.sum", "vendor/**"];

/// The headers of a program lie within so many bytes.
const HEAD: u64 = 64 << 10;

/// The buildpack.
pub struct Go;

impl Buildpack for Go {
    fn name(&self) -> &str {
        "go"
    }

    fn about(&self) -> &str {
        "Go: modules compiled from source, and compiled programs"
    }

    fn options(&self) -> Vec<OptionSpec> {
        vec![
            OptionSpec::VERSION,
            OptionSpec::new(TAGS, Takes::Texts, "Build tags"),
            OptionSpec::new(
                LINKER_FLAGS,
                Takes::Texts,
                "Extra linker flags; $COMMIT stands for the commit of the source",
            ),
            OptionSpec::new(
                C,
                Takes::Truth,
                "Whether to compile C code (cgo), with the C compiler of the base",
            ),
        ]
    }

    fn ecosystems(&self) -> Vec<Ecosystem> {
        vec![Ecosystem::GO]
    }

    fn lockfiles(&self) -> Vec<&'static str> {
        vec![LOCKFILE]
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
        // Of what the base has, the line says the least version; newer releases can be had, whatever the base.
        let is_met = planning::loosely_accepts(&format!(">={constraint}"), version);
        is_met.map(|is_met| is_met || is_release(constraint))
    }

    fn resolve(&self, context: &Context<'_>, resolving: &Resolving<'_>) -> Result<Resolution> {
        if context.runtime.is_none() {
            return Ok(Resolution::default());
        }
        let mut resolution = modules::settle(context, resolving)?;
        if programs::needs_c(context.tree, context.options)? {
            resolution.tools.insert("compilers");
        }
        Ok(resolution)
    }

    fn contribute(&self, context: &Context<'_>, resolution: &Resolution) -> Result<Contribution> {
        let tree = context.tree;
        // Programs that are compiled already need nothing more.
        if context.runtime.is_none() {
            return Ok(Contribution::default());
        }
        let needed = resolution.settled::<Needed>().cloned().unwrap_or_default();
        let module = tree.read(MANIFEST)?.unwrap_or_default();
        let module = module.lines().find_map(|line| line.strip_prefix("module ")).unwrap_or_default();
        let mains = programs::of(tree, module.trim(), context.options.texts(TAGS))?
            .into_iter()
            .map(|program| program.folder)
            .collect();
        let with_proxy = |module: modules::Module| {
            let proxy = proxy::of(&module.module, context.addresses)?;
            Ok((module, proxy))
        };
        let wanted = needed.modules.into_iter().map(with_proxy).collect::<Result<Vec<_>>>()?;
        let release = needed.release.as_ref();
        let mut root: Vec<Step> =
            release.map(|release| release.step(context)).transpose()?.into_iter().collect();
        if !wanted.is_empty() {
            let files = ModuleFiles { modules: wanted, addresses: context.addresses.clone() };
            root.push(Step::new(module_files::STEP, Role::Dependencies, files));
        }
        let with_c = programs::needs_c(tree, context.options)?;
        if with_c && context.platform != own_platform() {
            return Err(Error::Survey(SurveyError::Unsupported {
                place: Place::new(MANIFEST, None),
                what: format!("compiling parts in C for {}", context.platform),
                instead: "build on a machine of that platform, or without these parts: c = false under [buildpacks.go]",
            }));
        }
        let work = Compile {
            tree: Arc::clone(tree),
            mains,
            has_modules: !root.is_empty() && root.last().is_some_and(|step| step.name == module_files::STEP),
            tags: context.options.texts(TAGS).to_vec(),
            linker_flags: linker_flags(context)?,
            with_c,
            processor: context.platform.rsplit('/').next().unwrap_or_default().to_owned(),
            vendored: tree.has(VENDORED),
            sums: needed.sums,
            path: match release {
                Some(_) => format!("{}:/usr/bin", Release::bin_folder()),
                None => "/usr/bin".to_owned(),
            },
        };
        let tool = needed.release.as_ref().map(Release::in_use);
        let step = Step::new(compile::STEP, Role::Built, work).in_root(root);
        let leave_out = READ_BY_BUILD.map(str::to_owned).into();
        Ok(Contribution { steps: vec![step], tool, leave_out, ..Contribution::default() })
    }
}

/// Flags of the linker, with the commit put in.
fn linker_flags(context: &Context<'_>) -> Result<Vec<String>> {
    const COMMIT: &str = "$COMMIT";
    let flags = context.options.texts(LINKER_FLAGS);
    if context.commit.is_none() && flags.iter().any(|flag| flag.contains(COMMIT)) {
        return Err(Error::Survey(SurveyError::Unsupported {
            place: Place::new(model::files::CONFIG, None),
            what: "$COMMIT of a source outside a git repository".to_owned(),
            instead: "build from a repository, or leave $COMMIT out of linker-flags",
        }));
    }
    let commit = context.commit.unwrap_or_default();
    Ok(flags.iter().map(|flag| flag.replace(COMMIT, commit)).collect())
}

/// Whether it is the version of a release that can be had as a module.
fn is_release(version: &str) -> bool {
    let mut numbers = version.split('.').map(|part| part.parse::<u32>().ok());
    matches!((numbers.next(), numbers.next()), (Some(Some(1)), Some(Some(21..))))
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
        finding.evidence.push(Evidence::speaks_for(place, version, "the preferred Go version"));
    }
    let said: Vec<_> = said_in("go ").into_iter().collect();
    for (version, place) in &said {
        finding.evidence.push(Evidence::speaks_for(place.clone(), version, "the minimum Go version"));
    }
    let wish = RuntimeWish::of("go", configured_constraint(options), said);
    finding.runtime = Some(RuntimeWish { for_build: true, ..wish });
    finding.problems.extend(replaced_outside(tree, text));
    if tree.has(LOCKFILE) {
        let (packages, lacking) = modules::locked(tree)?;
        let place = Place::new(LOCKFILE, None);
        let counts = format!("{packages} modules");
        finding.evidence.push(Evidence::speaks_for(place.clone(), counts, "module hashes"));
        if lacking > 0 {
            let tells = "a build determines their hashes and pins them in shtetl.lock";
            finding.evidence.push(Evidence::against(place, format!("{lacking} modules are missing"), tells));
        }
        finding.lock = Some(LockFound { file: LOCKFILE.to_owned(), packages, development: 0 });
    }
    // The compiler links everything into a program, unless a part of it is written in C.
    finding.static_binary = (!programs::needs_c(tree, options)?).then(|| Place::new(MANIFEST, None));
    for program in programs::of(tree, &name, options.texts(TAGS))? {
        let process = match program.serves {
            true => "web".to_owned(),
            false => program.name.to_lowercase().replace('_', "-"),
        };
        finding.evidence.push(Evidence::speaks_for(program.said.clone(), "package main", "a program"));
        let command = format!("bin/{}", program.name);
        let mut process = ProcessType::found(&process, ProcessKind::Process, &[&command], program.said);
        if let Some((port, place)) = program.port {
            finding.evidence.push(Evidence::speaks_for(place, port.to_string(), "the port in its code"));
            process.port = Some(port);
        }
        finding.processes.push(process);
    }
    Ok(())
}

/// Modules that are replaced by folders which the source does not have: the compiler would fail on them.
fn replaced_outside(tree: &SourceTree, text: &str) -> Vec<Problem> {
    let mut problems = Vec::new();
    for replaced in GoMod::parse(text).replace {
        let Replacement::Folder(folder) = &replaced.by else { continue };
        if within_source(folder).is_some_and(|folder| tree.has(&format!("{folder}{MANIFEST}"))) {
            continue;
        }
        problems.push(Problem {
            code: "replacement".to_owned(),
            place: Place::find(MANIFEST, text, folder),
            says: format!("{} is replaced by {folder}, which is not a module in the source", replaced.path),
            advice: "remove the line, or build the folder that contains both, with a go.work".to_owned(),
            breaks: true,
        });
    }
    problems
}

/// The folder that a path means, seen from the root of the source, with a slash at its end; nothing where it leads out.
fn within_source(path: &str) -> Option<String> {
    let mut folder: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            // An absolute path begins with nothing.
            "" if folder.is_empty() && path.starts_with('/') => return None,
            "" | "." => {}
            ".." => drop(folder.pop()?),
            part => folder.push(part),
        }
    }
    Some(folder.iter().map(|part| format!("{part}/")).collect())
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
