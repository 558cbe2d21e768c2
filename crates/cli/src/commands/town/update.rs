//! `town update`: pins move to the newest versions, and the apps are built with them.

use super::super::Done;
use super::place::{Planning, at_place};
use super::results;
use crate::surroundings::Surroundings;
use engine::OnFailure;
use model::PathFacts;
use model::files::PINS;
use planning::Pinning;
use render::town_view::TownView;
use render::{FAINT, Output, styled, words};
use std::collections::BTreeMap;
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};
use town::apps::{Town, TownApp};
use town::build::{Outcome, build_town};
use wording::Failure;

/// What becomes of moved pins.
pub enum Keep<'a> {
    /// They stay in the folders.
    Files,
    /// They are committed.
    Commit,
    /// They are written as a patch.
    Patch(&'a Path),
    /// They are only shown.
    Nothing,
}

/// The pins of an app, before and after.
struct Pins {
    path: PathBuf,
    before: Option<Vec<u8>>,
}

impl Pins {
    fn of(app: &TownApp) -> Result<Self, Failure> {
        let path = app.path.join(PINS);
        let before = match fs::read(&path) {
            Ok(bytes) => Some(bytes),
            Err(error) if error.kind() == ErrorKind::NotFound => None,
            Err(error) => return Err(error).facts(&path).map_err(Failure::from),
        };
        Ok(Self { path, before })
    }

    fn has_moved(&self) -> bool {
        fs::read(&self.path).ok() != self.before
    }

    fn restore(&self) -> Result<(), Failure> {
        match &self.before {
            Some(bytes) => fs::write(&self.path, bytes).facts(&self.path)?,
            None if self.path.exists() => fs::remove_file(&self.path).facts(&self.path)?,
            None => {}
        }
        Ok(())
    }
}

pub fn run(
    town: &Town,
    apps: &[TownApp],
    keep: &Keep<'_>,
    surroundings: &Surroundings,
    output: &Output,
) -> Done {
    // Commits and archives keep no pins: theirs are moved where they come from.
    let apps: Vec<TownApp> =
        apps.iter().filter(|app| app.path.is_dir() && app.revision.is_none()).cloned().collect();
    let pins = apps.iter().map(Pins::of).collect::<Result<Vec<_>, _>>()?;
    let outcomes = build(town, &apps, surroundings, output);
    let of = |app: &TownApp| apps.iter().position(|other| other.name == app.name).map(|at| &pins[at]);
    let restore_all = || pins.iter().filter(|pins| pins.has_moved()).try_for_each(Pins::restore);
    if surroundings.cancel.is_cancelled() {
        restore_all()?;
        return Err(model::Error::Interrupted.into());
    }
    let outcomes = match outcomes {
        Ok(outcomes) => outcomes,
        Err(failure) => {
            restore_all()?;
            return Err(failure);
        }
    };
    let mut moved = Vec::new();
    for outcome in &outcomes {
        let Some(pins) = of(&outcome.app).filter(|pins| pins.has_moved()) else { continue };
        if outcome.result.is_err() {
            pins.restore()?;
        } else {
            moved.push((outcome, pins));
        }
    }
    let patch = match keep {
        Keep::Files => Vec::new(),
        Keep::Commit => {
            commit(&moved, surroundings)?;
            Vec::new()
        }
        Keep::Patch(_) => diff(&moved, surroundings)?,
        Keep::Nothing => Vec::new(),
    };
    if let Keep::Patch(file) = keep {
        fs::write(file, &patch).facts(file)?;
    }
    show(&outcomes, &moved, keep, output);
    if matches!(keep, Keep::Patch(_) | Keep::Nothing) {
        moved.iter().try_for_each(|(_, pins)| pins.restore())?;
    }
    Ok(ExitCode::from(u8::from(outcomes.iter().any(|outcome| outcome.result.is_err()))))
}

fn build(
    town: &Town,
    apps: &[TownApp],
    surroundings: &Surroundings,
    output: &Output,
) -> Result<Vec<Outcome>, Failure> {
    let planning = Planning { pinning: Pinning::Update, ..Planning::default() };
    let fetcher = surroundings.fetcher(planning.network);
    let view = TownView::new(apps.len(), output);
    Ok(at_place(&planning, surroundings, |place, budget| {
        let events = |event| view.event(&event);
        let session = surroundings.session(&fetcher, budget, &events);
        build_town(town, apps, place, &session, OnFailure::GoOn, &|progress| view.progress(&progress))
    })?)
}

fn show(outcomes: &[Outcome], moved: &[(&Outcome, &Pins)], keep: &Keep<'_>, output: &Output) {
    let mut causes = BTreeMap::<_, Vec<&str>>::new();
    for outcome in outcomes {
        if let Err(trouble) = &outcome.result {
            causes.entry(results::cause(trouble)).or_default().push(&outcome.app.name);
        }
    }
    let causes: Vec<_> = causes.into_iter().collect();
    if output.is_json() {
        let moved: Vec<_> = moved
            .iter()
            .map(|(outcome, _)| serde_json::json!({ "app": outcome.app.name, "moved": outcome.notes }))
            .collect();
        let failures: Vec<_> =
            causes.iter().map(|(cause, apps)| serde_json::json!({ "cause": cause, "apps": apps })).collect();
        output.json(&serde_json::json!({
            "format": "shtetl/town-update/1", "apps": outcomes.len(), "moved": moved, "failures": failures,
        }));
        return;
    }
    let what = match keep {
        Keep::Files => "moved".to_owned(),
        Keep::Commit => "moved and committed".to_owned(),
        Keep::Patch(file) => format!("written to {}", file.display()),
        Keep::Nothing => "would move".to_owned(),
    };
    output.line(format!("{} of {}: pins {what}", moved.len(), words::count(outcomes.len(), "app")));
    let mut notes = BTreeMap::<&str, Vec<&str>>::new();
    for (outcome, _) in moved {
        for note in &outcome.notes {
            notes.entry(note).or_default().push(&outcome.app.name);
        }
    }
    for (note, apps) in notes {
        output.line(format!("  {note}  {}", styled(FAINT, results::named(&apps))));
    }
    results::show_causes(&causes, output);
}

/// One commit in each repository with the pins of its apps.
fn commit(moved: &[(&Outcome, &Pins)], surroundings: &Surroundings) -> Result<(), Failure> {
    for (top, files) in by_repository(moved, surroundings)? {
        let apps = words::count(files.len(), "app");
        let message = format!("Move pins of {apps} to the newest versions");
        let files: Vec<&str> = files.iter().map(String::as_str).collect();
        git(surroundings, &top, &[&["add", "--"], &files[..]].concat())?;
        git(surroundings, &top, &[&["commit", "--quiet", "-m", &message, "--"], &files[..]].concat())?;
    }
    Ok(())
}

/// What moved, as git writes it; new files included.
fn diff(moved: &[(&Outcome, &Pins)], surroundings: &Surroundings) -> Result<Vec<u8>, Failure> {
    let mut patch = Vec::new();
    for (top, files) in by_repository(moved, surroundings)? {
        let files: Vec<&str> = files.iter().map(String::as_str).collect();
        git(surroundings, &top, &[&["add", "--intent-to-add", "--"], &files[..]].concat())?;
        patch.extend(git(surroundings, &top, &[&["diff", "--no-color", "--"], &files[..]].concat())?);
        git(surroundings, &top, &[&["reset", "--quiet", "--"], &files[..]].concat())?;
    }
    Ok(patch)
}

/// The files with pins, by the folder of their repository, as paths in there.
fn by_repository(
    moved: &[(&Outcome, &Pins)],
    surroundings: &Surroundings,
) -> Result<BTreeMap<PathBuf, Vec<String>>, Failure> {
    let mut all = BTreeMap::<PathBuf, Vec<String>>::new();
    for (_, pins) in moved {
        let folder = pins.path.parent().unwrap_or(Path::new("."));
        let top = git(surroundings, folder, &["rev-parse", "--show-toplevel"])?;
        let top = PathBuf::from(String::from_utf8_lossy(&top).trim_end_matches('\n'));
        let path = pins.path.canonicalize().facts(&pins.path)?;
        let inside = path.strip_prefix(&top).unwrap_or(&path).display().to_string();
        all.entry(top).or_default().push(inside);
    }
    Ok(all)
}

fn git(surroundings: &Surroundings, folder: &Path, arguments: &[&str]) -> Result<Vec<u8>, Failure> {
    let program =
        surroundings.host.search.iter().map(|folder| folder.join("git")).find(|file| file.is_file());
    let program = program.ok_or_else(|| Failure::Usage {
        message: "git is not in PATH".to_owned(),
        hint: "install it, or leave out --commit and --patch".to_owned(),
    })?;
    let said = Command::new(program).arg("-C").arg(folder).args(arguments).output()?;
    if said.status.success() {
        return Ok(said.stdout);
    }
    let what = String::from_utf8_lossy(&said.stderr).trim().to_owned();
    Err(Failure::Usage {
        message: format!("git in {}: {what}", folder.display()),
        hint: "the pins were moved but not committed".to_owned(),
    })
}
