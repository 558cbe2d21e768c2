//! How an app of Python is started, where no framework of the table says it.

use crate::PROJECT;
use crate::app_package::OwnPackage;
use model::{Evidence, Place, ProcessKind, ProcessType, Result};
use source::SourceTree;
use std::collections::BTreeSet;

/// Files with the object that a server is given.
pub(super) const SERVED_FILES: [&str; 2] = ["wsgi.py", "asgi.py"];
/// Files that are evidence of an app, and start it if nothing else does.
pub(super) const ENTRY_FILES: [&str; 2] = ["app.py", "main.py"];
/// Files that start an app, but are not evidence of one.
const MORE_ENTRIES: [&str; 1] = ["server.py"];
/// Calls at the top of a script that go on until it is stopped.
const RUNS: [&str; 6] = [".run(", ".launch(", "run_app(", "serve(", ".serve_forever(", ".start_polling("];
/// How commands begin that prepare something, and end.
const PREPARES: [&str; 8] = ["init", "setup", "create", "migrate", "load", "import", "seed", "populate"];

/// The object in a file with a telling name, and the server that is declared for its kind.
pub(super) fn served_file(
    tree: &SourceTree,
    packages: &BTreeSet<String>,
    evidence: &mut Vec<Evidence>,
) -> Result<Option<ProcessType>> {
    let servers: [(&str, &str, &[&str]); 3] = [
        ("wsgi.py", "gunicorn", &["gunicorn"]),
        ("asgi.py", "uvicorn", &["uvicorn", "--host", "0.0.0.0", "--port", "$PORT"]),
        ("asgi.py", "hypercorn", &["hypercorn", "--bind", "0.0.0.0:$PORT"]),
    ];
    for (file, package, command) in servers {
        let Some(text) = tree.read(file)?.filter(|_| packages.contains(package)) else { continue };
        let defines = |name: &&str| {
            let word =
                |line: &str| line.split(|c: char| !(c.is_alphanumeric() || c == '_')).any(|w| w == *name);
            text.lines().any(|line| !line.starts_with([' ', '#']) && word(line))
        };
        let Some(object) = ["application", "app"].into_iter().find(|name| defines(name)) else { continue };
        let place = Place::find(file, &text, object);
        evidence.push(Evidence::speaks_for(place.clone(), object, "the object that a server is given"));
        let given = format!("{}:{object}", file.trim_end_matches(".py"));
        let mut words = command.to_vec();
        words.insert(1, &given);
        return Ok(Some(ProcessType::found("web", ProcessKind::Process, &words, place)));
    }
    Ok(None)
}

/// A script with a telling name that runs when it is executed.
pub(super) fn web_process(tree: &SourceTree, evidence: &mut Vec<Evidence>) -> Result<Option<ProcessType>> {
    for file in ENTRY_FILES.into_iter().chain(MORE_ENTRIES) {
        let Some(text) = tree.read(file)? else { continue };
        let runs = |line: &&str| {
            let at_top = line.starts_with(|c: char| c.is_ascii_alphabetic())
                && !line.starts_with("def ")
                && !line.contains("subprocess.");
            line.starts_with("if __name__ ") || at_top && RUNS.iter().any(|call| line.contains(call))
        };
        let Some(line) = text.lines().find(runs) else { continue };
        let said = Place::find(file, &text, line);
        evidence.push(Evidence::speaks_for(said.clone(), line.trim(), "a script that starts the app"));
        let command = ["python", file];
        return Ok(Some(ProcessType::found("web", ProcessKind::Process, &command, said)));
    }
    Ok(None)
}

/// The only command of an app that is a package.
pub(super) fn own_command(
    tree: &SourceTree,
    evidence: &mut Vec<Evidence>,
    own_commands: &mut BTreeSet<String>,
) -> Result<Option<ProcessType>> {
    // Errors in the file are reported where it is needed.
    let Ok(Some(own)) = OwnPackage::of(tree, false) else { return Ok(None) };
    own_commands.extend(own.commands().map(str::to_owned));
    let commands: Vec<&str> = own.commands().collect();
    let prepares = |command: &&&str| PREPARES.iter().any(|word| command.starts_with(word));
    let commands: Vec<&str> = commands.iter().filter(|command| !prepares(command)).copied().collect();
    let ([command], Some(text)) = (&commands[..], tree.read(PROJECT)?) else { return Ok(None) };
    let said = Place::find(PROJECT, &text, "scripts]");
    evidence.push(Evidence::speaks_for(said.clone(), *command, "the command of the project"));
    Ok(Some(ProcessType::found("web", ProcessKind::Process, &[command], said)))
}

/// The settings of an app of Pyramid (PasteDeploy), for production first.
const SETTINGS: [&str; 2] = ["production.ini", "development.ini"];

/// An app of Pyramid: its settings name the app, and the server gets the port from us.
pub(super) fn by_settings(
    tree: &SourceTree,
    packages: &BTreeSet<String>,
    evidence: &mut Vec<Evidence>,
) -> Result<Vec<ProcessType>> {
    for file in SETTINGS {
        let Some(text) = tree.read(file)?.filter(|text| text.contains("[app:main]")) else { continue };
        let place = Place::find(file, &text, "[app:main]");
        evidence.push(Evidence::speaks_for(place.clone(), "[app:main]", "the settings of an app of Pyramid"));
        let served = format!(
            "from os import environ; from pyramid.paster import get_app, setup_logging; from waitress import serve; \
             setup_logging('{file}'); serve(get_app('{file}'), port=environ['PORT'])"
        );
        let by_gunicorn = ["gunicorn", "--paste", file];
        let by_waitress = ["python", "-c", &served];
        let mut found = Vec::new();
        if packages.contains("gunicorn") {
            found.push(ProcessType::found("web", ProcessKind::Process, &by_gunicorn, place.clone()));
        } else if packages.contains("waitress") {
            found.push(ProcessType::found("web", ProcessKind::Process, &by_waitress, place.clone()));
        }
        if packages.contains("alembic") && text.contains("[alembic]") {
            let place = Place::find(file, &text, "[alembic]");
            let words = ["alembic", "--config", file, "upgrade", "head"];
            found.push(ProcessType::found("migrate", ProcessKind::Task, &words, place));
        }
        return Ok(found);
    }
    Ok(Vec::new())
}
