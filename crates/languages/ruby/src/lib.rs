//! Ruby.
#![forbid(unsafe_code)]

use model::error::SurveyError;
use model::{
    BuildpackOptions, Claim, Error, Evidence, Finding, LockFound, Place, Result, RuntimeWish,
    configured_constraint,
};
use planning::{Buildpack, Context, Contribution, Resolution, first_present, frameworks};
use source::SourceTree;
use std::collections::BTreeSet;

const MANIFEST: &str = "Gemfile";
const LOCKFILE: &str = "Gemfile.lock";
/// Where packages are when they are with the project.
const INSTALLED: &str = "vendor/bundle/";
const VERSION_FILE: &str = ".ruby-version";

/// The buildpack.
pub struct Ruby;

impl Buildpack for Ruby {
    fn name(&self) -> &str {
        "ruby"
    }

    fn survey(&self, tree: &SourceTree, options: &BuildpackOptions) -> Result<Finding> {
        let mut finding = Finding::nothing(self.name(), vec![MANIFEST, "config.ru"]);
        let Some(seen) = first_present(tree, &[MANIFEST, "config.ru"]) else { return Ok(finding) };
        finding.claim = Claim::Whole;
        finding.evidence.push(Evidence::speaks_for(Place::new(seen, None), "present", "an app for Ruby"));
        let manifest = tree.read(MANIFEST)?.unwrap_or_default();
        let lock = tree.read(LOCKFILE)?;
        let said = said_versions(tree, &manifest, lock.as_deref())?;
        for (version, place) in &said {
            finding.evidence.push(Evidence::speaks_for(
                place.clone(),
                version,
                "versions of Ruby that will do",
            ));
        }
        finding.runtime = Some(RuntimeWish::of("ruby", configured_constraint(options), said));
        let mut packages = declared(&manifest);
        finding.declared.clone_from(&packages);
        if let Some(lock) = &lock {
            let locked = locked(lock);
            let place = Place::new(LOCKFILE, None);
            finding.evidence.push(Evidence::speaks_for(
                place,
                format!("{} packages", locked.len()),
                "exact versions",
            ));
            finding.lock =
                Some(LockFound { file: LOCKFILE.to_owned(), packages: locked.len(), development: 0 });
            packages.extend(locked);
        }
        let known = frameworks::apply(frameworks::RUBY, tree, &packages, &Place::new(seen, None), ".rb")?;
        finding.evidence.extend(known.evidence);
        finding.processes = known.processes;
        Ok(finding)
    }

    fn accepts(&self, constraint: &str, version: &str) -> Option<bool> {
        planning::loosely_accepts(constraint, version)
    }

    fn contribute(&self, context: &Context<'_>, _resolution: &Resolution) -> Result<Contribution> {
        let lock = context.tree.read(LOCKFILE)?.unwrap_or_default();
        let has_installed = context.tree.files().keys().any(|f| f.starts_with(INSTALLED));
        if !locked(&lock).is_empty() && !has_installed && context.build_command.is_none() {
            return Err(Error::Survey(SurveyError::Unsupported {
                place: Place::new(LOCKFILE, None),
                what: "installing packages of Ruby".to_owned(),
                instead: "install them into vendor/bundle before, and take them in: in shtetl.toml, under [source]: include = [\"vendor/bundle/**\"]",
            }));
        }
        // Without it Ruby takes texts for ASCII.
        let env = vec![("LANG", "C.UTF-8".to_owned())];
        Ok(Contribution { path: vec![context.runtime()?.bin_folder.clone()], env, ..Contribution::default() })
    }
}

/// What Gemfile, version file and lock say of the version.
fn said_versions(tree: &SourceTree, manifest: &str, lock: Option<&str>) -> Result<Vec<(String, Place)>> {
    let mut said = Vec::new();
    if let Some((number, line)) =
        manifest.lines().enumerate().find(|(_, l)| l.trim_start().starts_with("ruby "))
        && let Some(version) = line.split(['"', '\'']).nth(1)
    {
        said.push((version.to_owned(), Place::new(MANIFEST, u32::try_from(number + 1).ok())));
    }
    if let Some(text) = tree.read(VERSION_FILE)? {
        let version = text.trim().trim_start_matches("ruby-").to_owned();
        said.push((version, Place::new(VERSION_FILE, Some(1))));
    }
    let lines: Vec<&str> = lock.map(|l| l.lines().collect()).unwrap_or_default();
    if let Some(at) = lines.iter().position(|l| *l == "RUBY VERSION")
        && let Some(version) = lines.get(at + 1).and_then(|l| l.trim().strip_prefix("ruby "))
    {
        let plain = version.split('p').next().unwrap_or(version).to_owned();
        said.push((plain, Place::new(LOCKFILE, u32::try_from(at + 2).ok())));
    }
    Ok(said)
}

/// `gem "name"` lines.
fn declared(manifest: &str) -> BTreeSet<String> {
    let gem = |line: &str| {
        let rest = line.trim_start().strip_prefix("gem")?;
        rest.trim_start_matches(['(', ' ']).split(['"', '\'']).nth(1).map(str::to_owned)
    };
    manifest.lines().filter_map(gem).collect()
}

/// Packages with their versions, which are indented by four.
fn locked(lock: &str) -> BTreeSet<String> {
    let spec = |line: &str| {
        let rest = line.strip_prefix("    ")?;
        (!rest.starts_with(' ') && rest.contains(" ("))
            .then(|| rest.split(' ').next().unwrap_or(rest).to_owned())
    };
    lock.lines().filter_map(spec).collect()
}
