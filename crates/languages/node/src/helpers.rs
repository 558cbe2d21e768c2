//! Programs from the registry that builds count on, as the ecosystem's own installer brings them: what compiles
//! add-ons, and what runs the scripts of a manifest. They are resolved and pinned like the app's packages.

use crate::install::Around;
use crate::overrides::Overrides;
use crate::parts::Parts;
use crate::{Manifest, install, resolve};
use engine::Step;
use model::Result;
use model::platform::own_platform;
use planning::{Context, NewlyResolved};
use std::collections::BTreeSet;

/// Where they are put, from the root that they run in.
pub(super) const FOLDER: &str = "build";
/// What compiles add-ons.
pub(super) const ADD_ON_BUILDER: &str = "node-gyp";
/// Commands that run scripts of a manifest, with the packages that have them.
const RUNNERS: [(&str, &str); 5] =
    [("npm", "npm"), ("npx", "npm"), ("pnpm", "pnpm"), ("pnpx", "pnpm"), ("yarn", "yarn")];

/// The packages whose commands are named in `text`.
pub(super) fn named_in(text: &str) -> BTreeSet<&'static str> {
    let is_word = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '/' | '@');
    let words: BTreeSet<&str> = text.split(|c| !is_word(c)).collect();
    RUNNERS.iter().filter(|(command, _)| words.contains(command)).map(|(_, package)| *package).collect()
}

/// The steps that put `packages` down, and what was resolved for that under `target`; while nobody may be
/// asked, they are left out.
pub(super) fn steps(
    packages: BTreeSet<&str>,
    target: &str,
    context: &Context<'_>,
    around: &Around<'_>,
) -> Result<(Vec<Step>, Option<NewlyResolved>)> {
    if packages.is_empty() {
        return Ok(Default::default());
    }
    let dependencies = packages.into_iter().map(|name| (name.to_owned(), "*".to_owned())).collect();
    let manifest = Manifest { dependencies, ..Manifest::default() };
    let asked =
        resolve::Asked { manifest: &manifest, overrides: Overrides::default(), parts: Parts::default() };
    let text = format!("{} for {}", asked.digest(), context.runtime.version);
    let Some((tree, new)) = resolve::settled(&asked, (target, &text), context)? else {
        return Ok(Default::default());
    };
    let own = own_platform();
    let name = format!("node packages {target}");
    let around = Around { name: &name, folder: FOLDER, platform: &own, options: None, ..*around };
    Ok((install::steps(tree.for_image(&own)?, tree, &around), new))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runners_are_known_by_their_commands() {
        let told = |text: &str| named_in(text).into_iter().collect::<Vec<_>>().join(" ");
        assert_eq!(told("npm run build && npx tsc"), "npm");
        assert_eq!(told("sh -c 'pnpm build; yarn'"), "pnpm yarn");
        assert_eq!(told("node tools/npm.js yarn-like"), "");
    }
}
