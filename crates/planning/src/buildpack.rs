//! Buildpacks: what a language is to the rest.

use crate::Base;
use crate::{NewlyResolved, Resolving};
use config::addresses::Addresses;
use engine::Step;
use model::{
    BuildCommand, BuildpackOptions, Ecosystem, Finding, OptionSpec, Result, RuntimeInUse, npm_range::Range,
};
use semver::Version;
use source::SourceTree;
use std::sync::Arc;

/// A buildpack: recognises a language and contributes to the build.
pub trait Buildpack: Send + Sync {
    /// Its name in texts and configuration.
    fn name(&self) -> &'static str;

    /// What it concludes about the source.
    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding>;

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

    /// Which version constraint an exact runtime version must meet.
    fn accepts(&self, constraint: &str, version: &str) -> Option<bool>;

    /// What the app's own build command finds of it, in the root that it runs in.
    fn to_build(&self, _context: &Context<'_>) -> Result<Contribution> {
        Ok(Contribution::default())
    }

    /// What it adds to a build of this source.
    fn contribute(&self, _context: &Context<'_>) -> Result<Contribution> {
        Ok(Contribution::default())
    }
}

/// What a contribution is made from.
pub struct Context<'a> {
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
    /// The runtime that the base provides.
    pub runtime: &'a RuntimeInUse,
    /// What lies under the app.
    pub base: &'a dyn Base,
    /// How packages are resolved that no file locks.
    pub resolving: &'a Resolving<'a>,
}

/// What one buildpack adds to a build.
#[derive(Default)]
pub struct Contribution {
    /// Steps, each with a layer.
    pub steps: Vec<Step>,
    /// Steps that compile.
    pub compiling: Vec<CompileStep>,
    /// Folders in front of the `PATH`, strongest first.
    pub path: Vec<String>,
    /// Folders that a build command finds in the app; they lie at the same path from the root of all.
    pub linked: Vec<String>,
    /// Environment of every process.
    pub env: Vec<(&'static str, String)>,
    /// What people should know.
    pub notes: Vec<String>,
    /// Packages that were resolved, and are to be pinned.
    pub resolved: Vec<NewlyResolved>,
}

/// A package with who wants it, the nearest first.
pub fn wanted(label: &str, wanted_by: &[String]) -> String {
    match wanted_by {
        [] => label.to_owned(),
        all => format!("{label} (wanted by {})", all.join(", by ")),
    }
}

/// A step that compiles something for the image.
pub struct CompileStep {
    /// The step; its root is what comes on top of the root that things are built in.
    pub step: Step,
    /// What it runs, by the names of the catalogue.
    pub tools: &'static [&'static str],
}

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

/// The first of `candidates` that the tree has.
pub fn first_present<'c>(tree: &SourceTree, candidates: &[&'c str]) -> Option<&'c str> {
    candidates.iter().copied().find(|c| tree.has(c))
}
