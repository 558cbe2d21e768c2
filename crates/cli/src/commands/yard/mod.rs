//! `yard`: a small stand-in for a hosting platform on this machine.

mod background;
mod logs;
mod release;
mod status;
mod watch;

use super::Done;
use super::run::given_settings;
use crate::folders::user_folder;
use crate::surroundings::Surroundings;
use arguments::{YardCommand, YardOptions};
use render::table::Table;
use render::{FAINT, GOOD, Output, TYPED, styled, words};
use std::process::ExitCode;
use wording::{Failure, outcome_words};
use workshop::survey::looks_secret;
use yard::{Answer, AppState, Client, Fault, Outcome, Release, ReleaseKind, Request, Trouble, Yard};

pub fn run(options: &YardOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let folder = match &options.yard {
        Some(folder) => folder.clone(),
        None => user_folder("XDG_STATE_HOME", ".local/state").ok_or(Failure::NoHome)?.join("yard"),
    };
    let yard = Yard::open(&folder).map_err(|error| Failure::Usage {
        message: format!("the yard cannot be in {}: {error}", folder.display()),
        hint: "give another folder: --yard DIR".to_owned(),
    })?;
    let here = Here { yard: &yard, surroundings, output };
    match &options.command {
        YardCommand::Release { image, port, source, variant, settings } => {
            let asked =
                release::Asked { port: *port, source: source.as_deref(), variant: variant.as_deref() };
            release::release(&here, image, &asked, given_settings::gather(settings)?)
        }
        YardCommand::RollBack { app, release } => release::roll_back(&here, app, *release),
        YardCommand::Settings { app, settings, unset } => {
            let given = given_settings::gather(settings)?;
            match given.is_empty() && unset.is_empty() {
                true => show_settings(&here, app),
                false => release::change_settings(&here, app, given, unset),
            }
        }
        YardCommand::Status { app } => status::status(&here, app.as_deref()),
        YardCommand::Health { app, instance } => status::health(&here, app, instance),
        YardCommand::Scale { app, instances } => scale(&here, app, instances),
        YardCommand::Restart { app } => {
            here.asked(Request::Restart { app: app.clone() })?;
            here.done(format!("{app} was restarted"));
            Ok(ExitCode::SUCCESS)
        }
        YardCommand::Releases { app } => releases(&here, app),
        YardCommand::Logs { app, process, follow, lines, release } => logs::logs(
            &here,
            app,
            &logs::Which { process: process.as_deref(), release: *release, lines: *lines },
            *follow,
        ),
        YardCommand::Events { app, follow } => logs::events(&here, app, *follow),
        YardCommand::Open { app } => open(&here, app),
        YardCommand::Watch => watch::watch(&here),
        YardCommand::End { app, confirm } => end(&here, app, confirm.as_deref()),
        YardCommand::Start => background::start_command(&here),
        YardCommand::Stop => background::stop(&here),
        YardCommand::Serve { worker: false } => background::watch_over(&here),
        YardCommand::Serve { worker: true } => background::serve(&here),
    }
}

/// What every command of the yard works with.
struct Here<'a> {
    yard: &'a Yard,
    surroundings: &'a Surroundings,
    output: &'a Output,
}

impl Here<'_> {
    /// The answer of the yard, which is started when it does not run.
    fn asked(&self, request: Request) -> Result<Answer, Failure> {
        background::start(self)?;
        Ok(Client(self.yard).ask(request, |_| {})?)
    }

    /// Says that something is done.
    fn done(&self, text: String) {
        match self.output.is_json() {
            true => self.output.json(&serde_json::json!({ "format": "shtetl/yard/1", "done": text })),
            false => self.output.line(styled(GOOD, text)),
        }
    }

    /// What is kept of an app.
    fn state(&self, app: &str) -> Result<AppState, Failure> {
        let missing = |known| Trouble::Fault(Fault::NoApp { app: app.to_owned(), known });
        match self.yard.state(app)? {
            Some(state) => Ok(state),
            None => Err(missing(self.yard.apps()?).into()),
        }
    }
}

fn scale(here: &Here<'_>, app: &str, instances: &[String]) -> Done {
    let mut wanted = Vec::new();
    for text in instances {
        let parts = text.split_once('=').and_then(|(process, number)| Some((process, number.parse().ok()?)));
        let Some((process, number)) = parts else {
            return Err(Failure::Usage {
                message: format!("{text:?} is not a process type with a number"),
                hint: "write PROCESS=N, for example web=3".to_owned(),
            });
        };
        wanted.push((process.to_owned(), number));
    }
    let mut done = Vec::new();
    for (process, number) in wanted {
        here.asked(Request::Scale { app: app.to_owned(), process: process.clone(), instances: number })?;
        done.push(format!("{process}: {}", words::count(number as usize, "instance")));
    }
    here.done(done.join(", "));
    Ok(ExitCode::SUCCESS)
}

fn releases(here: &Here<'_>, app: &str) -> Done {
    let state = here.state(app)?;
    if here.output.is_json() {
        here.output.json(&serde_json::json!({
            "format": "shtetl/yard/1", "app": app, "current": state.current, "releases": state.releases,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = Table::new(&[0]);
    for release in state.releases.iter().rev() {
        let is_current = state.current == Some(release.number);
        let outcome = match &release.outcome {
            Outcome::InForce if is_current => styled(GOOD, "current"),
            Outcome::InForce => "was current".to_owned(),
            other => outcome_words(other),
        };
        table.row([
            release.number.to_string(),
            what(release),
            release.image.to_string().chars().take(19).collect(),
            release.commit.as_deref().map(words::short).unwrap_or_default().to_owned(),
            release.who.clone(),
            words::date(release.at),
            outcome,
            styled(FAINT, changed(release)),
        ]);
    }
    table.lines().iter().for_each(|line| here.output.line(line));
    Ok(ExitCode::SUCCESS)
}

/// What made a release.
fn what(release: &Release) -> String {
    match &release.kind {
        ReleaseKind::Image => match &release.way.variant {
            Some(variant) => format!("{}, variant {variant}", release.label),
            None => release.label.clone(),
        },
        ReleaseKind::Settings { names } => format!("settings {}", names.join(", ")),
        ReleaseKind::RollBack { to } => format!("back to {to}"),
    }
}

fn changed(release: &Release) -> String {
    match &release.changed[..] {
        [] => String::new(),
        some => format!("changed: {}", some.join(", ")),
    }
}

fn show_settings(here: &Here<'_>, app: &str) -> Done {
    let state = here.state(app)?;
    let settings = here.yard.settings(app, state.current)?;
    let rules = state.release_in_force().and_then(|release| {
        let image = workshop::inspect::open_index(&here.surroundings.store, &release.label, release.image);
        Some(image.ok()?.record.settings)
    });
    let is_secret = |name: &String| match rules.as_ref().and_then(|rules| rules.get(name)) {
        Some(rule) => rule.secret,
        None => looks_secret(name),
    };
    let shown = |(name, value): (&String, &String)| {
        let value = if is_secret(name) { None } else { Some(value.clone()) };
        (name.clone(), value)
    };
    let shown: Vec<(String, Option<String>)> = settings.iter().map(shown).collect();
    if here.output.is_json() {
        let values: serde_json::Map<_, _> =
            shown.into_iter().map(|(name, value)| (name, value.into())).collect();
        here.output.json(&serde_json::json!({ "format": "shtetl/yard/1", "app": app, "settings": values }));
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = Table::new(&[]);
    for (name, value) in shown {
        table.row([name, value.unwrap_or_else(|| styled(FAINT, "(secret)"))]);
    }
    table.lines().iter().for_each(|line| here.output.line(line));
    if settings.is_empty() {
        here.output.line(format!("{app} has no settings of its own"));
    }
    Ok(ExitCode::SUCCESS)
}

fn open(here: &Here<'_>, app: &str) -> Done {
    let Some(port) = here.state(app)?.port else {
        return Err(Failure::Usage {
            message: format!("{app} has no address: none of its process types has a port"),
            hint: "in shtetl.toml, under [process.NAME]: port = 8080".to_owned(),
        });
    };
    let address = format!("http://127.0.0.1:{port}/");
    match here.output.is_json() {
        true => here.output.json(&serde_json::json!({ "format": "shtetl/yard/1", "address": address })),
        false => here.output.line(address),
    }
    Ok(ExitCode::SUCCESS)
}

fn end(here: &Here<'_>, app: &str, confirm: Option<&str>) -> Done {
    here.state(app)?;
    if confirm != Some(app) {
        return Err(Failure::Usage {
            message: format!("this removes {app}: its releases, settings, data and logs"),
            hint: format!(
                "if that is meant: {}",
                styled(TYPED, format!("shtetl yard end {app} --confirm {app}"))
            ),
        });
    }
    here.asked(Request::End { app: app.to_owned() })?;
    here.done(format!("{app} is gone"));
    Ok(ExitCode::SUCCESS)
}
