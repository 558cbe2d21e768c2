//! Rules of how the app is started.

use crate::check::program::declare;
use crate::check::{Found, Subject, error, warning};
use model::{Finding, Place, Problem, ProcessKind, Result, Sign, Speaks};
use planning::frameworks;

/// What buildpacks know to be wrong.
pub(super) fn of_buildpacks(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let all = subject
        .survey
        .chosen_findings()
        .flat_map(|finding| finding.problems.iter().map(move |one| (finding, one)));
    let told = |(finding, problem): (&Finding, &Problem)| {
        let what = format!("{} ({}: {})", problem.says, finding.buildpack, problem.code);
        let tell = if problem.breaks { error } else { warning };
        tell(Some(problem.place.clone()), what, problem.advice.clone())
    };
    Ok(all.map(told).collect())
}

pub(super) fn missing(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let has_server_problem = !server(subject)?.is_empty();
    if !subject.survey.processes.is_empty() || has_server_problem {
        return Ok(Vec::new());
    }
    let advice = "in shtetl.toml: [process.web], then run = \"the command\"".to_owned();
    let modules: Vec<&str> = with_sign(subject, Sign::Module).collect();
    if let [first, ..] = modules[..] {
        let advice = format!("in shtetl.toml, under [buildpacks.java]: module = {first:?}");
        return Ok(vec![error(
            None,
            format!("several modules are runnable: {}", modules.join(", ")),
            advice,
        )]);
    }
    let members: Vec<&str> = with_sign(subject, Sign::Member).collect();
    if let [first, ..] = members[..] {
        let advice = format!("choose a member, for example --member {first}");
        let which = if members.len() == 1 {
            "only a member of the workspace can be started"
        } else {
            "members of the workspace can be started"
        };
        let what = format!("{which}: {}", members.join(", "));
        return Ok(vec![error(None, what, advice)]);
    }
    Ok(vec![error(None, "no start command found", advice)])
}

/// The folders of members or modules that start by themselves, where there are several.
fn with_sign<'s>(subject: &'s Subject<'_>, sign: Sign) -> impl Iterator<Item = &'s str> {
    let evidence = subject.survey.chosen_findings().flat_map(|finding| &finding.evidence);
    evidence.filter(move |e| e.sign == Some(sign)).map(|e| e.value.as_str())
}

pub(super) fn server(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found: Vec<Found> = Vec::new();
    for finding in subject.survey.chosen_findings() {
        let none_serves = !subject.survey.processes.iter().any(|p| p.name == "web");
        let against = finding.evidence.iter().filter(|e| e.speaks == Speaks::Against);
        for evidence in against.filter(|e| none_serves && e.sign == Some(Sign::NoServer)) {
            let adapter = frameworks::adapter_for(&evidence.value);
            let Some(package) = adapter.or(frameworks::server_for(&evidence.value)) else { continue };
            let mut advice = declare(subject, package, &finding.buildpack);
            if adapter.is_some() {
                advice = format!("{advice}, and name it as the adapter in the framework's configuration");
            }
            let framework = frameworks::package_of(&evidence.value).filter(|_| finding.buildpack == "python");
            if let Some(framework) = framework.filter(|package| !finding.declared.contains(*package)) {
                advice = format!("{advice}, and one with {framework}");
            }
            // A framework is built on another one: the same server is enough for both.
            if found.iter().any(|other| other.advice == advice) {
                continue;
            }
            found.push(error(
                evidence.place.clone(),
                format!("{}: {}", evidence.value, evidence.tells),
                advice,
            ));
        }
    }
    Ok(found)
}

/// File name endings of what is run as it is, without being built first.
const SOURCES: [&str; 8] = [".js", ".mjs", ".cjs", ".py", ".rb", ".php", ".jar", ".sh"];

/// The file from which an app that Maven builds is started.
const START_FILE: &str = "@start.args";

/// Start commands of Java apps that do not fit how the app is built.
fn of_another_build(subject: &Subject<'_>) -> Vec<Found> {
    let survey = subject.survey;
    let Some(java) = survey.chosen_findings().find(|finding| finding.buildpack == "java") else {
        return Vec::new();
    };
    let by_maven = |words: &[String]| words.iter().any(|word| word == START_FILE);
    let maven_builds = java.processes.iter().any(|process| by_maven(&process.command));
    let is_archive =
        |word: &&String| word.contains("target/") && (word.ends_with(".jar") || word.ends_with(".war"));
    let mut found = Vec::new();
    for process in &survey.processes {
        let at = process.said.clone();
        match &survey.build {
            Some(_) if by_maven(&process.command) && !subject.tree.has(&START_FILE[1..]) => {
                let what = "the command under [build] replaces the Maven build, which would write start.args";
                let advice = "name the archive that it produces: under [process.web], run = \"java -jar target/NAME.jar\"";
                found.push(error(at, what, advice));
            }
            None if maven_builds => found.extend(process.command.iter().find(is_archive).map(|archive| {
                let what =
                    format!("{} needs {archive}, which the image contains in unpacked form", process.name);
                error(at, what, format!("start it with run = \"java {START_FILE}\""))
            })),
            _ => {}
        }
    }
    found
}

pub(super) fn file(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let builds =
        subject.survey.build.is_some() || subject.survey.chosen_findings().any(|f| f.buildpack == "java");
    let mut found = of_another_build(subject);
    found.extend(build_script(subject));
    for process in &subject.survey.processes {
        for word in &process.command {
            let path = process.path_of(word);
            let path = path.as_str();
            let own = path.contains('/') || SOURCES.iter().any(|end| path.ends_with(end));
            let plain = path.chars().all(|c| c.is_ascii_alphanumeric() || "-_./".contains(c));
            if !own || !plain || word.starts_with(['/', '-']) || subject.tree.has(path) {
                continue;
            }
            let at = process.said.clone();
            let on_disk = subject.app.opened.root.join(path);
            if on_disk.is_file() {
                let what = format!("{} needs {path}, which a rule excludes", process.name);
                found.push(error(at, what, format!("in shtetl.toml, under [source]: include = [{path:?}]")));
            } else if let Some(other) = other_case(subject, path) {
                let what = format!("{} names {path}, but the file is {other}", process.name);
                found.push(error(
                    at,
                    what,
                    "use the file's exact name: file names are case-sensitive in images",
                ));
            } else if SOURCES.iter().any(|end| path.ends_with(end)) && !on_disk.exists() && !builds {
                let what = format!("{} needs {path}, which is not in the source", process.name);
                found.push(error(at, what, "add the file, or correct the command"));
            }
        }
    }
    Ok(found)
}

/// A script that the build begins with and that is not there.
fn build_script(subject: &Subject<'_>) -> Option<Found> {
    let build = subject.survey.build.as_ref()?;
    let script = node::first_script(&build.shown)?;
    let path = match build.folder.as_str() {
        "" => script.to_owned(),
        folder => format!("{folder}/{script}"),
    };
    if subject.tree.has(&path) {
        return None;
    }
    let at = build.said.clone();
    Some(match subject.app.opened.root.join(&path).is_file() {
        true => {
            let advice = format!("in shtetl.toml, under [source]: include = [{path:?}]");
            error(at, format!("the build needs {path}, which a rule excludes"), advice)
        }
        false => {
            let what = format!("the build needs {path}, which is not in the source");
            error(at, what, "add the file, or correct the command")
        }
    })
}

/// A file whose name differs from `path` only by capitals.
pub(super) fn other_case<'t>(subject: &'t Subject<'_>, path: &str) -> Option<&'t str> {
    let lower = path.to_lowercase();
    subject.tree.files().keys().map(String::as_str).find(|f| *f != path && f.to_lowercase() == lower)
}

pub(super) fn docroot(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let mut found = Vec::new();
    // Pages that a build makes are not there yet; where it does not, its step says so.
    let pages = ("static", "index.html", subject.survey.build.is_none());
    for (name, index, is_in_source) in [pages, ("php", "index.php", true)] {
        let Some(root) = subject.app.config.buildpacks.get(name).and_then(|o| o.text("docroot")) else {
            continue;
        };
        let root = root.trim_matches('/').trim_start_matches("./");
        let path = if root.is_empty() || root == "." { index.to_owned() } else { format!("{root}/{index}") };
        let is_chosen = subject.survey.chosen.iter().any(|chosen| chosen == name);
        if is_chosen && is_in_source && !subject.tree.has(&path) {
            let place = Place::new(model::files::CONFIG, None);
            let what = format!("the docroot {root:?} has no {index}");
            found.push(error(place, what, "correct docroot, or add the page"));
        }
    }
    Ok(found)
}

pub(super) fn migration(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let evidence = subject.survey.chosen_findings().flat_map(|finding| &finding.evidence);
    let at_start: Vec<_> =
        evidence.filter(|e| e.sign == Some(Sign::MigratesAtStart)).map(|e| &e.place).collect();
    let untied = subject
        .survey
        .processes
        .iter()
        .filter(|p| p.kind == ProcessKind::Task && p.before.is_none() && p.name.starts_with("migrat"))
        .filter(|p| !at_start.contains(&&p.said));
    Ok(untied
        .map(|task| {
            let advice = format!("in shtetl.toml, under [task.{}]: before = \"release\"", task.name);
            warning(
                task.said.clone(),
                format!("the task {} runs only when it is started by hand", task.name),
                advice,
            )
        })
        .collect())
}
