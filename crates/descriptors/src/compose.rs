//! The Compose specification: one service a process type, tasks before a release first.

use crate::yaml::{Map, Node, document};
use crate::{App, File, WRITTEN_BY, Workload, mebibytes, writable};
use model::ProcessKind;
use serde_json::Value;
use std::collections::BTreeSet;

/// The app as a Compose file.
pub fn compose(app: &App) -> Vec<File> {
    let tasks: Vec<&Workload> = app.tasks().collect();
    let mut services = Map::new();
    // Process types and tasks that write to the same folder share it.
    let mut folders = BTreeSet::new();
    for workload in tasks.iter().copied().chain(app.processes()) {
        services = services.with(&workload.process.name, service(app, workload, &tasks));
        for (name, _) in writable(&workload.process) {
            folders.insert(name);
        }
    }
    let volumes = folders.iter().fold(Map::new(), |volumes, name| volumes.with(name, Map::new()));
    let mut root = Map::new().with("name", app.name.as_str()).with("services", services);
    if !volumes.is_empty() {
        root = root.with("volumes", volumes);
    }
    let given: Vec<&str> = app.given().map(|(name, _)| name.as_str()).collect();
    let wanted = format!(
        "set these in the environment, or in a file .env that is not committed: {}",
        given.join(", ")
    );
    let comments: Vec<&str> =
        std::iter::once(WRITTEN_BY).chain((!given.is_empty()).then_some(wanted.as_str())).collect();
    vec![File { name: "compose.yaml".to_owned(), text: document(&comments, root) }]
}

fn service(app: &App, workload: &Workload, tasks: &[&Workload]) -> Map {
    let Workload { process, image, env } = workload;
    let is_task = process.kind == ProcessKind::Task;
    let mut service = Map::new().with("image", image.as_str());
    if !is_task && !tasks.is_empty() {
        let condition = || Map::new().with("condition", "service_completed_successfully");
        let before = tasks.iter().fold(Map::new(), |map, task| map.with(&task.process.name, condition()));
        service = service.with_comment("depends_on", "tasks that run before a release", before);
    }
    let environment = app.given().fold(Map::new(), |map, (name, rule)| match rule.required {
        // Required ones end the start where they are missing; others are passed on where they are there.
        true => map.with(name, format!("${{{name}:?is not set}}")),
        false => map.with(name, Node::Scalar(Value::Null)),
    });
    let environment = env.iter().fold(environment, |map, (name, value)| {
        // A dollar is one here only when it is doubled.
        map.with(name, value.replace('$', "$$"))
    });
    if !environment.is_empty() {
        service = service.with("environment", environment);
    }
    if let Some(port) = process.port {
        // A port of the machine is there once: of several instances, each gets a free one.
        let is_one = process.instances.unwrap_or(1) == 1;
        let published = if is_one { format!("{port}:{port}") } else { port.to_string() };
        service = service.with("ports", vec![Node::from(published)]);
    }
    let folders = writable(process);
    if !folders.is_empty() {
        let volume = |(name, path): (String, String)| Node::from(format!("{name}:{path}"));
        service = service.with("volumes", folders.into_iter().map(volume).collect::<Vec<_>>());
    }
    let mut deploy = Map::new();
    if let Some(instances) = process.instances {
        deploy = deploy.with("replicas", instances);
    }
    if let Some(memory) = process.memory {
        let limits = Map::new().with("memory", format!("{}m", mebibytes(memory)));
        deploy = deploy.with("resources", Map::new().with("limits", limits));
    }
    if !deploy.is_empty() {
        service = service.with("deploy", deploy);
    }
    service
        .with("restart", if is_task { "on-failure" } else { "unless-stopped" })
        .with("read_only", true)
        .with("tmpfs", vec![Node::from("/tmp")])
        .with("cap_drop", vec![Node::from("ALL")])
        .with("security_opt", vec![Node::from("no-new-privileges:true")])
}
