//! What a build with Maven takes: its release, a JDK, the artifacts that it fetches.

use crate::build::{self, Build, Part, Take};
use crate::distribution::{MAVEN, MAVEN_LINE, Release, TOMCAT, wanted};
use crate::fast_start::{self, FastStart};
use crate::pom::{POM, Poms};
use crate::project::{self, Startable};
use crate::repository::{self, RepositoryFiles};
use crate::small_runtime::{self, SmallRuntime};
use crate::web_archive;
use content::digest::Sha256;
use engine::support_files::{self, SupportFile};
use engine::{Fetches, Step, parts_digest};
use gateway::tools::MAVEN_SETTINGS;
use model::error::SurveyError;
use model::platform::own_platform;
use model::{Error, OptionSpec, Place, Result, Role};
use planning::{Context, Contribution, Resolution, Resolving};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Options of the buildpack.
pub(crate) const GOALS: &str = "goals";
pub(crate) const PROFILES: &str = "profiles";
pub(crate) const FAST_START: &str = "fast-start";
pub(crate) const JDK_MODULES: &str = "jdk-modules";
/// Words for the machine that Maven runs on (the Maven reference, "Configuring Maven").
const MACHINE: &str = ".mvn/jvm.config";
/// JDKs, by the major version of the runtime that runs what they make.
const JDKS: [(&str, &str); 3] = [("17", "jdk-17"), ("21", "jdk-21"), ("25", "jdk-25")];
/// What only the build reads.
const READ_BY_BUILD: [&str; 8] = [
    "src/**",
    "**/src/main/**",
    "**/src/test/**",
    "**/pom.xml",
    "**/mvnw",
    "**/mvnw.cmd",
    "**/.mvn/**",
    "**/target/**",
];

/// Settled.
pub(crate) struct MavenBuild {
    app: Startable,
    maven: Option<Release>,
    /// What serves the app, where that is a web archive.
    server: Option<Release>,
    fetches: Fetches,
}

/// The app, where the source is a Maven project and it is clear which module starts.
pub(crate) fn app(context: &Context<'_>) -> Result<Option<Startable>> {
    let Some(poms) = Poms::read(context.tree)? else { return Ok(None) };
    let mut all = project::startable(context.tree, &poms, context.options)?.into_iter();
    let Some(first) = all.next() else { return Ok(None) };
    Ok(all.all(|other| other.kind > first.kind).then_some(first))
}

/// Settles what the build takes.
pub(crate) fn settle(context: &Context<'_>, app: Startable, resolving: &Resolving<'_>) -> Result<Resolution> {
    let mut resolution = Resolution::default();
    let (_, jdk) = jdk(context)?;
    resolution.tools.insert(jdk);
    let exact = wanted(context.tree)?.map(|(version, _)| version);
    let maven = MAVEN.settle((exact, MAVEN_LINE), context, resolving, &mut resolution)?;
    let server = match web_archive::line(context.tree, &app)? {
        Some(line) => TOMCAT.settle((None, line), context, resolving, &mut resolution)?,
        None => None,
    };
    let asked = asked(context, &app, maven.as_ref())?;
    let sources = repository::sources(context.addresses)?;
    let fetches = resolving.fetches(build::STEP, asked, sources)?;
    resolution.settle(MavenBuild { app, maven, server, fetches });
    Ok(resolution)
}

/// The JDK for the runtime of the image: its major version and its name in the catalogue.
fn jdk(context: &Context<'_>) -> Result<(&'static str, &'static str)> {
    let runtime = context.runtime()?;
    let major = runtime.version.split('.').next().unwrap_or_default();
    let known = JDKS.iter().find(|(version, _)| *version == major);
    let unknown = || SurveyError::Unsupported {
        place: Place::new(POM, None),
        what: format!("building for Java {}", runtime.version),
        instead: "choose Java 17, 21 or 25: version under [buildpacks.java]",
    };
    Ok(*known.ok_or_else(unknown).map_err(Error::Survey)?)
}

/// An error where the image is for another platform, whose programs cannot be run for the option.
fn runs_here(context: &Context<'_>, option: &str) -> Result<()> {
    if context.platform == own_platform() {
        return Ok(());
    }
    Err(Error::Survey(SurveyError::Unsupported {
        place: Place::new(model::files::CONFIG, None),
        what: format!("{option} for another platform than this machine's"),
        instead: "build on a machine of that platform, or without the option",
    }))
}

/// The folder of a JDK, from the root that things are built in.
fn java_home(major: &str) -> String {
    let platform = own_platform();
    let processor = platform.rsplit('/').next().unwrap_or_default();
    format!("/usr/lib/jvm/java-{major}-openjdk-{processor}")
}

/// A text that stands for everything that decides what Maven fetches.
fn asked(context: &Context<'_>, app: &Startable, maven: Option<&Release>) -> Result<String> {
    let mut parts = BTreeMap::new();
    for path in context.tree.files().keys() {
        let is_read = path == POM || path.ends_with("/pom.xml") || path.starts_with(".mvn/");
        if is_read {
            let text = context.tree.read(path)?.unwrap_or_default();
            parts.insert(path.clone(), Sha256::of(text.as_bytes()).hex());
        }
    }
    parts.insert("maven".to_owned(), maven.map(|maven| maven.version.clone()).unwrap_or_default());
    parts.insert("java".to_owned(), jdk(context)?.0.to_owned());
    // Some artifacts are for one platform.
    parts.insert("platform".to_owned(), own_platform());
    let mut words = vec![app.folder.clone()];
    words.extend([GOALS, PROFILES].iter().flat_map(|key| context.options.texts(key).iter().cloned()));
    parts.insert("command".to_owned(), words.join(" "));
    Ok(parts_digest(&parts).0.hex())
}

impl MavenBuild {
    pub fn contribute(&self, context: &Context<'_>) -> Result<Contribution> {
        let mut steps = self.app_steps(context)?;
        if context.options.is_set(OptionSpec::SMALL_RUNTIME) {
            steps.push(self.small_runtime(context)?);
        } else if !context.options.texts(JDK_MODULES).is_empty() {
            return Err(Error::Survey(SurveyError::Unsupported {
                place: Place::new(model::files::CONFIG, None),
                what: format!("{JDK_MODULES} without {}", OptionSpec::SMALL_RUNTIME),
                instead: "add small-runtime = true, or remove jdk-modules",
            }));
        }
        if context.options.is_set(FAST_START) {
            steps.push(self.fast_start(context)?);
        }
        let leave_out = READ_BY_BUILD.map(str::to_owned).into();
        let tool = self.maven.as_ref().map(Release::in_use);
        Ok(Contribution { steps, leave_out, tool, ..Contribution::default() })
    }

    /// The steps that put the app into the image, with what serves it.
    fn app_steps(&self, context: &Context<'_>) -> Result<Vec<Step>> {
        let parts: &[Part] = if self.app.merges { &[Part::Whole] } else { &[Part::Libraries, Part::Own] };
        let mut steps = Vec::new();
        for part in parts {
            let role = if *part == Part::Libraries { Role::Dependencies } else { Role::Built };
            let take = Take::new(*part, &self.fetches);
            steps.push(Step::new(part.step(), role, take).in_root(vec![self.build(context)?]));
        }
        if let Some(server) = &self.server {
            steps.push(server.step(context)?);
            steps.push(web_archive::settings());
        }
        Ok(steps)
    }

    /// The step that makes a runtime of the modules that the app needs.
    fn small_runtime(&self, context: &Context<'_>) -> Result<Step> {
        runs_here(context, OptionSpec::SMALL_RUNTIME)?;
        let (major, _) = jdk(context)?;
        let modules = context.options.texts(JDK_MODULES).to_vec();
        let work = SmallRuntime { major, modules, java_home: java_home(major) };
        let mut root = context.base.build_root()?;
        root.extend(self.app_steps(context)?);
        Ok(Step::new(small_runtime::STEP, Role::Runtime, work).in_root(root))
    }

    /// The step that makes the archive for a fast start, with the runtime of the image.
    fn fast_start(&self, context: &Context<'_>) -> Result<Step> {
        runs_here(context, FAST_START)?;
        let mut root = context.base.build_root()?;
        root.extend(self.app_steps(context)?);
        let mut home = java_home(jdk(context)?.0);
        if context.options.is_set(OptionSpec::SMALL_RUNTIME) {
            root.push(self.small_runtime(context)?);
            home = format!("/{}", small_runtime::FOLDER);
        }
        let none = || SurveyError::NoProcess { language: context.finding.buildpack.clone() };
        let process = context.finding.processes.first().ok_or_else(none).map_err(Error::Survey)?;
        let work =
            FastStart { tree: Arc::clone(context.tree), command: process.command.clone(), java_home: home };
        let step = Step::new(fast_start::STEP, Role::Built, work).in_root(root);
        Ok(Step { reads_source: true, ..step })
    }

    /// The step that builds.
    fn build(&self, context: &Context<'_>) -> Result<Step> {
        let (major, _) = jdk(context)?;
        let machine = context.tree.read(MACHINE)?.unwrap_or_default();
        let is_laid_out = !self.fetches.records;
        let work = Build {
            tree: Arc::clone(context.tree),
            app: self.app.clone(),
            goals: context.options.texts(GOALS).to_vec(),
            profiles: context.options.texts(PROFILES).to_vec(),
            machine: machine.split_whitespace().map(str::to_owned).collect(),
            java_home: java_home(major),
            is_laid_out,
            fast_start: context.options.is_set(FAST_START),
        };
        let mut root = context.base.build_root()?;
        root.extend(self.maven.as_ref().map(|maven| maven.step(context)).transpose()?);
        let settings = SupportFile {
            path: MAVEN_SETTINGS,
            text: repository::settings(&self.fetches.sources),
            executable: false,
        };
        root.push(support_files::step("maven settings", vec![settings]));
        if is_laid_out {
            let files = RepositoryFiles::of(&self.fetches);
            root.push(Step::new(repository::STEP, Role::Dependencies, files));
        }
        let step = Step { reads_source: true, ..Step::new(build::STEP, Role::Built, work).in_root(root) };
        Ok(if is_laid_out { step } else { step.fetching(self.fetches.clone()) })
    }
}
