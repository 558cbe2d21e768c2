//! Commits of git repositories elsewhere, through git's own program.

use crate::error::{RemoteError, Result};
use crate::fetch::Fetcher;
use std::path::Path;
use std::process::{Command, Stdio};

/// How git may get something: nothing that would run a program that an address names.
const PROTOCOLS: &str = "file:git:http:https:ssh";

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
        let id = |line: &str| Some((line.split_once('\t')?.0.to_owned(), line.ends_with("^{}")));
        // What an annotated tag points to is listed after the tag.
        let all: Vec<(String, bool)> = said.lines().filter_map(id).collect();
        Ok(all.iter().find(|(_, peeled)| *peeled).or(all.first()).map(|(id, _)| id.clone()))
    }

    fn may_ask(&self, url: &str) -> Result<()> {
        match self.may_use_network() || url.starts_with("file:") {
            true => Ok(()),
            false => Err(RemoteError::Offline { url: url.to_owned() }),
        }
    }

    fn git(&self, url: &str, arguments: &[&str]) -> Result<String> {
        let unreachable = |detail: String| RemoteError::Unreachable { url: url.to_owned(), detail };
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
        let last = said.lines().rfind(|line| !line.trim().is_empty()).unwrap_or("git failed");
        Err(unreachable(last.trim_start_matches("fatal: ").to_owned()))
    }
}
