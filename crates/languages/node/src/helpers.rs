//! Programs from the registry that builds count on, as the ecosystem's own installer brings them: what compiles
//! add-ons, and what runs the scripts of a manifest. They are resolved and pinned like the app's packages.

use crate::install::Installing;
use crate::overrides::Overrides;
use crate::package::LockedPackage;
use crate::tree::PackageTree;
use crate::workspaces::Parts;
use crate::{Manifest, install, resolve};
use engine::Step;
use model::Result;
use model::platform::own_platform;
use planning::{Context, Resolution, Resolving};
use std::collections::BTreeSet;

/// Where they are put, from the root that they run in.
pub(super) const FOLDER: &str = "build";
/// What compiles add-ons.
pub(super) const ADD_ON_BUILDER: &str = "node-gyp";
/// Commands that run scripts of a manifest, or that run such a command themselves, with the packages that have it.
const RUNNERS: [(&str, &str); 10] = [
    ("npm", "npm"),
    ("npx", "npm"),
    ("pnpm", "pnpm"),
    ("pnpx", "pnpm"),
    ("yarn", "yarn"),
    ("npm-run-all", "npm"),
    ("run-s", "npm"),
    ("run-p", "npm"),
    ("lerna", "npm"),
    ("qwik", "npm"),
];

/// The packages whose commands are named in `text`.
pub(super) fn named_in(text: &str) -> BTreeSet<&'static str> {
    let is_word = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '/' | '@');
    let words: BTreeSet<&str> = text.split(|c| !is_word(c)).collect();
    RUNNERS.iter().filter(|(command, _)| words.contains(command)).map(|(_, package)| *package).collect()
}

/// Packages that are resolved besides the app's own.
pub(super) struct Helpers {
    pub(super) tree: PackageTree,
    pub(super) packages: Vec<LockedPackage>,
}

/// Settles the programs of `packages`, pinned under `purpose`; without network access, there may be none.
pub(super) fn settle(
    packages: BTreeSet<&str>,
    purpose: &str,
    (context, resolving): (&Context<'_>, &Resolving<'_>),
    resolution: &mut Resolution,
) -> Result<Option<Helpers>> {
    if packages.is_empty() {
        return Ok(None);
    }
    let dependencies = packages.into_iter().map(|name| (name.to_owned(), "*".to_owned())).collect();
    let manifest = Manifest { dependencies, ..Manifest::default() };
    let asked =
        resolve::Asked { manifest: &manifest, overrides: Overrides::default(), parts: Parts::default() };
    let text = format!("{} for {}", asked.digest(), context.runtime()?.version);
    let Some((tree, new)) = resolve::settled(&asked, (purpose, &text), context, resolving)? else {
        return Ok(None);
    };
    resolution.resolved.extend(new);
    Ok(Some(Helpers { packages: tree.for_image(&own_platform())?, tree }))
}

impl Helpers {
    /// The steps, called `name`, that put them where programs of a build are looked for.
    pub(super) fn steps(&self, name: &str, installing: &Installing<'_>) -> Vec<Step> {
        self.steps_in(FOLDER, name, installing)
    }

    /// The same, in another folder from the root.
    pub(super) fn steps_in(
        &self,
        folder: &'static str,
        name: &str,
        installing: &Installing<'_>,
    ) -> Vec<Step> {
        let own = own_platform();
        let installing = Installing { name, folder, platform: &own, options: None, ..*installing };
        install::steps(self.packages.clone(), self.tree.clone(), &installing)
    }
}
