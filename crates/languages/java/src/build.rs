//! The step that builds the app with Maven, and those that take its parts into the image.

use crate::built_app::{self, APP, LIBRARIES};
use crate::distribution::MAVEN;
use crate::licences::ProjectFiles;
use crate::merged_jars;
use crate::project::{Kind, Startable};
use crate::repository::{self, Coordinates, fact};
use content::layer::{Entry, LayerWriter};
use engine::program_step::{CACHE, Cache, Job, SOURCE, copy_source};
use engine::unpacked_layers::{StoredLayer, readable};
use engine::{Action, Fetches, Fingerprint, Recipe, StepContext, program_step};
use gateway::tools::MAVEN_SETTINGS;
use model::fetched::FetchedAnswer;
use model::folder::entries;
use model::shell_words::join;
use model::{Error, PackageFact, PathFacts, Result};
use source::SourceTree;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The name of the step that builds.
pub(crate) const STEP: &str = "java build";
/// The copying of libraries beside a jar that does not bring them; a version, so that it is known without a request.
const COPY: &str = "org.apache.maven.plugins:maven-dependency-plugin:3.8.1:copy-dependencies";
/// The time of everything that is written into archives (the guide to reproducible builds).
const TIME: &str = "-Dproject.build.outputTimestamp=1980-01-02T00:00:00Z";

/// How the app is built.
pub(crate) struct Build {
    pub tree: Arc<SourceTree>,
    pub app: Startable,
    /// Goals of the configuration.
    pub goals: Vec<String>,
    pub profiles: Vec<String>,
    /// Words of the source for the machine that Maven runs on.
    pub machine: Vec<String>,
    /// The folder of the JDK.
    pub java_home: String,
    /// Whether everything needed is laid out, without any requests.
    pub is_laid_out: bool,
    /// Whether the app gets an archive of its classes.
    pub fast_start: bool,
}

impl Build {
    /// What decides what is fetched, besides the project files.
    pub fn shown(&self) -> Vec<String> {
        let mut words = vec!["mvn".to_owned()];
        match self.goals.is_empty() {
            true => words.push("package".to_owned()),
            false => words.extend(self.goals.iter().cloned()),
        }
        if self.app.kind == Kind::Plain && self.goals.is_empty() {
            words.extend([COPY.to_owned(), "-DincludeScope=runtime".to_owned()]);
        }
        if !self.app.folder.is_empty() {
            words.extend(["-pl".to_owned(), self.app.folder.clone(), "-am".to_owned()]);
        }
        if !self.profiles.is_empty() {
            words.push(format!("-P{}", self.profiles.join(",")));
        }
        words
    }

    fn argv(&self) -> Vec<String> {
        let home = format!("/{}", MAVEN.folder);
        let mut argv = vec![format!("{}/bin/java", self.java_home)];
        // A short life: what takes long to compile well does not pay.
        argv.extend(["-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1", "-Xshare:auto"].map(str::to_owned));
        argv.extend(self.machine.iter().cloned());
        argv.extend([
            "-classpath".to_owned(),
            format!("{home}/boot/*"),
            format!("-Dclassworlds.conf={home}/bin/m2.conf"),
            format!("-Dmaven.home={home}"),
            format!("-Dmaven.multiModuleProjectDirectory={SOURCE}"),
            "-Duser.home=/tmp".to_owned(),
            "org.codehaus.plexus.classworlds.launcher.Launcher".to_owned(),
        ]);
        argv.extend(
            ["--batch-mode", "--no-transfer-progress", "-Dstyle.color=never", TIME].map(str::to_owned),
        );
        argv.extend(["-Dmaven.test.skip=true", "-Dmaven.gitcommitid.skip=true"].map(str::to_owned));
        argv.extend(["--settings".to_owned(), format!("/{MAVEN_SETTINGS}")]);
        match self.is_laid_out {
            true => {
                argv.extend(["--offline".to_owned(), format!("-Dmaven.repo.local=/{}", repository::FOLDER)])
            }
            false => argv.extend([
                format!("-Dmaven.repo.local={CACHE}/repository"),
                "-Daether.connector.basic.threads=16".to_owned(),
                "-Daether.dependencyCollector.bf.threads=16".to_owned(),
            ]),
        }
        argv.extend(self.shown().into_iter().skip(1));
        argv
    }

    fn env(&self) -> Vec<(&'static str, String)> {
        vec![
            ("HOME", "/tmp".to_owned()),
            ("JAVA_HOME", self.java_home.clone()),
            ("LANG", "C.UTF-8".to_owned()),
            ("PATH", format!("{}/bin:/usr/bin:/bin", self.java_home)),
            ("SOURCE_DATE_EPOCH", "315619200".to_owned()),
        ]
    }
}

impl Action for Build {
    fn fingerprint(&self) -> Fingerprint {
        // All of it shows in the command or the environment, but for the app.
        let Self {
            tree: _,
            app,
            goals: _,
            profiles: _,
            machine: _,
            java_home: _,
            is_laid_out: _,
            fast_start,
        } = self;
        let env = self.env().into_iter().map(|(name, value)| (name.to_owned(), value));
        let main = app.main.clone().unwrap_or_default();
        Fingerprint::of(Recipe::new("maven build", 4))
            .with_recipe(program_step::RECIPE)
            .values("command", [("run", join(&self.argv()))])
            .values("app", [("folder", app.folder.clone()), ("main class", main)])
            .values("form", [("fast start", fast_start.to_string())])
            .input("environment", env.collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let job = Job {
            step: STEP,
            shown: join(&self.shown()),
            argv: self.argv(),
            env: self.env(),
            folder: SOURCE,
            starts_in: "",
            fill: &|to| copy_source(&self.tree, to),
            packages: &[],
            cache: Cache::Empty,
        };
        let written = program_step::run(&job, layer.store(), cx)?;
        built_app::pack(&written.source, &self.app, self.fast_start, layer)?;
        Ok(Vec::new())
    }
}

/// A part of the app that has a layer of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Part {
    /// Libraries that were fetched, and never change.
    Libraries,
    /// Everything else.
    Own,
    /// All of it, where libraries are merged into one archive.
    Whole,
}

impl Part {
    /// The name of the step that takes it into the image.
    pub fn step(self) -> &'static str {
        match self {
            Self::Libraries => "java libraries",
            Self::Own => "java classes",
            Self::Whole => "java app",
        }
    }
}

/// Takes a part of what was built into the image.
pub(crate) struct Take {
    pub part: Part,
    /// Released jars that the build was given, by file name.
    pub released: BTreeMap<String, (Coordinates, FetchedAnswer)>,
    /// Their project files.
    projects: ProjectFiles,
}

impl Take {
    pub fn new(part: Part, fetches: &Fetches) -> Self {
        let answers = &fetches.pinned;
        let mut released = BTreeMap::new();
        for (coordinates, answer) in repository::released(answers) {
            // Some builds put the group in front, to keep apart what is called the same.
            let long = format!("{}.{}", coordinates.group, coordinates.file);
            released.insert(long, (coordinates.clone(), answer.clone()));
            released.insert(coordinates.file.clone(), (coordinates, answer.clone()));
        }
        let projects = ProjectFiles::of(answers, &fetches.sources);
        Self { part, released, projects }
    }

    /// The released jar that a file is, by its path in the folder of the app.
    fn release(&self, path: &str) -> Option<&(Coordinates, FetchedAnswer)> {
        let (folder, name) = path.rsplit_once('/')?;
        folder.split('/').any(|part| part == LIBRARIES).then(|| self.released.get(name)).flatten()
    }
}

impl Action for Take {
    fn fingerprint(&self) -> Fingerprint {
        // What is released never changes, and its licence neither.
        let Self { part, released, projects: _ } = self;
        let names = released
            .iter()
            .map(|(name, (_, answer))| (name.clone(), answer.sha256.clone().unwrap_or_default()));
        Fingerprint::of(Recipe::new("java parts", 3))
            .values("part", [("step", part.step().to_owned())])
            .input("released", names.collect())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        let Some(built) = cx.root.first() else { return Ok(Vec::new()) };
        let root = readable(layer.store(), &StoredLayer::from(&built.layer))?;
        let mut files = Vec::new();
        files_below(&root.join(APP), "", &mut files)?;
        files.retain(|(path, _)| match self.part {
            Part::Libraries => self.release(path).is_some(),
            Part::Own => self.release(path).is_none(),
            Part::Whole => true,
        });
        let mut packages: BTreeSet<(Coordinates, FetchedAnswer)> =
            files.iter().filter_map(|(path, _)| self.release(path)).cloned().collect();
        // An archive of the app itself may have others merged into it.
        let own = files.iter().filter(|(path, _)| !path.contains('/') && path.ends_with(".jar"));
        for (_, path) in own {
            let merged = merged_jars::of(path)?;
            packages.extend(self.released.values().filter(|(of, _)| merged.contains(&of.named())).cloned());
        }
        layer.part::<Error>(|tar| {
            tar.entry(&Entry::folder(APP))?;
            let mut folders = BTreeSet::new();
            for (path, from) in &files {
                for (at, _) in path.match_indices('/') {
                    if folders.insert(&path[..at]) {
                        tar.entry(&Entry::folder(format!("{APP}/{}", &path[..at])))?;
                    }
                }
                let mut file = File::open(from).facts(from)?;
                let size = file.metadata().facts(from)?.len();
                tar.file(&Entry::file(format!("{APP}/{path}"), size, false), &mut file)?;
            }
            Ok(())
        })?;
        let fact = |(of, answer): &(Coordinates, FetchedAnswer)| {
            fact(of, answer, self.projects.licence(of, layer.store(), cx))
        };
        Ok(packages.iter().map(fact).collect())
    }
}

fn files_below(folder: &Path, at: &str, files: &mut Vec<(String, PathBuf)>) -> Result<()> {
    for path in entries(folder)? {
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let inside = if at.is_empty() { name } else { format!("{at}/{name}") };
        match path.is_dir() {
            true => files_below(&path, &inside, files)?,
            false => files.push((inside, path)),
        }
    }
    Ok(())
}
