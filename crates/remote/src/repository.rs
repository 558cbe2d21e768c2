//! Commits of git repositories elsewhere, through git's own program.

use crate::address::shown;
use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use std::path::Path;
use std::process::{Command, Stdio};

/// How git may get something: nothing that would run a program that an address names.
const PROTOCOLS: &str = "file:git:http:https:ssh";

/// The commit that `name` stands for in what `git ls-remote` lists: it also lists references that only end like that, such as
/// the branch `next/v1` for `v1`. The order is git's own (gitrevisions); an annotated tag stands for what it points to.
fn commit_in(listed: &str, name: &str) -> Option<String> {
    let references: Vec<(&str, &str)> = listed.lines().filter_map(|line| line.split_once('\t')).collect();
    let id = |reference: &str| {
        references.iter().find(|(_, known)| *known == reference).map(|(id, _)| (*id).to_owned())
    };
    let places =
        [name.to_owned(), format!("refs/{name}"), format!("refs/tags/{name}"), format!("refs/heads/{name}")];
    places.iter().find_map(|place| id(&format!("{place}^{{}}")).or_else(|| id(place)))
}

impl Fetcher {
    /// Puts the commit `id` (in full) of the repository at `url` into the bare repository in `folder`, which is
    /// made when it is not there.
    pub fn commit(&self, url: &str, id: &str, folder: &Path) -> Result<()> {
        if !folder.join("HEAD").exists() {
            self.git(url, &["init", "--quiet", "--bare", &folder.display().to_string()])?;
        }
        let place = folder.display().to_string();
        if self.git(url, &["-C", &place, "cat-file", "-e", &format!("{id}^{{commit}}")]).is_ok() {
            return Ok(());
        }
        self.may_ask(url)?;
        self.git(url, &["-C", &place, "fetch", "--quiet", "--depth", "1", "--no-tags", "--", url, id])
            .map(drop)
    }

    /// The commit that a branch or tag of the repository at `url` is now; nothing when it has none of that name.
    pub fn commit_of(&self, url: &str, name: &str) -> Result<Option<String>> {
        self.may_ask(url)?;
        let said = self.git(url, &["ls-remote", "--quiet", "--", url, name, &format!("{name}^{{}}")])?;
        Ok(commit_in(&said, name))
    }

    fn may_ask(&self, url: &str) -> Result<()> {
        match self.may_use_network() || url.starts_with("file:") {
            true => Ok(()),
            false => Err(RemoteError::Offline { url: shown(url) }),
        }
    }

    fn git(&self, url: &str, arguments: &[&str]) -> Result<String> {
        let unreachable = |detail: String| RemoteError::Unreachable { url: shown(url), detail };
        let program =
            self.git_program().ok_or_else(|| unreachable("git is not on this machine".to_owned()))?;
        let mut command = Command::new(program);
        command.args(arguments).stdin(Stdio::null());
        command.env("GIT_ALLOW_PROTOCOL", PROTOCOLS).env("GIT_TERMINAL_PROMPT", "0");
        for misleading in ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY"] {
            command.env_remove(misleading);
        }
        let output = command.output().map_err(|error| unreachable(error.to_string()))?;
        if output.status.success() {
            return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
        }
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        // What follows the failure is advice, or what it means for others.
        let failure = said.lines().find_map(|line| line.strip_prefix("fatal: "));
        let last = || said.lines().rfind(|line| !line.trim().is_empty());
        Err(unreachable(failure.or_else(last).unwrap_or("git failed").to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_stands_for_the_reference_that_has_exactly_this_name() {
        let listed = "11\trefs/heads/next/v1\n22\trefs/heads/v1\n33\trefs/tags/v1\n44\trefs/tags/v1^{}\n\
            55\trefs/tags/old/v1^{}\n66\tHEAD\n";
        assert_eq!(
            commit_in(listed, "v1").as_deref(),
            Some("44"),
            "a tag comes before a branch, and is followed"
        );
        assert_eq!(commit_in(listed, "next/v1").as_deref(), Some("11"));
        assert_eq!(commit_in(listed, "refs/heads/v1").as_deref(), Some("22"));
        assert_eq!(commit_in(listed, "HEAD").as_deref(), Some("66"));
        assert_eq!(commit_in("11\trefs/heads/next/v1\n", "v1"), None);
    }
}
