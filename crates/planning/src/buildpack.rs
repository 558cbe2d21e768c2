//! Buildpacks: what a language is to the rest.

use crate::{Base, NewlyResolved, PlannedPackages, Resolving};
use config::addresses::Addresses;
use engine::Step;
use model::error::BaseError;
use model::{
    BuildCommand, BuildpackOptions, Ecosystem, Error, Finding, OptionSpec, Pages, Place, ProcessType, Result,
    RuntimeInUse, npm_range::Range,
};
use semver::Version;
use source::SourceTree;
use std::any::Any;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A buildpack: recognises a language, settles what the app needs of it, and contributes to the build.
///
/// ```text
/// survey ─► (runtimes are chosen) ─► resolve ─► (tools are pinned) ─► contribute
/// ```
///
/// Only `resolve` may ask the network; what it finds out is pinned. Everything else is a pure function of what it
/// is given.
pub trait Buildpack: Send + Sync {
    /// Its name in texts and configuration.
    fn name(&self) -> &str;

    /// Where it comes from, if it is not part of this program.
    fn origin(&self) -> Option<&str> {
        None
    }

    /// Its version, if it has one of its own.
    fn version(&self) -> &str {
        ""
    }

    /// What it is for, in one line.
    fn about(&self) -> &str {
        ""
    }

    /// The keys of its table in the configuration.
    fn options(&self) -> Vec<OptionSpec> {
        vec![OptionSpec::VERSION]
    }

    /// The kinds of packages that it fetches.
    fn ecosystems(&self) -> Vec<Ecosystem> {
        Vec::new()
    }

    /// The lockfiles that it reads, the strongest first.
    fn lockfiles(&self) -> Vec<&'static str> {
        Vec::new()
    }

    /// What it concludes about the source.
    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding>;

    /// The workspace above `folder` that this is a member of, where the two belong together.
    fn workspace_above(&self, _folder: &Path) -> Option<PathBuf> {
        None
    }

    /// The members of the workspace that a source is.
    fn members(&self, _tree: &SourceTree) -> Result<Vec<Member>> {
        Ok(Vec::new())
    }

    /// The folders of the members that the one in `folder` does not need.
    fn unneeded_members(&self, _tree: &SourceTree, _folder: &str) -> Result<Vec<String>> {
        Ok(Vec::new())
    }

    /// Changes the command of a process so that it keeps to the memory that it is given, where it would not by itself.
    fn keep_within_memory(&self, _process: &mut ProcessType) {}

    /// What it concludes when a build makes `pages` and nothing of the app serves them; nothing when it serves none.
    fn serve(&self, _pages: &Pages, _options: &BuildpackOptions) -> Option<Finding> {
        None
    }

    /// Whether an exact version of the runtime meets a constraint; `None` when the constraint is not understood.
    fn accepts(&self, constraint: &str, version: &str) -> Option<bool>;

    /// Settles which packages the image needs, and what has to be compiled.
    fn resolve(&self, _context: &Context<'_>, _resolving: &Resolving<'_>) -> Result<Resolution> {
        Ok(Resolution::default())
    }

    /// Settles what the app's own build command finds of it.
    fn resolve_for_build(&self, _context: &Context<'_>, _resolving: &Resolving<'_>) -> Result<Resolution> {
        Ok(Resolution::default())
    }

    /// What it adds to the image.
    fn contribute(&self, _context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        Ok(Contribution::default())
    }

    /// What the app's own build command finds of it, in the root that it runs in.
    fn contribute_for_build(&self, _context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        Ok(Contribution::default())
    }
}

/// A member of a workspace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its name, as the other members know it.
    pub name: String,
    /// Its folder, from the root of the source.
    pub folder: String,
}

/// What a buildpack plans with.
#[derive(Clone, Copy)]
pub struct Context<'a> {
    /// What it concluded.
    pub finding: &'a Finding,
    /// The source.
    pub tree: &'a Arc<SourceTree>,
    /// The buildpack's options.
    pub options: &'a BuildpackOptions,
    /// Where packages come from.
    pub addresses: &'a Addresses,
    /// The platform of the image, as in `linux/amd64`.
    pub platform: &'a str,
    /// The app's own command that makes files of it, if there is one.
    pub build_command: Option<&'a BuildCommand>,
    /// The commit that the source is of, where it is known.
    pub commit: Option<&'a str>,
    /// The runtime that the base provides, if the finding wants one.
    pub runtime: Option<&'a RuntimeInUse>,
    /// What lies under the app.
    pub base: &'a dyn Base,
}

impl<'a> Context<'a> {
    /// The runtime, for buildpacks whose findings always want one.
    pub fn runtime(&self) -> Result<&'a RuntimeInUse> {
        let missing = || {
            let (runtime, base) = (self.finding.buildpack.clone(), "planned".to_owned());
            Error::Base(BaseError::RuntimeNotInBase { runtime, base })
        };
        self.runtime.ok_or_else(missing)
    }
}

/// What a buildpack settled, in its own form, with what the rest has to know of it.
#[derive(Default)]
pub struct Resolution {
    settled: Option<Box<dyn Any + Send + Sync>>,
    /// What steps will run, by the names of the catalogue.
    pub tools: BTreeSet<&'static str>,
    /// Packages that were resolved just now, and are to be pinned.
    pub resolved: Vec<NewlyResolved>,
    /// Hashes of packages that nothing locked, to be pinned.
    pub hashes: Vec<NewHash>,
    /// What people should know.
    pub notes: Vec<String>,
}

/// The hash of a package's file that nothing locks, as it was when it was first fetched.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct NewHash {
    /// The kind of packages.
    pub ecosystem: Ecosystem,
    /// Name and version, or where it comes from.
    pub package: String,
    /// The hash, in the ecosystem's notation.
    pub integrity: String,
}

impl Resolution {
    /// Keeps what was settled, for `contribute`.
    pub fn settle(&mut self, settled: impl Any + Send + Sync) {
        self.settled = Some(Box::new(settled));
    }

    /// What was settled, in the form in which it was kept.
    pub fn settled<T: 'static>(&self) -> Option<&T> {
        self.settled.as_ref()?.downcast_ref()
    }
}

/// What one buildpack adds to a build.
#[derive(Default)]
pub struct Contribution {
    /// Steps, each with a layer.
    pub steps: Vec<Step>,
    /// Steps that compile; what comes on top of the root that things are built in is their root.
    pub compiling: Vec<Step>,
    /// Folders in front of the `PATH`, strongest first.
    pub path: Vec<String>,
    /// Folders of packages, from the folder of the app, beside which a build command may put files.
    pub package_folders: Vec<String>,
    /// Patterns of files that only its steps read: the image does not have them.
    pub leave_out: Vec<String>,
    /// What its steps ran, where it is not the runtime of the base.
    pub tool: Option<RuntimeInUse>,
    /// Environment of every process.
    pub env: Vec<(&'static str, String)>,
    /// Its packages, as far as they are known before anything is built.
    pub packages: PlannedPackages,
}

/// A package with who wants it, the nearest first.
pub fn wanted(label: &str, wanted_by: &[String]) -> String {
    match wanted_by {
        [] => label.to_owned(),
        all => format!("{label} (wanted by {})", all.join(", by ")),
    }
}

/// The name of the step that packs the app's own files; other steps may read its layer.
pub const APP_FILES: &str = "app files";
/// The name of the step that runs the app's own build command; other steps may read its layer.
pub const BUILD_COMMAND: &str = "build command";

/// The name of the step that compiles a package.
pub fn compile_step(package: &str) -> String {
    format!("compile {package}")
}

/// Whether `version` meets a constraint in the notation that several ecosystems share (`~> 3.2`,
/// `^8.1 || ^8.2`, `>= 1.21`, `3.2.2`). `None` when the constraint is not understood.
pub fn loosely_accepts(constraint: &str, version: &str) -> Option<bool> {
    let whole = |text: &str| {
        let missing = 2_usize.saturating_sub(text.matches('.').count());
        Version::parse(&format!("{text}{}", ".0".repeat(missing))).ok()
    };
    let range = constraint.replace(',', " ").replace("~> ", "~").replace('|', "||").replace("||||", "||");
    Some(Range::parse(&range)?.contains(&whole(version)?))
}

/// The version that `.tool-versions` names for a runtime, by one of the names that tools have for it.
pub fn tool_version(tree: &SourceTree, names: &[&str]) -> Result<Option<(String, Place)>> {
    const FILE: &str = ".tool-versions";
    let Some(text) = tree.read(FILE)? else { return Ok(None) };
    let named = |line: &str| {
        let mut words = line.split_whitespace();
        let is_one = words.next().is_some_and(|name| names.contains(&name));
        words
            .next()
            .filter(|version| is_one && version.starts_with(|c: char| c.is_ascii_digit()))
            .map(str::to_owned)
    };
    Ok(text
        .lines()
        .enumerate()
        .find_map(|(number, line)| Some((named(line)?, Place::new(FILE, u32::try_from(number + 1).ok())))))
}

/// The first of `candidates` that the tree has.
pub fn first_present<'c>(tree: &SourceTree, candidates: &[&'c str]) -> Option<&'c str> {
    candidates.iter().copied().find(|c| tree.has(c))
}
