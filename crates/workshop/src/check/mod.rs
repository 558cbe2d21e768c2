//! Preflight: everything that can be known from the source and would break the build or the start.
//!
//! A rule is an entry of [`RULES`]: a stable code, what it is about, and a function that finds. A
//! wrong alarm is worse than none, so a rule that is not sure says nothing, or only warnings.

mod code;
mod content;
mod data;
mod embedded;
mod house;
mod imports;
mod locks;
mod network;
mod packages;
mod program;
mod python_imports;
mod runtime;
mod settings;
mod start;

pub(crate) use house::day_of;

use crate::app::App;
use crate::plan::Worklist;
use crate::survey::Survey;
use engine::StepContext;
use model::error::SurveyError;
use model::{Error, Place, Result};
use serde::Serialize;
use source::SourceTree;

/// How sure a rule is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The build or the start will fail.
    Error,
    /// It may fail, or go wrong later.
    Warning,
}

/// One thing that a rule found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Problem {
    /// The code of the rule.
    pub code: &'static str,
    /// How sure it is.
    pub severity: Severity,
    /// Where it is.
    pub place: Option<Place>,
    /// What is wrong.
    pub what: String,
    /// What to do.
    pub advice: String,
}

/// What a rule found, without the code.
struct Found {
    severity: Severity,
    place: Option<Place>,
    what: String,
    advice: String,
}

fn error(place: impl Into<Option<Place>>, what: impl Into<String>, advice: impl Into<String>) -> Found {
    Found { severity: Severity::Error, place: place.into(), what: what.into(), advice: advice.into() }
}

fn warning(place: impl Into<Option<Place>>, what: impl Into<String>, advice: impl Into<String>) -> Found {
    Found { severity: Severity::Warning, ..error(place, what, advice) }
}

/// A rule.
pub struct Rule {
    /// Stable; `wording` explains it.
    pub code: &'static str,
    /// What it is about, in one line.
    pub about: &'static str,
    find: fn(&Subject<'_>) -> Result<Vec<Found>>,
}

/// What a check looks at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scope {
    /// The source, and what registries say of its packages.
    All,
    /// The source alone.
    Source,
}

/// The code of the rule that asks registries.
const WITHDRAWN: &str = "package-withdrawn";

/// What rules look at.
struct Subject<'a> {
    app: &'a App,
    tree: &'a SourceTree,
    survey: &'a Survey,
    planned: &'a Result<Worklist>,
    tools: &'a StepContext<'a>,
}

/// The code of what the planning itself finds.
pub const PLAN_FAILS: &str = "plan-fails";

/// Every rule, in the order in which their problems are listed.
pub const RULES: &[Rule] = &[
    Rule { code: "buildpack-problem", about: "a buildpack reports a problem", find: start::of_buildpacks },
    Rule { code: "start-missing", about: "no start command found", find: start::missing },
    Rule {
        code: "server-missing",
        about: "the server of the start command is not declared",
        find: start::server,
    },
    Rule {
        code: "start-program",
        about: "the start command names a program that the image does not have",
        find: program::missing,
    },
    Rule {
        code: "build-program",
        about: "the build runs a program that no declared package has",
        find: program::missing_for_build,
    },
    Rule { code: "build-network", about: "the code makes the build fetch something", find: network::fetched },
    Rule {
        code: "start-module",
        about: "the start command names a module or object that does not exist",
        find: program::module,
    },
    Rule {
        code: "embed-missing",
        about: "a file that is embedded in the program is not packed",
        find: embedded::missing,
    },
    Rule {
        code: "start-file",
        about: "the start command names a file that is not packed",
        find: start::file,
    },
    Rule {
        code: "docroot-missing",
        about: "the folder with the pages has no index page",
        find: start::docroot,
    },
    Rule { code: "migration-untied", about: "a migration is not tied to a release", find: start::migration },
    Rule { code: "port-fixed", about: "the port is fixed in the code", find: code::port_fixed },
    Rule {
        code: "loopback-only",
        about: "the app listens on the loopback address only",
        find: code::loopback_only,
    },
    Rule {
        code: "development-package",
        about: "a development package is used at run time",
        find: imports::packages,
    },
    Rule {
        code: "import-undeclared",
        about: "the code imports an undeclared package",
        find: imports::undeclared,
    },
    Rule {
        code: "import-missing",
        about: "the code imports a file that is not packed",
        find: imports::files,
    },
    Rule { code: "lock-missing", about: "packages are declared but not locked", find: locks::missing },
    Rule { code: "lock-stale", about: "the lockfile does not match its manifest", find: locks::stale },
    Rule { code: WITHDRAWN, about: "a locked version was withdrawn or deprecated", find: locks::withdrawn },
    Rule {
        code: "system-library",
        about: "a package needs a library that the base lacks",
        find: locks::system_library,
    },
    Rule {
        code: "build-package",
        about: "a package that has to be built needs a header or program that is missing",
        find: locks::build_package,
    },
    Rule {
        code: "library-missing",
        about: "a file in the last image needs a shared library that the image lacks",
        find: locks::libraries,
    },
    Rule {
        code: "runtime-older",
        about: "a locked package requires a newer runtime",
        find: runtime::older_than_wanted,
    },
    Rule { code: "runtime-unmet", about: "no runtime meets the constraint", find: runtime::unmet },
    Rule {
        code: "runtime-unsupported",
        about: "the runtime is past its end of support",
        find: runtime::unsupported,
    },
    Rule {
        code: "runtime-contradiction",
        about: "two places require different runtime versions",
        find: runtime::contradiction,
    },
    Rule {
        code: "setting-undeclared",
        about: "the code reads an undeclared variable without a default",
        find: settings::undeclared,
    },
    Rule {
        code: "setting-reserved",
        about: "a setting has a name that shtetl itself sets",
        find: settings::reserved,
    },
    Rule {
        code: "setting-misplaced",
        about: "a build parameter is declared as a setting",
        find: settings::misplaced,
    },
    Rule {
        code: "secret-committed",
        about: "a file of the source contains a secret's value",
        find: settings::secret,
    },
    Rule {
        code: "data-unwritable",
        about: "the code writes to a folder that is read-only in the image",
        find: data::unwritable,
    },
    Rule {
        code: "name-reserved",
        about: "a file's name hides files of lower layers",
        find: content::whiteouts,
    },
    Rule {
        code: "content-unexpected",
        about: "database files or installed packages are packed",
        find: content::unexpected,
    },
    Rule { code: "house-base", about: "the house rules do not allow the base", find: house::base },
    Rule {
        code: "house-buildpack",
        about: "the house rules do not allow a buildpack",
        find: house::buildpack,
    },
    Rule {
        code: "house-registry",
        about: "the house rules do not allow a server that the app uses",
        find: house::registry,
    },
    Rule {
        code: "house-setting",
        about: "a setting required by the house rules is missing",
        find: house::setting,
    },
    Rule {
        code: "house-support",
        about: "base or runtime are not supported for as long as the house rules require",
        find: house::support,
    },
    Rule { code: PLAN_FAILS, about: "the build cannot be planned", find: plan_fails },
];

/// Applies every rule to an app; `planned` is its worklist or why there is none. Registries are asked
/// as far as `tools` may.
pub fn check(
    app: &App,
    planned: &Result<Worklist>,
    tools: &StepContext<'_>,
    scope: Scope,
) -> Result<Vec<Problem>> {
    let subject = Subject { app, tree: &app.tree, survey: &app.survey, planned, tools };
    let mut problems: Vec<Problem> = Vec::new();
    for rule in RULES.iter().filter(|rule| scope == Scope::All || rule.code != WITHDRAWN) {
        // A failure of planning is reported by the rule that knows more about it.
        if rule.code == PLAN_FAILS && problems.iter().any(|p| p.severity == Severity::Error) {
            continue;
        }
        problems.extend((rule.find)(&subject)?.into_iter().map(|found| Problem {
            code: rule.code,
            severity: found.severity,
            place: found.place,
            what: found.what,
            advice: found.advice,
        }));
    }
    problems.sort_by_key(|p| p.severity);
    Ok(problems)
}

fn plan_fails(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Err(fault) = subject.planned else { return Ok(Vec::new()) };
    Ok(match fault {
        Error::Survey(SurveyError::Unsupported { place, what, instead }) => {
            vec![error(place.clone(), format!("{what}: not supported by this version"), *instead)]
        }
        Error::Survey(SurveyError::Malformed { place, detail }) => {
            vec![error(place.clone(), detail.as_str(), "correct the file, or regenerate it")]
        }
        other => vec![error(None, other.to_string(), "`shtetl build` shows more")],
    })
}
