//! What it means when a program of a build fails: read from its output by the patterns of `failures.toml`.

use serde::Deserialize;
use std::sync::OnceLock;

const TABLE: &str = include_str!("failures.toml");
/// Stands for a word of a line, which the cause may name.
const NAME: &str = "{name}";
/// Stands for whatever is up to what follows.
const REST: &str = "{rest}";

/// Why a program failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cause {
    /// What kind of failure it is.
    pub code: &'static str,
    /// The cause, for people.
    pub means: String,
    /// What to change.
    pub advice: String,
}

/// An entry of the table.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Failure {
    code: String,
    says: Vec<String>,
    #[serde(default)]
    of: Kind,
    means: String,
    #[serde(rename = "do")]
    advice: String,
}

/// What the name in a line has to be.
#[derive(Default, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    #[default]
    Word,
    Variable,
    Version,
}

impl Kind {
    fn fits(self, name: &str) -> bool {
        let all = |is: fn(char) -> bool| !name.is_empty() && name.chars().all(is);
        match self {
            Self::Word => !name.is_empty(),
            Self::Variable => all(|c| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_'),
            Self::Version => all(|c| c.is_ascii_digit() || c == '.'),
        }
    }
}

#[derive(Deserialize)]
struct Table {
    failure: Vec<Failure>,
}

fn table() -> &'static [Failure] {
    static READ: OnceLock<Vec<Failure>> = OnceLock::new();
    // It is part of this program, and a test reads it.
    READ.get_or_init(|| toml::from_str::<Table>(TABLE).map(|table| table.failure).unwrap_or_default())
}

/// Why a program with this output failed, each cause once, in the order of the lines.
pub fn in_output(lines: impl IntoIterator<Item = impl AsRef<str>>) -> Vec<Cause> {
    let mut causes: Vec<Cause> = Vec::new();
    for line in lines {
        let found = table().iter().find_map(|failure| {
            let name = failure.says.iter().find_map(|says| name_in(line.as_ref(), says, failure.of))?;
            Some((failure, name))
        });
        let Some((failure, name)) = found else { continue };
        let cause = Cause {
            code: &failure.code,
            means: failure.means.replace(NAME, &name),
            advice: failure.advice.replace(NAME, &name),
        };
        // Of many similar lines, the first is reported.
        if !causes.iter().any(|known| known.code == cause.code) {
            causes.push(cause);
        }
    }
    causes
}

/// The name in a line that a pattern fits; empty for a pattern without one.
fn name_in(line: &str, pattern: &str, kind: Kind) -> Option<String> {
    let (before, after) = match pattern.split_once(NAME) {
        Some((before, after)) => (before, Some(after)),
        None => (pattern, None),
    };
    let rest = after_text(line, before)?;
    let Some(after) = after else { return Some(String::new()) };
    let name = match after.chars().next() {
        Some(_) => &rest[..rest.find(after)?],
        None => rest.split([' ', ',', ';', ')', '"', '\'']).next()?,
    };
    let name = name.trim_end_matches([':', '.']);
    (kind.fits(name) && name.len() <= LONGEST_NAME).then(|| name.to_owned())
}

/// A longer one is no name, in bytes.
const LONGEST_NAME: usize = 100;

/// What follows a text in a line; the text may leave out a part.
fn after_text<'l>(line: &'l str, text: &str) -> Option<&'l str> {
    let mut rest = line;
    for part in text.split(REST) {
        rest = &rest[rest.find(part)? + part.len()..];
    }
    Some(rest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn the_table_is_whole_and_each_code_is_there_once() {
        let table: Table = toml::from_str(TABLE).unwrap();
        let codes: BTreeSet<&str> = table.failure.iter().map(|failure| failure.code.as_str()).collect();
        assert_eq!(codes.len(), table.failure.len());
        for failure in &table.failure {
            let names = failure.means.contains(NAME) || failure.advice.contains(NAME);
            assert!(!failure.says.is_empty() && !failure.means.is_empty() && !failure.advice.is_empty());
            let lacking = failure.says.iter().find(|says| names && !says.contains(NAME));
            assert!(
                failure.code == "go-sum" || lacking.is_none(),
                "{}: {lacking:?} names nothing",
                failure.code
            );
        }
    }

    /// Lines as the programs write them, and what they mean.
    const REAL: [(&str, &str, &str); 22] = [
        (
            "<--- Last few GCs --->\nFATAL ERROR: Ineffective mark-compacts near heap limit Allocation failed - JavaScript heap out of memory",
            "heap-full",
            "the heap of Node is full",
        ),
        (
            "npm error network request to https://registry.example/horn failed, reason: getaddrinfo ENOTFOUND registry.example",
            "network-name",
            "it asked for registry.example,",
        ),
        ("curl: (6) Could not resolve host: files.example", "network-name", "it asked for files.example,"),
        ("[Errno -3] Temporary failure in name resolution", "network", "it asked for the network"),
        ("KeyError: 'DATABASE_URL'", "variable", "the build reads DATABASE_URL"),
        (
            "PrismaConfigEnvError: Missing required environment variable: DATABASE_URL",
            "variable",
            "the build reads DATABASE_URL",
        ),
        (
            "ERROR: Package 'fog' requires a different Python: 3.13.5 not in '<3.12,>=3.8'",
            "python-version",
            "Python <3.12,>=3.8",
        ),
        (
            "error @ferry/fog@2.0.0: The engine \"node\" is incompatible with this module. Expected version \">=22\". Got \"20.19.2\"",
            "node-version",
            "Node >=22",
        ),
        ("Your Ruby version is 3.3.9, but your Gemfile specified 3.2.2", "ruby-version", "Ruby 3.2.2"),
        ("[ERROR] error: release version 25 not supported", "java-version", "Java 25"),
        (
            "go: module example.org/fog@v1.2.0 requires go >= 1.26 (running go 1.24.4)",
            "go-version",
            "Go 1.26",
        ),
        (
            "app.go:3:8: missing go.sum entry for module providing package example.org/fog; to add:",
            "go-sum",
            "go.sum lacks",
        ),
        (
            "Error: error:0308010C:digital envelope routines::unsupported",
            "openssl-legacy",
            "the bundler is older",
        ),
        ("npm error ERESOLVE unable to resolve dependency tree", "peer-conflict", "other versions"),
        (
            "Error: Cannot find module @rollup/rollup-linux-x64-gnu. npm has a bug",
            "locked-elsewhere",
            "lacks a part for Linux",
        ),
        ("fatal: not a git repository (or any of the parent directories): .git", "git-asked", "asks git"),
        (
            "[vite]: Rollup failed to resolve import \"horn\" from \"/app/src/main.js\".",
            "module-missing",
            "horn is not installed",
        ),
        (
            "src/tides.ts(3,7): error TS2322: Type 'string' is not assignable to type 'number'.",
            "types",
            "the app's own code",
        ),
        (
            "Error: EROFS: read-only file system, open '/etc/fog.conf'",
            "read-only",
            "it writes to /etc/fog.conf",
        ),
        (
            "PHP Fatal error:  Allowed memory size of 134217728 bytes exhausted (tried to allocate 20480 bytes)",
            "php-memory",
            "134217728 bytes",
        ),
        ("tar: fog: Cannot write: No space left on device", "disk-full", "the disk with the store"),
        ("Error: connect ECONNREFUSED 127.0.0.1:5432", "database-at-build", "there is none while"),
    ];

    #[test]
    fn real_outputs_are_explained() {
        for (output, code, means) in REAL {
            let causes = in_output(output.lines());
            assert_eq!(causes.iter().map(|cause| cause.code).collect::<Vec<_>>(), [code], "{output}");
            assert!(causes[0].means.contains(means), "{}: {means}", causes[0].means);
            assert!(!causes[0].advice.contains('{'), "{}", causes[0].advice);
        }
    }

    #[test]
    fn what_means_nothing_is_not_explained_and_one_kind_is_told_once() {
        for line in ["done in 3 s", "KeyError: 'name'", "", "error", "warning: unused variable"] {
            assert_eq!(in_output([line]), [], "{line}");
        }
        let many =
            in_output((0..50).map(|number| format!("src/a.ts({number},1): error TS1005: ';' expected.")));
        assert_eq!(many.len(), 1);
    }
}
