//! What a buildpack concludes about a source, with its evidence.

use crate::{AppBuild, BuildpackOptions, Pages, Place, ProcessType, RuntimeWish, in_folder};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

/// Whether a piece of evidence speaks for or against a conclusion.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Speaks {
    /// For it.
    For,
    /// Against it.
    Against,
}

/// One observed fact.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Evidence {
    /// For or against what the finding claims.
    pub speaks: Speaks,
    /// Where it was seen.
    pub place: Place,
    /// What was seen there.
    pub value: String,
    /// What it tells.
    pub tells: String,
    /// What it is a sign of, where rules go by it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sign: Option<Sign>,
}

/// What a piece of evidence is a sign of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Sign {
    /// A build will refuse what stands there.
    Refused,
    /// Nothing declared serves the app.
    NoServer,
    /// A member of the workspace starts by itself.
    Member,
    /// Several modules of the project start, this one among them.
    Module,
    /// The app migrates its database whenever it starts.
    MigratesAtStart,
}

impl Evidence {
    /// Evidence for the finding that it stands in.
    pub fn speaks_for(place: Place, value: impl Into<String>, tells: impl Into<String>) -> Self {
        Self { speaks: Speaks::For, place, value: value.into(), tells: tells.into(), sign: None }
    }

    /// Evidence against the finding that it stands in.
    pub fn against(place: Place, value: impl Into<String>, tells: impl Into<String>) -> Self {
        Self { speaks: Speaks::Against, place, value: value.into(), tells: tells.into(), sign: None }
    }

    /// The same, as a sign of something.
    pub fn as_sign(self, sign: Sign) -> Self {
        Self { sign: Some(sign), ..self }
    }
}

/// How much of a source a buildpack takes for its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Claim {
    /// Nothing.
    None,
    /// Something that comes in addition to the app, whatever that is.
    Addition,
    /// A part, such as the front end of another language's app; all of it, if nothing else claims it.
    Part,
    /// The app.
    Whole,
}

/// A lockfile and what it locks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LockFound {
    /// The file.
    pub file: String,
    /// Packages that go into the image.
    pub packages: usize,
    /// Packages that serve development only and stay out.
    pub development: usize,
}

impl LockFound {
    /// How many packages it locks, as in `8 packages, 1 of them for development`.
    pub fn counts(&self) -> String {
        match (self.packages + self.development, self.development) {
            (1, 1) => "1 package, for development".to_owned(),
            (1, _) => "1 package".to_owned(),
            (all, 0) => format!("{all} packages"),
            (all, development) => format!("{all} packages, {development} of them for development"),
        }
    }
}

/// What one buildpack concludes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Finding {
    /// The buildpack.
    pub buildpack: String,
    /// How much of the source it takes for its own.
    pub claim: Claim,
    /// What it saw.
    pub evidence: Vec<Evidence>,
    /// What it looked for.
    pub looked_for: Vec<Cow<'static, str>>,
    /// The runtime it needs.
    pub runtime: Option<RuntimeWish>,
    /// The lockfile that it found.
    pub lock: Option<LockFound>,
    /// A program that needs nothing of a base, or the file by which one is compiled: it is linked with all its libraries.
    pub static_binary: Option<Place>,
    /// How the app is started.
    pub processes: Vec<ProcessType>,
    /// Packages that the app declares for running.
    #[serde(skip)]
    pub declared: BTreeSet<String>,
    /// Packages that it declares for development only.
    #[serde(skip)]
    pub development: BTreeSet<String>,
    /// Packages that a lockfile puts into the image.
    #[serde(skip)]
    pub locked: BTreeSet<String>,
    /// Commands of the packages in the image, where the lockfile says all.
    #[serde(skip)]
    pub commands: Option<BTreeSet<String>>,
    /// Commands of the app itself.
    #[serde(skip)]
    pub own_commands: BTreeSet<String>,
    /// What has to be run to make files that the app needs.
    pub build: Option<AppBuild>,
    /// Pages that the build makes, which nothing of the app itself serves.
    pub pages: Option<Pages>,
    /// Pages that its processes serve as they are.
    #[serde(skip)]
    pub serves: Option<Pages>,
    /// Secrets that its framework needs at the start: names of variables, each with the file that shows it.
    #[serde(skip)]
    pub secrets: BTreeMap<String, Place>,
    /// Packages of the distribution that the image needs for it.
    #[serde(skip)]
    pub system_packages: Vec<String>,
    /// Whether steps of its own run programs.
    #[serde(skip)]
    pub runs_programs: bool,
    /// Packages of the distribution that its steps need.
    #[serde(skip)]
    pub build_packages: Vec<String>,
    /// What it knows to be wrong with the source.
    #[serde(skip)]
    pub problems: Vec<Problem>,
}

/// Something that a buildpack knows to be wrong with a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// What kind of problem it is, as the buildpack names it.
    pub code: String,
    /// Where it shows.
    pub place: Place,
    /// What is wrong.
    pub says: String,
    /// What to do about it.
    pub advice: String,
    /// Whether the build would fail or the app not start.
    pub breaks: bool,
}

impl Finding {
    /// A buildpack that found nothing of what it looked for.
    pub fn nothing(buildpack: &str, looked_for: Vec<&'static str>) -> Self {
        Self {
            buildpack: buildpack.to_owned(),
            claim: Claim::None,
            evidence: Vec::new(),
            looked_for: looked_for.into_iter().map(Cow::Borrowed).collect(),
            runtime: None,
            lock: None,
            static_binary: None,
            processes: Vec::new(),
            declared: BTreeSet::new(),
            development: BTreeSet::new(),
            locked: BTreeSet::new(),
            commands: None,
            own_commands: BTreeSet::new(),
            build: None,
            pages: None,
            serves: None,
            secrets: BTreeMap::new(),
            system_packages: Vec::new(),
            runs_programs: false,
            build_packages: Vec::new(),
            problems: Vec::new(),
        }
    }

    /// What was found in a tree of its own, as it is in `folder` of a larger one.
    pub fn move_into(&mut self, folder: &str) {
        let place = |place: &mut Place| {
            if place.file != crate::files::CONFIG {
                place.file = in_folder(folder, &place.file);
            }
        };
        self.evidence.iter_mut().for_each(|evidence| place(&mut evidence.place));
        if let Some(wish) = &mut self.runtime {
            let said = wish.constraint.iter_mut().chain(&mut wish.also_said).chain(&mut wish.parts);
            said.for_each(|(_, said)| place(said));
        }
        for process in &mut self.processes {
            place(&mut process.said);
            process.folder = in_folder(folder, &process.folder);
        }
        if let Some(build) = &mut self.build {
            place(&mut build.said);
            build.folder = in_folder(folder, &build.folder);
        }
        if let Some(pages) = &mut self.pages {
            place(&mut pages.said);
            pages.folder = in_folder(folder, &pages.folder);
        }
    }

    /// The place of its first evidence.
    pub fn first_place(&self) -> Option<Place> {
        self.evidence.iter().find(|e| e.speaks == Speaks::For).map(|e| e.place.clone())
    }
}

/// The constraint in the configuration, which is stronger than what the source says.
pub fn configured_constraint(options: &BuildpackOptions) -> Option<(String, Place)> {
    options.version()
}
