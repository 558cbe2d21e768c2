//! Process types: what the source shows, changed by what the configuration says.

use config::{Effective, Layer, ProcessConfig};
use model::error::SurveyError;
use model::files::CONFIG;
use model::shell_words::CommandLine;
use model::{Error, Finding, Place, ProcessKind, ProcessType, Result, in_folder};
use std::collections::BTreeMap;

/// The default port of a `web` process.
const WEB_PORT: u16 = 8080;

/// `member` is the folder of the member of a workspace that the app is; empty when it is the whole.
pub(super) fn merge(
    (main, additions): (Option<&Finding>, &[&Finding]),
    effective: &Effective,
    member: &str,
) -> Result<Vec<ProcessType>> {
    let found = main.map(|f| f.processes.as_slice()).unwrap_or_default();
    let mut all: BTreeMap<String, ProcessType> = found.iter().map(|p| (p.name.clone(), p.clone())).collect();
    // What the app has already, is the app's.
    for process in additions.iter().flat_map(|finding| &finding.processes) {
        all.entry(process.name.clone()).or_insert_with(|| process.clone());
    }
    let config = &effective.config;
    let processes = config.processes.iter().map(|p| (ProcessKind::Process, p));
    let tasks = config.tasks.iter().map(|p| (ProcessKind::Task, p));
    for (kind, (name, said)) in processes.chain(tasks) {
        let table = if kind == ProcessKind::Task { "task" } else { "process" };
        let place = effective.place(&format!("{table}.{name}.run"));
        match apply(all.remove(name), kind, name, said, (place, member)) {
            Some(process) => drop(all.insert(name.clone(), process)),
            // House rules speak to all apps, also to those without this process type.
            None if only_in_house_rules(effective, &format!("{table}.{name}.")) => {}
            None => {
                return Err(Error::Survey(SurveyError::NoProcess {
                    language: format!("{name} in {CONFIG}"),
                }));
            }
        }
    }
    let mut all: Vec<ProcessType> = all.into_values().collect();
    for process in &mut all {
        if process.name == "web" && process.kind == ProcessKind::Process {
            process.port.get_or_insert(WEB_PORT);
        }
    }
    // The default one first, then processes, then tasks.
    all.sort_by_key(|p| (p.name != "web", p.kind == ProcessKind::Task, p.name.clone()));
    Ok(all)
}

fn only_in_house_rules(effective: &Effective, prefix: &str) -> bool {
    let mut said = effective.origins.iter().filter(|(key, _)| key.starts_with(prefix));
    said.all(|(_, origin)| origin.layer == Layer::HouseRules)
}

fn apply(
    found: Option<ProcessType>,
    kind: ProcessKind,
    name: &str,
    said: &ProcessConfig,
    (place, member): (Option<Place>, &str),
) -> Option<ProcessType> {
    let (command, env, place) = match (&said.run, &found) {
        (Some(run), _) => {
            let CommandLine { env, words } = run.clone();
            (words, env.into_iter().collect(), place.unwrap_or_else(|| Place::new(CONFIG, None)))
        }
        (None, Some(found)) => (found.command.clone(), found.env.clone(), found.said.clone()),
        (None, None) => return None,
    };
    let writable = match &said.writable[..] {
        [] => found.as_ref().map(|f| f.writable.clone()).unwrap_or_default(),
        said => said.iter().map(|folder| inside(member, folder)).collect(),
    };
    let (port, health, folder) =
        found.map_or((None, None, member.to_owned()), |f| (f.port, f.health, f.folder));
    Some(ProcessType {
        name: name.to_owned(),
        kind,
        command,
        folder,
        env,
        writable,
        port: said.port.or(port),
        health: said.health.clone().or(health),
        health_every: said.health_every,
        start_within: said.start_within,
        memory: said.memory,
        instances: said.instances,
        before: said.before.clone(),
        said: place,
    })
}

/// A folder of a member, where a dot is all of it.
fn inside(member: &str, folder: &str) -> String {
    match (member, folder) {
        ("", folder) => folder.to_owned(),
        (member, ".") => member.to_owned(),
        (member, folder) => in_folder(member, folder),
    }
}
