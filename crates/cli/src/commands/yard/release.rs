//! `yard release`, `roll-back` and `settings`: everything that makes a release.

use super::super::Done;
use super::super::opened::open_anywhere;
use super::super::variants::{as_in_source, check_same, differing, not_built, values};
use super::{Here, background};
use render::instances::Narrator;
use render::{FAINT, GOOD, styled};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::OpenImage;
use yard::{Answer, Client, Fault, Request, Trouble, Way};

type Settings = BTreeMap<String, String>;

/// What is asked for besides an image and settings.
pub struct Asked<'a> {
    pub port: Option<u16>,
    pub source: Option<&'a Path>,
    pub variant: Option<&'a str>,
}

pub fn release(here: &Here<'_>, image: &str, asked: &Asked<'_>, settings: Settings) -> Done {
    let (image, _) = open_anywhere(image, here.surroundings, here.output)?;
    let way = way(here, &image, asked)?;
    let app = image.record.name.clone();
    let request = Request::Release {
        app: app.clone(),
        image: image.digest,
        label: image.label.clone(),
        who: who(),
        port: asked.port,
        way,
        settings,
    };
    follow(here, &app, names_of(&image), request)
}

/// How the variant of the source lets the image run.
fn way(here: &Here<'_>, image: &OpenImage, asked: &Asked<'_>) -> Result<Way, Failure> {
    let (processes, settings) = as_in_source(image, asked.source, asked.variant, here.surroundings)?;
    let mut way = Way {
        variant: asked.variant.map(str::to_owned),
        values: differing(&values(&image.record.settings), &values(&settings)),
        instances: BTreeMap::new(),
    };
    for process in &processes {
        let built = image.record.processes.iter().find(|built| built.name == process.name);
        let built = built.ok_or_else(|| not_built(&process.name, "the image does not have it"))?;
        check_same(built, process)?;
        if built.port != process.port || built.env != process.env {
            return Err(not_built(&process.name, "its port or its variables differ"));
        }
        if built.instances != process.instances {
            way.instances.extend(process.instances.map(|instances| (process.name.clone(), instances)));
        }
    }
    Ok(way)
}

pub fn roll_back(here: &Here<'_>, app: &str, to: Option<u32>) -> Done {
    let state = here.state(app)?;
    let Some(to) = to.or_else(|| state.before_current().map(|release| release.number)) else {
        return Err(Failure::Usage {
            message: format!("{app} has no release before the current one"),
            hint: format!("`shtetl yard releases {app}` lists them"),
        });
    };
    let Some(release) = state.release(to) else {
        return Err(Trouble::Fault(Fault::NoRelease { app: app.to_owned(), release: to }).into());
    };
    let image = workshop::inspect::open_index(&here.surroundings.store, &release.label, release.image)?;
    follow(here, app, names_of(&image), Request::RollBack { app: app.to_owned(), to, who: who() })
}

pub fn change_settings(here: &Here<'_>, app: &str, given: Settings, unset: &[String]) -> Done {
    model::names::check("app", app)?;
    let state = here.yard.state(app)?.unwrap_or_default();
    let mut settings = here.yard.settings(app, state.current)?;
    for name in unset {
        if settings.remove(name).is_none() {
            return Err(Failure::Usage {
                message: format!("{app} has no value for {name}"),
                hint: format!("`shtetl yard settings {app}` lists its settings"),
            });
        }
    }
    let names: Vec<String> = given.keys().chain(unset).cloned().collect();
    settings.extend(given);
    let Some(release) = state.release_in_force() else {
        here.asked(Request::Settings { app: app.to_owned(), settings, names, who: who() })?;
        here.done(format!("kept for the first release of {app}"));
        return Ok(ExitCode::SUCCESS);
    };
    let image = workshop::inspect::open_index(&here.surroundings.store, &release.label, release.image)?;
    let request = Request::Settings { app: app.to_owned(), settings, names, who: who() };
    follow(here, app, names_of(&image), request)
}

fn names_of(image: &OpenImage) -> Vec<String> {
    image.record.processes.iter().map(|process| process.name.clone()).collect()
}

/// The user of this process.
fn who() -> String {
    let named = ["USER", "LOGNAME"].iter().find_map(|name| std::env::var(name).ok());
    named
        .filter(|name| !name.is_empty())
        .unwrap_or_else(|| format!("user {}", rustix::process::getuid().as_raw()))
}

/// Asks for a release, and shows what happens until it took over or failed.
fn follow(here: &Here<'_>, app: &str, names: Vec<String>, request: Request) -> Done {
    if background::start(here)? {
        here.output.aside(styled(FAINT, "the yard was started; `shtetl yard stop` stops it"));
    }
    let narrator = Narrator::new(names, BTreeMap::new(), here.output.another());
    let answer = Client(here.yard).ask(request, |answer| {
        if let Answer::Meanwhile { release, instance, what } = answer {
            narrator.tell_of_release(release, &instance, &what);
        }
    })?;
    let Answer::Released { release, port } = answer else { return Ok(ExitCode::SUCCESS) };
    let address = port.map(|port| format!("http://127.0.0.1:{port}/"));
    if here.output.is_json() {
        here.output.json_line(&serde_json::json!({
            "format": "shtetl/yard/1", "app": app, "release": release, "address": address,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let at = address.map(|address| format!(": {address}")).unwrap_or_default();
    here.output.line(format!("{}{at}", styled(GOOD, format!("release {release} of {app} is now current"))));
    Ok(ExitCode::SUCCESS)
}
