//! Units of systemd: a service a process type, which runs the image with this program, and a target for all.

use crate::{App, File, WRITTEN_BY, Workload, mebibytes, writable};

/// The app as units.
pub fn systemd(app: &App) -> Vec<File> {
    let tasks: Vec<&Workload> = app.tasks().collect();
    let mut files: Vec<File> = tasks.iter().map(|task| unit(app, task, &[])).collect();
    files.extend(app.processes().map(|workload| unit(app, workload, &tasks)));
    let services: Vec<String> = app.processes().map(|one| format!("{}.service", app.name_of(one))).collect();
    let text = format!(
        "# {WRITTEN_BY}\n[Unit]\nDescription={}\nWants={}\n\n[Install]\nWantedBy=multi-user.target\n",
        app.name,
        services.join(" ")
    );
    files.push(File { name: format!("{}.target", app.name), text });
    files
}

fn unit(app: &App, workload: &Workload, before: &[&Workload]) -> File {
    let (process, name) = (&workload.process, app.name_of(workload));
    let is_task = before.is_empty() && process.before.is_some();
    let mut text = format!("# {WRITTEN_BY}\n[Unit]\nDescription={} of {}\n", process.name, app.name);
    if !is_task {
        text.push_str(&format!("PartOf={}.target\n", app.name));
    }
    let first: Vec<String> = before.iter().map(|task| format!("{}.service", app.name_of(task))).collect();
    text.push_str(&format!(
        "Wants=network-online.target\nAfter={}\n",
        [first.clone(), vec!["network-online.target".to_owned()]].concat().join(" ")
    ));
    if !first.is_empty() {
        text.push_str(&format!("# tasks that run before a release\nRequires={}\n", first.join(" ")));
    }
    if let Some(instances) = process.instances.filter(|instances| *instances > 1) {
        text.push_str(&format!(
            "# {instances} instances are configured; this unit is one of them; add a copy with another port for each other\n"
        ));
    }
    text.push_str(&format!("\n[Service]\nType={}\n", if is_task { "oneshot" } else { "exec" }));
    let mut command = format!("/usr/local/bin/shtetl run {} {}", workload.image, process.name);
    if let Some(port) = process.port {
        command.push_str(&format!(" --port {port}"));
    }
    // `run` says the port of the process itself.
    for (name, value) in workload.env.iter().filter(|(name, _)| *name != "PORT") {
        command.push_str(&format!(" --set {}", quoted(&format!("{name}={value}"))));
    }
    if app.given().next().is_some() {
        let names: Vec<&str> = app.given().map(|(name, _)| name.as_str()).collect();
        text.push_str(&format!("# lines NAME=VALUE, readable only by root: {}\n", names.join(", ")));
        text.push_str(&format!("LoadCredential=settings:/etc/{}/settings.env\n", app.name));
        command.push_str(" --settings-file ${CREDENTIALS_DIRECTORY}/settings");
    }
    if !writable(process).is_empty() {
        text.push_str(&format!("StateDirectory={name}\n"));
        command.push_str(" --data ${STATE_DIRECTORY}");
    }
    text.push_str(&format!(
        "CacheDirectory={}\nEnvironment=SHTETL_STORE=%C/{}\nExecStart={command}\n",
        app.name, app.name
    ));
    if is_task {
        text.push_str("RemainAfterExit=yes\n");
    } else {
        text.push_str("Restart=on-failure\nRestartSec=2\nKillSignal=SIGTERM\n");
    }
    if let Some(memory) = process.memory {
        text.push_str(&format!("MemoryMax={}M\n", mebibytes(memory)));
    }
    text.push_str("PrivateTmp=yes\nProtectHome=yes\n");
    if !is_task {
        text.push_str(&format!("\n[Install]\nWantedBy={}.target\n", app.name));
    }
    File { name: format!("{name}.service"), text }
}

/// A word of a command as systemd reads it (systemd.service(5), "Command lines").
fn quoted(word: &str) -> String {
    let escaped = word.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n");
    format!("\"{}\"", escaped.replace('%', "%%").replace('$', "$$"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_what_they_were_after_systemd_has_read_them() {
        assert_eq!(quoted("GREETING=a \"b\" 50% $HOME\\"), r#""GREETING=a \"b\" 50%% $$HOME\\""#);
    }
}
