//! `yard status` and `yard health`.

use super::super::Done;
use super::Here;
use crate::surroundings::Surroundings;
use render::instances::{state_words, style_of};
use render::table::Table;
use render::{BAD, FAINT, GOOD, STRONG, styled, words};
use running::app::{InstanceName, Probe, Reason};
use std::process::ExitCode;
use wording::Failure;
use yard::{Answer, AppStatus, Client, Fault, Request, Trouble};

pub fn status(here: &Here<'_>, only: Option<&str>) -> Done {
    let (apps, is_running) = known(here)?;
    if let Some(app) = only
        && !apps.iter().any(|known| known.name == app)
    {
        let known = apps.into_iter().map(|app| app.name).collect();
        return Err(Trouble::Fault(Fault::NoApp { app: app.to_owned(), known }).into());
    }
    let shown: Vec<&AppStatus> = apps.iter().filter(|app| only.is_none_or(|only| app.name == only)).collect();
    if here.output.is_json() {
        here.output.json(&serde_json::json!({
            "format": "shtetl/yard/1", "running": is_running, "apps": shown,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    if !is_running {
        here.output
            .line(format!("the yard is not running; {}", styled(FAINT, "start it: shtetl yard start")));
    }
    if shown.is_empty() {
        here.output.line("no app has been released here yet");
    }
    for app in shown {
        lines(app, is_running).iter().for_each(|line| here.output.line(line));
    }
    Ok(ExitCode::SUCCESS)
}

/// All apps, as the yard says, or, where it does not run, as it left them.
pub fn known(here: &Here<'_>) -> Result<(Vec<AppStatus>, bool), Failure> {
    match Client(here.yard).ask(Request::Status, |_| {}) {
        Ok(Answer::Status { apps }) => Ok((apps, true)),
        Ok(_) => Ok((Vec::new(), true)),
        Err(Trouble::NotRunning) => {
            let mut apps = Vec::new();
            for name in here.yard.apps()? {
                let state = here.yard.state(&name)?.unwrap_or_default();
                let (release, port) = (state.current, state.port);
                apps.push(AppStatus { name, release, port, instances: Vec::new() });
            }
            Ok((apps, false))
        }
        Err(trouble) => Err(trouble.into()),
    }
}

/// An app and its instances.
pub fn lines(app: &AppStatus, is_running: bool) -> Vec<String> {
    let release =
        app.release.map_or_else(|| "no current release".to_owned(), |number| format!("release {number}"));
    let address = app.port.filter(|_| is_running && app.release.is_some());
    let address = address.map(|port| format!("  http://127.0.0.1:{port}/")).unwrap_or_default();
    let mut all = vec![format!("{}  {release}{address}", styled(STRONG, &app.name))];
    let now = Surroundings::now() / 1_000_000_000;
    let mut table = Table::new(&[3]);
    for instance in &app.instances {
        let again =
            if instance.starts > 1 { format!("started {} times", instance.starts) } else { String::new() };
        table.row([
            instance.instance.to_string(),
            styled(style_of(&instance.state), state_words(&instance.state)),
            format!("for {}", age(now - instance.since)),
            instance.memory.map(words::size).unwrap_or_default(),
            styled(FAINT, again),
        ]);
    }
    all.extend(table.lines());
    all
}

/// A span of time in one unit.
pub fn age(seconds: i64) -> String {
    match seconds.max(0) {
        s @ ..120 => format!("{s} s"),
        s @ 120..7200 => format!("{} min", s / 60),
        s @ 7200..172_800 => format!("{} h", s / 3600),
        s => format!("{} days", s / 86_400),
    }
}

pub fn health(here: &Here<'_>, app: &str, instance: &str) -> Done {
    let named = instance.rsplit_once('.').and_then(|(process, number)| {
        Some(InstanceName { process: process.to_owned(), number: number.parse().ok()? })
    });
    let Some(named) = named else {
        return Err(Failure::Usage {
            message: format!("{instance:?} is not an instance"),
            hint: "use a process type and a number, for example web.1".to_owned(),
        });
    };
    let request = Request::Health { app: app.to_owned(), instance: named };
    let Answer::Health { probes } = Client(here.yard).ask(request, |_| {})? else {
        return Ok(ExitCode::SUCCESS);
    };
    if here.output.is_json() {
        here.output.json(&serde_json::json!({ "format": "shtetl/yard/1", "probes": probes }));
        return Ok(ExitCode::SUCCESS);
    }
    let now = Surroundings::now() / 1_000_000;
    let mut table = Table::new(&[0, 1]);
    for Probe { at_ms, took_us, failure } in &probes {
        let ago = (now - i64::try_from(*at_ms).unwrap_or(now)) / 1000;
        let outcome = match failure {
            None => styled(GOOD, "well"),
            Some(Reason::Status { status }) => styled(BAD, format!("status {status}")),
            Some(Reason::NoAnswer { detail }) => styled(BAD, detail),
            Some(Reason::ListensElsewhere { address }) => styled(BAD, format!("listens on {address}")),
        };
        let took = std::time::Duration::from_micros(*took_us).as_secs_f64() * 1000.0;
        table.row([format!("{} ago", age(ago)), format!("{took:.1} ms"), outcome]);
    }
    table.lines().iter().for_each(|line| here.output.line(line));
    if probes.is_empty() {
        here.output.line(format!("{instance} has not been checked yet, or has no health path"));
    }
    Ok(ExitCode::SUCCESS)
}
