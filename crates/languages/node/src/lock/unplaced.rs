//! What lockfiles say that link packages to each other by names of their own, and no places: a chooser for
//! the graph that follows those links.

use crate::graph::{Chooser, place};
use crate::need::Need;
use crate::overrides::Overrides;
use crate::tree::{Entry, PackageTree};
use crate::workspaces::{Part, Parts};
use model::error::PackageError;
use model::{Error, Result};
use std::collections::BTreeMap;

/// Packages by the names that the file gives them; parts of the app by their folders.
#[derive(Debug, Default)]
pub(super) struct Linked {
    pub(super) file: &'static str,
    pub(super) how: &'static str,
    pub(super) packages: BTreeMap<String, Package>,
    pub(super) parts: Parts,
}

/// One package of the file.
#[derive(Debug, Clone, Default)]
pub(super) struct Package {
    pub(super) entry: Entry,
    /// What it needs; `wanted` is the name that the file gives the package that is meant.
    pub(super) needs: Vec<Need>,
}

impl Linked {
    /// The tree for an app that needs this, `wanted` being names of the file as well.
    pub(super) fn into_tree(
        mut self,
        text: &str,
        root: Entry,
        mut needs: Vec<Need>,
        says_all: bool,
    ) -> Result<PackageTree> {
        needs.extend(self.parts.all().map(Part::need));
        let mut tree = PackageTree::made(self.file);
        (tree.text, tree.says_all, tree.how) = (text.to_owned(), says_all, self.how);
        place(root, needs, &Overrides::default(), &mut self, &mut tree)?;
        Ok(tree)
    }
}

impl Chooser for Linked {
    fn meets(&self, entry: &Entry, need: &Need) -> bool {
        if let Some(part) = self.parts.meant(&need.wanted) {
            return entry.origin == part.entry().origin;
        }
        let meant = self.packages.get(&need.wanted).map(|package| &package.entry);
        // Peers are found by name alone: the file says nothing of which one is meant.
        need.peer || meant.is_some_and(|meant| meant.version == entry.version && meant.name == entry.name)
    }

    fn choose(&mut self, need: &Need, by: Option<&str>) -> Result<Option<(Entry, Vec<Need>)>> {
        if let Some(part) = self.parts.meant(&need.wanted) {
            // What the file says that the part asks for; nothing, where it does not know the part.
            let Package { entry, needs } = self.packages.get(&part.folder).cloned().unwrap_or_default();
            let Entry { dependencies, dev_dependencies, optional_dependencies, .. } = entry;
            let own = Entry { dependencies, dev_dependencies, optional_dependencies, ..part.entry() };
            return Ok(Some((own, needs)));
        }
        match self.packages.get(&need.wanted) {
            Some(package) => Ok(Some((package.entry.clone(), package.needs.clone()))),
            None if need.optional || need.peer => Ok(None),
            None => {
                let who = by.unwrap_or("package.json");
                Err(Error::Package(PackageError::LockMismatch {
                    lockfile: self.file.to_owned(),
                    detail: format!("{who} needs {}, which is not locked", need.wanted),
                    how: self.how,
                }))
            }
        }
    }
}
