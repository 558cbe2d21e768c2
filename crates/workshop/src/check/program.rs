//! Whether the image has what a start command names: programs of the base, the runtime or a package, and modules.

use crate::check::packages::Installed;
use crate::check::{Found, Subject, error, warning};
use model::shell_words::{CommandLine, commands, shell_script, split};
use model::{Finding, ProcessType, Result, names};
use std::collections::BTreeSet;

/// Programs of each runtime.
const RUNTIMES: [(&str, &[&str]); 5] = [
    ("node", &["node"]),
    ("python", &["python", "python3"]),
    ("ruby", &["ruby", "gem", "irb", "rake", "bundle"]),
    ("php", &["php", "apache2", "php-fpm"]),
    ("java", &["java"]),
];
/// What a Debian base has, and what its shell can do by itself.
const BASE: [&str; 34] = [
    "sh", "dash", "env", "cd", "echo", "exec", "export", "set", "test", "[", "true", "false", ":", "umask",
    "wait", "trap", "ulimit", "printf", "exit", "return", "read", "shift", "eval", "unset", "command",
    "type", "kill", "pwd", "times", "alias", "getopts", "hash", "local", ".",
];
/// Commands of Python packages that have another name than the package.
const PYTHON: [(&str, &str); 12] = [
    ("waitress-serve", "waitress"),
    ("django-admin", "django"),
    ("fastapi", "fastapi-cli"),
    ("jupyter", "jupyter-core"),
    ("dramatiq-gevent", "dramatiq"),
    ("rq", "rq"),
    ("arq", "arq"),
    ("taskiq", "taskiq"),
    ("huey_consumer", "huey"),
    ("huey_consumer.py", "huey"),
    ("aiohttp-devtools", "aiohttp-devtools"),
    ("sanic", "sanic"),
];
/// Commands of Python packages that have the package's name; a misspelt name is compared with them.
const PYTHON_SAME: [&str; 20] = [
    "gunicorn",
    "uvicorn",
    "hypercorn",
    "daphne",
    "granian",
    "celery",
    "flask",
    "streamlit",
    "chainlit",
    "gradio",
    "alembic",
    "mkdocs",
    "sphinx",
    "pelican",
    "litestar",
    "dramatiq",
    "prefect",
    "dagster",
    "mlflow",
    "robyn",
];
/// Commands of npm packages that have another name than the package.
const NODE: [(&str, &str); 10] = [
    ("nest", "@nestjs/cli"),
    ("remix-serve", "@remix-run/serve"),
    ("react-router-serve", "@react-router/serve"),
    ("ng", "@angular/cli"),
    ("tsc", "typescript"),
    ("docusaurus", "@docusaurus/core"),
    ("nuxi", "nuxt"),
    ("babel-node", "@babel/node"),
    ("strapi", "@strapi/strapi"),
    ("medusa", "@medusajs/medusa-cli"),
];

/// Commands of gems that have another name than the gem.
const RUBY: [(&str, &str); 7] = [
    // Until its third series, it brings the command itself.
    ("rackup", "rack"),
    ("rails", "railties"),
    ("hanami", "hanami-cli"),
    ("rspec", "rspec-core"),
    ("cap", "capistrano"),
    ("karafka", "karafka"),
    ("sneakers", "sneakers"),
];
/// Commands that are called like their gem.
const RUBY_SAME: [&str; 14] = [
    "puma",
    "unicorn",
    "thin",
    "falcon",
    "iodine",
    "passenger",
    "sidekiq",
    "resque",
    "shoryuken",
    "clockwork",
    "good_job",
    "jekyll",
    "middleman",
    "foreman",
];

/// What stands for the same whatever it runs: the program is the next word.
const WRAPPERS: [&str; 3] = ["exec", "env", "tini"];

/// One program of a process: its words from the program on.
struct Started<'p> {
    process: &'p ProcessType,
    words: Vec<String>,
}

/// Every program that the processes start, followed through shells.
fn started<'p>(processes: &'p [ProcessType]) -> Vec<Started<'p>> {
    let mut all = Vec::new();
    for process in processes {
        let lines: Vec<Vec<String>> = match shell_script(&process.command) {
            // What holds loops and conditions is not taken apart.
            Some(script) if script.contains('\n') || has_keywords(&script) => continue,
            Some(script) => commands(&script)
                .into_iter()
                .filter(|one| split(one).is_ok())
                .map(|one| CommandLine::parse(one).words)
                .collect(),
            None => vec![process.command.clone()],
        };
        all.extend(lines.into_iter().map(|words| Started { process, words: without_wrappers(words) }));
    }
    all.retain(|started| !started.words.is_empty() && shell_script(&started.words).is_none());
    all
}

/// Whether a script has what begins or ends a condition, a loop or a group.
fn has_keywords(script: &str) -> bool {
    const WORDS: [&str; 9] = ["if", "then", "fi", "for", "while", "do", "done", "{", "case"];
    script.split([' ', ';']).any(|word| WORDS.contains(&word))
}

fn without_wrappers(mut words: Vec<String>) -> Vec<String> {
    if words.len() > 2 && words[..2] == ["bundle", "exec"] {
        words.drain(..2);
    }
    while words.first().is_some_and(|word| WRAPPERS.contains(&word.as_str())) {
        words.remove(0);
        while words.first().is_some_and(|word| word.starts_with('-') || word.contains('=')) {
            words.remove(0);
        }
    }
    words
}

/// A program that the image will not have.
pub(super) fn missing(subject: &Subject<'_>) -> Result<Vec<Found>> {
    // The content of a foreign image is unknown before it is fetched.
    if subject.survey.base.0.starts_with("oci:") {
        return Ok(Vec::new());
    }
    let main: Vec<&Finding> = crate::survey::contributing(subject.survey, &subject.app.config).collect();
    // What is compiled is called as its own source says.
    if main.iter().any(|finding| finding.runtime.as_ref().is_some_and(|wish| wish.for_build)) {
        return Ok(Vec::new());
    }
    let mut installed = Vec::new();
    for finding in &main {
        installed.push((*finding, Installed::of(subject, finding)?));
    }
    let known = known_programs(&installed);
    let mut found = Vec::new();
    for Started { process, words } in started(&subject.survey.processes) {
        let Some(program) = words.first() else { continue };
        if program.contains(['/', '$']) || known.contains(program.as_str()) {
            continue;
        }
        let at = process.said.clone();
        let name = &process.name;
        if let Some((package, development, language)) = of_package(program, &installed) {
            let what = match development {
                true => format!(
                    "{name} starts {program}, but {package} is a development package, so it is not in the image"
                ),
                false => format!("{name} starts {program}, but {package} is not declared"),
            };
            found.push(error(at, what, declare(subject, &package, language)));
        } else if let Some(nearest) = names::nearest(program, known.iter().copied().chain(PYTHON_SAME)) {
            found.push(error(
                at,
                format!("{name} starts {program}, which is not in the image"),
                format!("did you mean {nearest}?"),
            ));
        } else if installed.iter().any(|(_, one)| !one.all_commands)
            || !subject.app.config.base_packages.is_empty()
        {
            // Only the packages themselves say which commands they have.
            let is_likely = installed.iter().any(|(_, one)| one.names.contains(program));
            if !is_likely {
                let advice = "declare the package that provides it, or correct the command";
                found.push(warning(
                    at,
                    format!("{name} starts {program}, which no package is known to provide"),
                    advice,
                ));
            }
        } else {
            let advice = "declare the package that provides it, name a Debian package in [base] packages, or correct the command";
            found.push(error(at, format!("{name} starts {program}, which is not in the image"), advice));
        }
    }
    Ok(found)
}

/// A program of the build that nothing declares, where it is known which package has it.
pub(super) fn missing_for_build(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(build) = &subject.survey.build else { return Ok(Vec::new()) };
    let words = without_wrappers(build.command.run.clone());
    let program = match &words[..] {
        [python, option, module, ..] if python == "python" && option == "-m" => module,
        [program, ..] => program,
        [] => return Ok(Vec::new()),
    };
    let mut found = Vec::new();
    for finding in subject.survey.chosen_findings().filter(|f| build.command.tools.contains(&f.buildpack)) {
        let installed = Installed::of(subject, finding)?;
        let Some((package, is_development, language)) = of_package(program, &[(finding, installed)])
            .map(|(package, is_development, language)| (package, is_development, language.to_owned()))
        else {
            continue;
        };
        if !is_development {
            let what = format!("the build runs {program}, but {package} is not declared");
            found.push(error(build.said.clone(), what, declare(subject, &package, &language)));
        }
    }
    Ok(found)
}

fn known_programs<'k>(installed: &'k [(&Finding, Installed)]) -> BTreeSet<&'k str> {
    let mut known: BTreeSet<&str> = BASE.into_iter().collect();
    for (finding, packages) in installed {
        let runtime = finding.runtime.as_ref().map(|wish| wish.runtime.as_str());
        let own = RUNTIMES.iter().find(|(name, _)| Some(*name) == runtime);
        known.extend(own.into_iter().flat_map(|(_, programs)| programs.iter().copied()));
        known.extend(packages.commands.iter().map(String::as_str));
        known.extend(finding.own_commands.iter().map(String::as_str));
        if packages.all_commands {
            continue;
        }
        let table: &[(&str, &str)] = match finding.buildpack.as_str() {
            "python" => &PYTHON,
            "ruby" => &RUBY,
            _ => &NODE,
        };
        known.extend(
            table.iter().filter(|(_, package)| packages.names.contains(*package)).map(|(name, _)| *name),
        );
        known.extend(packages.names.iter().map(String::as_str));
    }
    known
}

/// The package that a program is known to be of, when the image will not have that: its name, whether it is only for
/// development, and its language.
fn of_package<'i>(program: &str, installed: &'i [(&Finding, Installed)]) -> Option<(String, bool, &'i str)> {
    installed.iter().find_map(|(finding, packages)| {
        let (table, same): (&[(&str, &str)], &[&str]) = match finding.buildpack.as_str() {
            "python" => (&PYTHON, &PYTHON_SAME),
            "node" => (&NODE, &[]),
            "ruby" => (&RUBY, &RUBY_SAME),
            _ => return None,
        };
        let named = table.iter().find(|(name, _)| *name == program).map(|(_, package)| *package);
        let own = || same.iter().copied().find(|name| *name == program);
        let development = finding.development.contains(program);
        let package = named.or_else(own).or_else(|| development.then_some(program))?;
        let is_there = packages.names.contains(package);
        let development = finding.development.contains(package);
        (!is_there).then(|| (package.to_owned(), development, finding.buildpack.as_str()))
    })
}

/// The line that declares a package.
pub(super) fn declare(subject: &Subject<'_>, package: &str, language: &str) -> String {
    let has = |file: &str| subject.tree.has(file);
    match language {
        "node" => format!("run `npm install {package}` and commit package.json and the lockfile"),
        "python" if has("uv.lock") => format!("run `uv add {package}` and commit the lockfile"),
        "python" if has("poetry.lock") => format!("run `poetry add {package}` and commit the lockfile"),
        "python" if has("pdm.lock") => format!("run `pdm add {package}` and commit the lockfile"),
        "python" if has("Pipfile") => format!("run `pipenv install {package}` and commit the lockfile"),
        "python" if has("requirements.txt") => format!("add the line {package} to requirements.txt"),
        "python" if has("pyproject.toml") => {
            format!("in pyproject.toml, under [project]: add \"{package}\" to dependencies")
        }
        "python" => format!("create requirements.txt with the line {package}"),
        "ruby" => format!("run `bundle add {package}` and commit Gemfile and Gemfile.lock"),
        _ => format!("declare and lock {package}"),
    }
}

/// Programs that are given the module of an app, as in `harbour.main:app`.
const SERVERS: [&str; 7] =
    ["gunicorn", "uvicorn", "hypercorn", "daphne", "granian", "waitress-serve", "uwsgi"];
/// Options whose value is the folder that modules are looked for in.
const FOLDERS: [&str; 3] = ["--chdir", "--app-dir", "--pythonpath"];

/// Where the source may have the modules that a process gives to servers.
pub(super) fn module_files(process: &ProcessType) -> Vec<String> {
    let all = started(std::slice::from_ref(process));
    all.iter().filter_map(|one| given_module(&one.words)).flat_map(|given| given.candidates).collect()
}

/// The module and the object that a server is given.
struct Given<'w> {
    module: &'w str,
    object: &'w str,
    /// The files that the module may be.
    candidates: [String; 4],
}

fn given_module(words: &[String]) -> Option<Given<'_>> {
    let (program, rest) = words.split_first()?;
    if !SERVERS.contains(&program.as_str()) {
        return None;
    }
    let (module, object) = rest.iter().find_map(|word| module_and_object(word))?;
    let folder =
        words.windows(2).find(|pair| FOLDERS.contains(&pair[0].as_str())).map(|pair| pair[1].as_str());
    let below = folder.map_or(String::new(), |folder| format!("{}/", folder.trim_matches('/')));
    let path = format!("{below}{}", module.replace('.', "/"));
    let candidates = [
        format!("{path}.py"),
        format!("{path}/__init__.py"),
        format!("src/{path}.py"),
        format!("src/{path}/__init__.py"),
    ];
    Some(Given { module, object, candidates })
}

/// A module that a server is given and the source does not have, or that has no such object.
pub(super) fn module(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    for Started { process, words } in started(&subject.survey.processes) {
        let Some(Given { module, object, candidates }) = given_module(&words) else { continue };
        let top = module.split('.').next().unwrap_or(module);
        let Some(file) = candidates.iter().find(|file| subject.tree.has(file)) else {
            let declared =
                subject.survey.chosen_findings().any(|f| f.declared.iter().any(|name| name.contains(top)));
            if !declared && subject.survey.build.is_none() {
                let what =
                    format!("{} starts the module {module}, but there is no {}", process.name, candidates[0]);
                found.push(error(process.said.clone(), what, "correct the name of the module"));
            }
            continue;
        };
        let name = object.split(['.', '(']).next().unwrap_or(object);
        let text = subject.tree.read(file)?.unwrap_or_default();
        let has_word = text.split(|c: char| !(c.is_alphanumeric() || c == '_')).any(|word| word == name);
        if !has_word && !text.contains("import *") {
            let what = format!("{} starts {module}:{object}, but {file} has no {name}", process.name);
            found.push(error(process.said.clone(), what, "correct the name of the object"));
        }
    }
    Ok(found)
}

/// `harbour.main:app`, if a word has that form.
fn module_and_object(word: &str) -> Option<(&str, &str)> {
    let (module, object) = word.split_once(':')?;
    let is_name = |text: &str| {
        let plain = text.chars().all(|c| c.is_alphanumeric() || "_.()".contains(c));
        plain && !text.is_empty() && !text.starts_with(|c: char| c.is_ascii_digit())
    };
    (is_name(module) && is_name(object)).then_some((module, object))
}
