//! The scripts of the app's manifest, followed through what they run of each other: images have no installer that
//! would run them.

use crate::Manifest;
use model::shell_words::{self, CommandLine};

/// Scripts that run each other more deeply than this go in a circle.
const DEEPEST: usize = 8;
/// Installers whose words run a script or a command of a package.
const RUNNERS: [&str; 5] = ["npm", "yarn", "pnpm", "bun", "npx"];
/// Scripts that `npm` runs without `run`.
const SHORT: [&str; 4] = ["start", "test", "stop", "restart"];
/// Commands that run scripts after each other, or at once.
const SEVERAL: [&str; 3] = ["run-s", "run-p", "npm-run-all"];

/// The scripts of a manifest.
pub(super) struct AppScripts<'a>(pub(super) &'a Manifest);

impl AppScripts<'_> {
    /// The line that a script comes to, with those that run before and after it; nothing when there is none.
    pub(super) fn line(&self, name: &str) -> Option<String> {
        self.expanded(name, "", 0).filter(|line| !line.is_empty())
    }

    /// The build that a script runs before anything else, and the rest of it: what is built once is not built again
    /// whenever the app starts.
    pub(super) fn without_build(&self, name: &str) -> (Option<String>, Option<String>) {
        let is_build = |script: &str| script.starts_with("build") || script.starts_with("compile");
        let before = format!("pre{name}");
        let of_before = self.0.scripts.get(&before).and_then(|line| self.built_by(line, is_build));
        let Some(own) = self.0.scripts.get(name) else { return (None, None) };
        let commands = shell_words::commands(own);
        if let [first, rest @ ..] = &commands[..]
            && !rest.is_empty()
            && squeezed(&commands.join("&&")) == squeezed(own)
            && let Some(built) = self.built_by(first, is_build)
        {
            let rest = self.followed(&rest.join(" && "), 0);
            return (Some(built), Some(rest).filter(|rest| !rest.is_empty()));
        }
        match of_before {
            Some(built) => (Some(built), Some(self.followed(own, 0))),
            None => (None, self.line(name)),
        }
    }

    /// What a command comes to, when all that it does is to run a script that builds.
    fn built_by(&self, command: &str, is_build: impl Fn(&str) -> bool) -> Option<String> {
        let words = shell_words::split(command).ok()?;
        let (runner, rest) = words.split_first()?;
        let script = match rest {
            [run, script] if run == "run" || run == "run-script" => script,
            [script] => script,
            _ => return None,
        };
        let runs = RUNNERS.contains(&runner.as_str()) && is_build(script);
        runs.then(|| self.expanded(script, "", 1)).flatten()
    }

    fn expanded(&self, name: &str, arguments: &str, depth: usize) -> Option<String> {
        if depth > DEEPEST {
            return None;
        }
        let own = self.0.scripts.get(name)?;
        let own = if arguments.is_empty() { own.clone() } else { format!("{own} {arguments}") };
        let (before, after) = (format!("pre{name}"), format!("post{name}"));
        let parts = [self.0.scripts.get(&before).cloned(), Some(own), self.0.scripts.get(&after).cloned()];
        let lines = parts.into_iter().flatten().map(|part| self.followed(&part, depth));
        Some(lines.filter(|line| !line.is_empty()).collect::<Vec<_>>().join(" && "))
    }

    /// A line with what it runs of other scripts in place of the commands that run them.
    fn followed(&self, line: &str, depth: usize) -> String {
        let commands = shell_words::commands(line);
        let joined = commands.join(" && ");
        // Only where nothing but `&&` joins them, nothing else can be meant.
        if squeezed(line) != squeezed(&joined) {
            return line.to_owned();
        }
        let moved = commands.iter().position(|command| command.starts_with("cd ")).unwrap_or(commands.len());
        let is_done = |(at, command): &(usize, &&str)| *at < moved && self.is_installed(command);
        let follow = |command: &str| self.command(command, depth).unwrap_or_else(|| command.to_owned());
        let all = commands.iter().enumerate().filter(|each| !is_done(each));
        all.map(|(_, command)| follow(command))
            .filter(|line| !line.is_empty())
            .collect::<Vec<_>>()
            .join(" && ")
    }

    /// What a command comes to, where it runs scripts or a package's command.
    fn command(&self, command: &str, depth: usize) -> Option<String> {
        // A pattern of scripts is not one of files, which only a shell would know.
        if let Some((first, patterns)) = command.split_once(char::is_whitespace)
            && SEVERAL.contains(&first)
            && patterns.contains('*')
        {
            let words: Vec<String> = patterns.split_whitespace().map(str::to_owned).collect();
            return self.several(&words, depth);
        }
        let line = CommandLine::parse(command);
        let mut words: &[String] = &line.words;
        let mut set: Vec<String> = line.env.iter().map(|(name, value)| format!("{name}={value}")).collect();
        if words.first().is_some_and(|word| word == "cross-env" || word == "cross-env-shell") {
            let count = words[1..].iter().take_while(|word| shell_words::assignment(word).is_some()).count();
            set.extend(words[1..=count].iter().cloned());
            words = &words[count + 1..];
        }
        if words.first().is_some_and(|word| word == "dotenv") {
            let at = words.iter().position(|word| word == "--")?;
            words = &words[at + 1..];
        }
        let first = words.first()?.as_str();
        let found = if SEVERAL.contains(&first) {
            Some(self.several(&words[1..], depth)?)
        } else if RUNNERS.contains(&first) {
            self.of_runner(words, depth)
        } else {
            None
        };
        match found {
            // What is set holds for every command that this one comes to.
            Some(found) if set.is_empty() => Some(found),
            Some(found) if !found.contains(" && ") => Some(format!("{} {found}", shell_words::join(&set))),
            Some(_) => None,
            None if words.len() == line.words.len() => None,
            None => Some(shell_words::join(&[&set[..], words].concat())),
        }
    }

    fn of_runner(&self, words: &[String], depth: usize) -> Option<String> {
        let (runner, rest) = words.split_first()?;
        let (script, rest) = match (runner.as_str(), rest.first()?.as_str()) {
            ("npx", first) if !first.starts_with('-') => return Some(shell_words::join(rest)),
            ("pnpm" | "yarn" | "bun", "exec" | "dlx" | "x") => return Some(shell_words::join(&rest[1..])),
            (_, "run" | "run-script") => (rest.get(1)?, rest.get(2..)?),
            ("npm", first) if !SHORT.contains(&first) => return None,
            _ => (rest.first()?, rest.get(1..)?),
        };
        let rest = rest.strip_prefix(&["--".to_owned()]).unwrap_or(rest);
        match self.0.scripts.contains_key(script) {
            true => self.expanded(script, &shell_words::join(rest), depth + 1),
            // `yarn next build` runs a command of a package.
            false if matches!(runner.as_str(), "yarn" | "pnpm") && words.get(1)? == script => {
                Some(shell_words::join(&words[1..]))
            }
            false => None,
        }
    }

    fn several(&self, words: &[String], depth: usize) -> Option<String> {
        let names = words.iter().take_while(|word| *word != "--").filter(|word| !word.starts_with('-'));
        let lines: Option<Vec<String>> = names
            .map(|word| self.expanded(self.matching(word.split(' ').next().unwrap_or(word))?, "", depth + 1))
            .collect();
        lines.filter(|lines| !lines.is_empty()).map(|lines| lines.join(" && "))
    }

    /// The only script that a pattern such as `build:*` stands for: the order of several is not known here.
    fn matching(&self, pattern: &'_ str) -> Option<&str> {
        let mut names =
            self.0.scripts.keys().map(String::as_str).filter(|name| match pattern.split_once('*') {
                None => *name == pattern,
                Some((before, after)) => {
                    let part = name.strip_prefix(before).and_then(|rest| rest.strip_suffix(after));
                    part.is_some_and(|part| !part.is_empty() && !part.contains(':'))
                }
            });
        names.next().filter(|_| names.next().is_none())
    }

    /// Whether a command only installs packages that the app declares: they are there before any script runs.
    fn is_installed(&self, command: &str) -> bool {
        const ELSEWHERE: [&str; 5] = ["--prefix", "--cwd", "--dir", "--global", "--workspace"];
        let Ok(words) = shell_words::split(command) else { return false };
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let rest = match &words[..] {
            ["npm" | "pnpm" | "bun", "install" | "i" | "ci" | "add", rest @ ..]
            | ["yarn", "install" | "add", rest @ ..] => rest,
            ["yarn"] => &[],
            _ => return false,
        };
        let tables = [&self.0.dependencies, &self.0.dev_dependencies, &self.0.optional_dependencies];
        rest.iter().all(|word| match word.strip_prefix('-') {
            Some(option) => {
                option.starts_with('-') && !ELSEWHERE.iter().any(|elsewhere| word.starts_with(elsewhere))
            }
            // One with a version (`rimraf@5`) need not be the one that is declared.
            None => tables.iter().any(|table| table.contains_key(*word)),
        })
    }
}

/// A text without its spaces.
fn squeezed(text: &str) -> String {
    text.split_whitespace().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn manifest(scripts: &[(&str, &str)]) -> Manifest {
        let scripts = scripts.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect();
        let dev_dependencies = [("rimraf".to_owned(), "5".to_owned())].into();
        Manifest { scripts, dev_dependencies, ..Manifest::default() }
    }

    fn line(scripts: &[(&str, &str)], name: &str) -> Option<String> {
        AppScripts(&manifest(scripts)).line(name)
    }

    #[test]
    fn scripts_are_followed_to_what_they_run() {
        for (scripts, expected) in [
            (&[("start", "npm run serve"), ("serve", "node a.js")][..], "node a.js"),
            (&[("start", "npm run serve -- --fast"), ("serve", "node a.js")], "node a.js --fast"),
            (&[("prestart", "tides check"), ("start", "node a.js")], "tides check && node a.js"),
            (&[("start", "cross-env MODE=live node a.js")], "MODE=live node a.js"),
            (&[("start", "dotenv -e .env -- node a.js")], "node a.js"),
            (&[("start", "MODE=live yarn serve"), ("serve", "node a.js")], "MODE=live node a.js"),
            (&[("start", "npx tides serve")], "tides serve"),
            (&[("start", "yarn tides serve")], "tides serve"),
            (
                &[("start", "run-p check \"only {@}\" --"), ("check", "tsc"), ("only", "tides")],
                "tsc && tides",
            ),
            (&[("start", "npm-run-all serve:*"), ("serve:all", "tides")], "tides"),
            (&[("start", "run-s serve:*"), ("serve:b", "b"), ("serve:a", "a")], "run-s serve:*"),
            (&[("start", "npm ci --omit=dev && yarn && node a.js")], "node a.js"),
            (&[("start", "cd site && npm install && node a.js")], "cd site && npm install && node a.js"),
            (&[("start", "npm install rimraf && node a.js")], "node a.js"),
            (&[("start", "npm install rimraf@5 && node a.js")], "npm install rimraf@5 && node a.js"),
            (&[("start", "npm install tides && node a.js")], "npm install tides && node a.js"),
            (&[("start", "npm run lost")], "npm run lost"),
            (&[("start", "npm run a || true"), ("a", "b")], "npm run a || true"),
        ] {
            assert_eq!(line(scripts, "start").as_deref(), Some(expected), "{scripts:?}");
        }
        for (scripts, built, rest) in [
            (
                &[("start", "npm run build:ts && node a.js"), ("build:ts", "tsc")][..],
                Some("tsc"),
                "node a.js",
            ),
            (
                &[("prestart", "npm run build"), ("build", "tsc"), ("start", "node a.js")],
                Some("tsc"),
                "node a.js",
            ),
            (&[("prestart", "tides check"), ("start", "node a.js")], None, "tides check && node a.js"),
            (
                &[("start", "npm run build || node a.js"), ("build", "tsc")],
                None,
                "npm run build || node a.js",
            ),
        ] {
            let found = AppScripts(&manifest(scripts)).without_build("start");
            assert_eq!((found.0.as_deref(), found.1.as_deref()), (built, Some(rest)), "{scripts:?}");
        }
        assert_eq!(line(&[("build", "tides")], "start"), None);
        // There is nothing left to start.
        assert_eq!(line(&[("start", "npm install")], "start"), None);
        // A circle ends.
        assert!(line(&[("start", "npm start")], "start").unwrap().contains("npm start"));
    }
}
