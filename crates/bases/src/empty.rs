//! The base `empty`: nothing but what is asked for, for programs that bring everything along.

use crate::debian::{DebianBase, EVERYTHING};
use content::layer::{Entry, LayerWriter};
use engine::{Action, Step, StepContext};
use engine::{Fingerprint, Recipe};
use model::EmptyPart;
use model::error::BaseError;
use model::pins::Composition;
use model::places::{APP_HOME, APP_USER};
use model::{Error, PackageFact, Result, Role, RuntimeInUse};
use planning::{Base, Provided};
use std::collections::BTreeMap;

/// The base.
pub struct EmptyBase {
    /// What it has all the same.
    pub with: Vec<EmptyPart>,
    /// The packages of that.
    pub packages: DebianBase,
}

impl Base for EmptyBase {
    fn runtime(&self, runtime: &str) -> Result<Provided> {
        Err(Error::Base(BaseError::RuntimeNotInBase {
            runtime: runtime.to_owned(),
            base: "empty".to_owned(),
        }))
    }

    fn tool(&self, tool: &str) -> Result<RuntimeInUse> {
        self.packages.tool(tool)
    }

    fn is_ready_for(&self, tool: &str) -> bool {
        self.packages.is_ready_for(tool)
    }

    fn build_root(&self) -> Result<Vec<Step>> {
        self.packages.build_root()
    }

    fn composition(&self) -> Option<Composition> {
        let mut composition = self.packages.composed(&[EVERYTHING]);
        for asked in composition.sets.values_mut() {
            asked.step = PACKAGES.to_owned();
        }
        (!composition.sets.is_empty()).then_some(composition)
    }

    fn below(&self) -> Result<(Vec<Step>, Vec<String>)> {
        let files = Skeleton { users: self.with.contains(&EmptyPart::Users) };
        let mut steps = vec![Step::new("empty base", Role::Base, files)];
        if self.with.iter().any(|part| part.package().is_some()) {
            steps.push(self.packages.step("base", PACKAGES.to_owned(), Role::Base));
        }
        let bare =
            "the base is empty: it has no certificates and no time zones; add them with [base] with = [...]";
        let notes = if self.with.is_empty() { vec![bare.to_owned()] } else { Vec::new() };
        Ok((steps, notes))
    }
}

/// The step of the packages.
const PACKAGES: &str = "empty base packages";
/// How the folders are made.
const RECIPE: Recipe = Recipe::new("empty base", 1);

/// The folders that every process may count on, and the users.
struct Skeleton {
    users: bool,
}

impl Skeleton {
    fn texts(&self) -> BTreeMap<String, String> {
        if !self.users {
            return BTreeMap::new();
        }
        let (uid, gid) = (APP_USER.uid, APP_USER.gid);
        let passwd = format!(
            "root:x:0:0:root:/root:/usr/sbin/nologin\napp:x:{uid}:{gid}:app:/{APP_HOME}:/usr/sbin/nologin\n"
        );
        let group = format!("root:x:0:\napp:x:{gid}:\n");
        BTreeMap::from([("etc/group".to_owned(), group), ("etc/passwd".to_owned(), passwd)])
    }
}

impl Action for Skeleton {
    fn fingerprint(&self) -> Fingerprint {
        let Self { users: _ } = self;
        Fingerprint::of(RECIPE).input("files", self.texts())
    }

    fn run(&self, layer: &mut LayerWriter<'_>, _cx: &StepContext<'_>) -> Result<Vec<PackageFact>> {
        layer.part::<Error>(|tar| {
            for folder in ["dev", "etc", "home", "proc", "sys", "var"] {
                tar.entry(&Entry::folder(folder))?;
            }
            tar.entry(&Entry { owner: APP_USER, ..Entry::folder(APP_HOME) })?;
            for folder in ["tmp", "var/tmp"] {
                tar.entry(&Entry { mode: 0o1777, ..Entry::folder(folder) })?;
            }
            for (path, text) in self.texts() {
                tar.file(&Entry::file(path, text.len() as u64, false), &mut text.as_bytes())?;
            }
            Ok(())
        })?;
        Ok(Vec::new())
    }
}
