//! Kubernetes: a deployment a process type, jobs for tasks before a release, services, and what goes with them.

use crate::yaml::{Map, Node, document};
use crate::{App, File, WRITTEN_BY, Workload, mebibytes, writable};
use model::places::APP_USER;
use model::process::moments;
use model::{ProcessKind, ProcessType};
use std::collections::BTreeMap;

/// How often a pod that starts is asked, in seconds.
const START_PERIOD: u32 = 2;
/// The default time until the first answer.
const START_WITHIN: u32 = 120;
/// The default interval of health checks.
const HEALTH_EVERY: u32 = 5;

/// The app as manifests, and a list of them for `kustomize`.
pub fn kubernetes(app: &App) -> Vec<File> {
    let jobs = app.tasks_before(moments::RELEASE).map(|task| job(app, task));
    let mut files: Vec<File> = storage(app).into_iter().chain(jobs).collect();
    for workload in app.processes() {
        files.push(File { name: format!("{}.yaml", workload.process.name), text: of_process(app, workload) });
    }
    let names: Vec<Node> = files.iter().map(|file| Node::from(file.name.as_str())).collect();
    let list = Map::new()
        .with("apiVersion", "kustomize.config.k8s.io/v1beta1")
        .with("kind", "Kustomization")
        .with("resources", names);
    let mut comments = vec![WRITTEN_BY.to_owned()];
    let given = |secret: bool| {
        let names = app.given().filter(move |(_, rule)| rule.secret == secret).map(|(name, _)| name.as_str());
        names.collect::<Vec<_>>().join(", ")
    };
    for (kind, name, names) in
        [("secret", secret_name(app), given(true)), ("config map", settings_name(app), given(false))]
    {
        if !names.is_empty() {
            comments.push(format!("the {kind} {name} must exist, with: {names}"));
        }
    }
    let comments: Vec<&str> = comments.iter().map(String::as_str).collect();
    files.push(File { name: "kustomization.yaml".to_owned(), text: document(&comments, list) });
    files
}

fn secret_name(app: &App) -> String {
    format!("{}-secrets", app.name)
}

fn settings_name(app: &App) -> String {
    format!("{}-settings", app.name)
}

fn labels(app: &App, process: &ProcessType) -> Map {
    Map::new()
        .with("app.kubernetes.io/name", app.name.as_str())
        .with("app.kubernetes.io/component", process.name.as_str())
}

fn metadata(name: &str, labels: Map) -> Map {
    Map::new().with("name", name).with("labels", labels)
}

/// The documents of a process type, one after the other.
fn of_process(app: &App, workload: &Workload) -> String {
    let process = &workload.process;
    let name = app.name_of(workload);
    let mut documents = vec![document(&[WRITTEN_BY], deployment(app, workload))];
    let plain = |kind: &str, version: &str, spec: Map| {
        let root = Map::new().with("apiVersion", version).with("kind", kind);
        document(&[], root.with("metadata", metadata(&name, labels(app, process))).with("spec", spec))
    };
    if let Some(port) = process.port {
        let port = Map::new().with("name", "http").with("port", port).with("targetPort", "http");
        let spec = Map::new().with("selector", labels(app, process)).with("ports", vec![Node::from(port)]);
        documents.push(plain("Service", "v1", spec));
    }
    if let (Some(host), Some(_)) = (app.host.as_ref().filter(|_| is_first(app, workload)), process.port) {
        documents.push(plain("Ingress", "networking.k8s.io/v1", ingress(host, &name)));
    }
    let scale = app.scale.filter(|_| is_first(app, workload));
    if let Some((least, most)) = scale {
        documents.push(plain("HorizontalPodAutoscaler", "autoscaling/v2", scaling(&name, least, most)));
    }
    if process.instances.unwrap_or(1) > 1 || scale.is_some_and(|(least, _)| least > 1) {
        let selector = Map::new().with("matchLabels", labels(app, process));
        let spec = Map::new().with("maxUnavailable", 1).with("selector", selector);
        documents.push(plain("PodDisruptionBudget", "policy/v1", spec));
    }
    documents.join("---\n")
}

/// The claims of the folders that are written to: process types and tasks that write to the same folder share it.
fn storage(app: &App) -> Option<File> {
    let mut pods: BTreeMap<String, u32> = BTreeMap::new();
    for Workload { process, .. } in &app.workloads {
        let at_once = if process.kind == ProcessKind::Task { 0 } else { process.instances.unwrap_or(1) };
        for (folder, _) in writable(process) {
            *pods.entry(folder).or_default() += at_once;
        }
    }
    let claim = |(folder, pods): (&String, &u32)| {
        // Several pods share a folder only where the storage lets them.
        let access = if *pods > 1 { "ReadWriteMany" } else { "ReadWriteOnce" };
        let storage = Map::new().with("requests", Map::new().with("storage", "1Gi"));
        let spec = Map::new().with("accessModes", vec![Node::from(access)]).with("resources", storage);
        let labels = Map::new().with("app.kubernetes.io/name", app.name.as_str());
        let root = Map::new().with("apiVersion", "v1").with("kind", "PersistentVolumeClaim");
        document(&[], root.with("metadata", metadata(&claim_name(app, folder), labels)).with("spec", spec))
    };
    let claims: Vec<String> = pods.iter().map(claim).collect();
    let text = format!("# {WRITTEN_BY}\n{}", claims.join("---\n"));
    (!claims.is_empty()).then(|| File { name: "storage.yaml".to_owned(), text })
}

fn claim_name(app: &App, folder: &str) -> String {
    format!("{}-{folder}", app.name)
}

fn is_first(app: &App, workload: &Workload) -> bool {
    app.processes().next().is_some_and(|first| first.process.name == workload.process.name)
}

fn deployment(app: &App, workload: &Workload) -> Map {
    let process = &workload.process;
    let mut spec = Map::new();
    // Where something else decides how many there are, it is not said here.
    if app.scale.filter(|_| is_first(app, workload)).is_none() {
        spec = spec.with("replicas", process.instances.unwrap_or(1));
    }
    if !process.writable.is_empty() && process.instances.unwrap_or(1) == 1 {
        let strategy = Map::new().with("type", "Recreate");
        spec = spec.with_comment(
            "strategy",
            "its writable volume can be used by only one pod at a time",
            strategy,
        );
    }
    spec = spec.with("selector", Map::new().with("matchLabels", labels(app, process))).with(
        "template",
        Map::new()
            .with("metadata", Map::new().with("labels", labels(app, process)))
            .with("spec", pod(app, workload)),
    );
    Map::new()
        .with("apiVersion", "apps/v1")
        .with("kind", "Deployment")
        .with("metadata", metadata(&app.name_of(workload), labels(app, process)))
        .with("spec", spec)
}

/// A task that runs before a release. Jobs cannot be changed, so that each image has one of its own.
fn job(app: &App, workload: &Workload) -> File {
    let process = &workload.process;
    let digest = workload.image.rsplit("sha256:").next().unwrap_or_default();
    let name = format!("{}-{}", app.name_of(workload), digest.chars().take(8).collect::<String>());
    let template = Map::new()
        .with("metadata", Map::new().with("labels", labels(app, process)))
        .with("spec", pod(app, workload));
    let root = Map::new()
        .with("apiVersion", "batch/v1")
        .with("kind", "Job")
        .with("metadata", metadata(&name, labels(app, process)))
        .with("spec", Map::new().with("backoffLimit", 2).with("template", template));
    let comments =
        [WRITTEN_BY, "runs before the release: wait for it to complete before applying the deployments"];
    File { name: format!("{}.yaml", process.name), text: document(&comments, root) }
}

fn pod(app: &App, workload: &Workload) -> Map {
    let process = &workload.process;
    let user = Map::new()
        .with("runAsNonRoot", true)
        .with("runAsUser", APP_USER.uid)
        .with("runAsGroup", APP_USER.gid)
        .with("fsGroup", APP_USER.gid)
        .with("seccompProfile", Map::new().with("type", "RuntimeDefault"));
    let folders = writable(process);
    let mut mounts = vec![mount("tmp", "/tmp")];
    let mut volumes = vec![Node::from(Map::new().with("name", "tmp").with("emptyDir", Map::new()))];
    for (folder, path) in &folders {
        mounts.push(mount(folder, path));
        let claim = Map::new().with("claimName", claim_name(app, folder));
        volumes.push(Map::new().with("name", folder.as_str()).with("persistentVolumeClaim", claim).into());
    }
    let mut pod = Map::new();
    if process.kind == ProcessKind::Process {
        let tasks = app.tasks_before(moments::START);
        let tasks: Vec<Node> =
            tasks.map(|task| container(app, task).with("volumeMounts", mounts.clone()).into()).collect();
        pod = pod.with_some("initContainers", (!tasks.is_empty()).then_some(tasks));
    }
    let container = container(app, workload).with("volumeMounts", mounts);
    if process.kind == ProcessKind::Task {
        pod = pod.with("restartPolicy", "Never");
    }
    pod.with("automountServiceAccountToken", false)
        .with("enableServiceLinks", false)
        .with("securityContext", user)
        .with("containers", vec![Node::from(container)])
        .with("volumes", volumes)
}

fn mount(name: &str, path: &str) -> Node {
    Map::new().with("name", name).with("mountPath", path).into()
}

fn container(app: &App, workload: &Workload) -> Map {
    let Workload { process, image, env: own } = workload;
    let mut container = Map::new().with("name", process.name.as_str()).with("image", image.as_str());
    let plain = own.iter().map(|(name, value)| {
        // What stands in round brackets behind a dollar would be taken for a variable.
        let value = value.replace("$(", "$$(");
        Node::from(Map::new().with("name", name.as_str()).with("value", value))
    });
    let env: Vec<Node> = app
        .given()
        .map(|(name, rule)| {
            let (kind, from) = if rule.secret {
                ("secretKeyRef", secret_name(app))
            } else {
                ("configMapKeyRef", settings_name(app))
            };
            let mut key = Map::new().with("name", from).with("key", name.as_str());
            if !rule.required {
                key = key.with("optional", true);
            }
            Node::from(Map::new().with("name", name.as_str()).with("valueFrom", Map::new().with(kind, key)))
        })
        .chain(plain)
        .collect();
    if !env.is_empty() {
        container = container.with("env", env);
    }
    if let Some(port) = process.port {
        let port = Map::new().with("name", "http").with("containerPort", port);
        container = container.with("ports", vec![Node::from(port)]);
        if process.kind == ProcessKind::Process {
            let tries = (process.start_within.unwrap_or(START_WITHIN) / START_PERIOD).max(1);
            let every = process.health_every.unwrap_or(HEALTH_EVERY);
            let start = probe(process).with("periodSeconds", START_PERIOD).with("failureThreshold", tries);
            container = container
                .with("startupProbe", start)
                .with("readinessProbe", probe(process).with("periodSeconds", every))
                .with("livenessProbe", probe(process).with("periodSeconds", 10).with("failureThreshold", 6));
        }
    }
    let memory = || process.memory.map(|bytes| format!("{}Mi", mebibytes(bytes)));
    // What follows the load is measured by what was asked for.
    let is_scaled = app.scale.is_some() && is_first(app, workload);
    let requests = Map::new().with_some("cpu", is_scaled.then_some("100m")).with_some("memory", memory());
    let limits = Map::new().with_some("memory", memory());
    if !requests.is_empty() {
        let limits = (!limits.is_empty()).then_some(limits);
        let resources = Map::new().with("requests", requests).with_some("limits", limits);
        container = container.with("resources", resources);
    }
    let walls = Map::new()
        .with("allowPrivilegeEscalation", false)
        .with("readOnlyRootFilesystem", true)
        .with("capabilities", Map::new().with("drop", vec![Node::from("ALL")]));
    container.with("securityContext", walls)
}

/// The path of health where there is one, otherwise whether the port is open.
fn probe(process: &ProcessType) -> Map {
    match &process.health {
        Some(path) => Map::new().with("httpGet", Map::new().with("path", path.as_str()).with("port", "http")),
        None => Map::new().with("tcpSocket", Map::new().with("port", "http")),
    }
}

fn ingress(host: &str, service: &str) -> Map {
    let backend = Map::new()
        .with("service", Map::new().with("name", service).with("port", Map::new().with("name", "http")));
    let path = Map::new().with("path", "/").with("pathType", "Prefix").with("backend", backend);
    let rule = Map::new().with("host", host).with("http", Map::new().with("paths", vec![Node::from(path)]));
    Map::new().with("rules", vec![Node::from(rule)])
}

fn scaling(target: &str, least: u32, most: u32) -> Map {
    let of = Map::new().with("apiVersion", "apps/v1").with("kind", "Deployment").with("name", target);
    let goal = Map::new().with("type", "Utilization").with("averageUtilization", 70);
    let metric = Map::new()
        .with("type", "Resource")
        .with("resource", Map::new().with("name", "cpu").with("target", goal));
    Map::new()
        .with("scaleTargetRef", of)
        .with("minReplicas", least)
        .with("maxReplicas", most)
        .with("metrics", vec![Node::from(metric)])
}
