//! `yard logs` and `yard events`: what is kept in files, so that it can be read whether the yard is running or not.

use super::super::Done;
use super::Here;
use model::folder::entries;
use render::instances::prefix;
use render::{FAINT, styled};
use running::app::kept_text;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;
use wording::{Failure, event_words};
use yard::{AppState, Event};

/// How often it is looked whether there is more.
const GLANCE: Duration = Duration::from_millis(100);

/// Which lines are meant.
pub struct Which<'a> {
    pub process: Option<&'a str>,
    pub release: Option<u32>,
    /// Of each instance.
    pub lines: usize,
}

/// A kept line: its time, its instance, its text.
type Line = (String, String, String);

pub fn logs(here: &Here<'_>, app: &str, which: &Which<'_>, follow: bool) -> Done {
    let state = here.state(app)?;
    let Some(number) = which.release_of(&state) else {
        return Err(Failure::Usage {
            message: format!("{app} has not been released yet"),
            hint: format!("release an image: shtetl yard release {app}"),
        });
    };
    let files = files_of(&here.yard.logs(app, number), which)?;
    if files.is_empty() {
        if let (Some(process), false) = (which.process, follow) {
            return Err(Failure::Usage {
                message: format!("{process} wrote nothing in release {number} of {app}"),
                hint: format!("`shtetl yard logs {app}` shows the output of all"),
            });
        }
        here.output.aside(styled(FAINT, format!("nothing was written in release {number} of {app}")));
    }
    let mut read = BTreeMap::new();
    let mut lines = Vec::new();
    for (instance, file) in &files {
        lines.extend(last_lines(instance, file, which.lines)?);
        read.insert(file.clone(), fs::metadata(file).map_or(0, |file| file.len()));
    }
    show(here, lines);
    if follow {
        go_on(here, app, which, read)?;
    }
    Ok(ExitCode::SUCCESS)
}

impl Which<'_> {
    /// The release that is meant.
    fn release_of(&self, state: &AppState) -> Option<u32> {
        let last = || state.releases.last().map(|release| release.number);
        self.release.or(state.current).or_else(last)
    }
}

/// Shows new output until the reader is gone; `read` is how much of each file was shown.
fn go_on(
    here: &Here<'_>,
    app: &str,
    which: &Which<'_>,
    mut read: BTreeMap<PathBuf, u64>,
) -> Result<(), Failure> {
    while here.output.failure().is_none() {
        std::thread::sleep(GLANCE);
        // A new release writes elsewhere.
        let state = here.yard.state(app)?.unwrap_or_default();
        let Some(number) = which.release_of(&state) else { return Ok(()) };
        let mut lines = Vec::new();
        for (instance, file) in files_of(&here.yard.logs(app, number), which)? {
            let from = read.entry(file.clone()).or_default();
            lines.extend(lines_from(&instance, &file, from));
        }
        show(here, lines);
    }
    Ok(())
}

/// The logs of instances, by their names.
fn files_of(folder: &Path, which: &Which<'_>) -> Result<Vec<(String, PathBuf)>, Failure> {
    let name = |path: PathBuf| {
        let instance = path.file_name()?.to_str()?.strip_suffix(".log")?.to_owned();
        let process = instance.split('.').next().unwrap_or_default();
        let is_meant = which.process.is_none_or(|wanted| wanted == instance || wanted == process);
        is_meant.then_some((instance, path))
    };
    Ok(entries(folder)?.into_iter().filter_map(name).collect())
}

fn parsed(instance: &str, text: &str) -> Option<Line> {
    let (time, text) = text.split_once(' ')?;
    Some((time.to_owned(), instance.to_owned(), text.to_owned()))
}

fn last_lines(instance: &str, file: &Path, most: usize) -> Result<Vec<Line>, Failure> {
    let text = kept_text(file).map_err(|source| Failure::File { path: file.to_owned(), source })?;
    let all: Vec<&str> = text.lines().collect();
    Ok(all[all.len().saturating_sub(most)..].iter().filter_map(|line| parsed(instance, line)).collect())
}

/// What was written since, in whole lines.
fn lines_from(instance: &str, file: &Path, from: &mut u64) -> Vec<Line> {
    let length = fs::metadata(file).map_or(0, |file| file.len());
    if length < *from {
        // It was begun again.
        *from = 0;
    }
    let mut bytes = Vec::new();
    let mut reader = match File::open(file) {
        Ok(reader) if length > *from => reader,
        _ => return Vec::new(),
    };
    if reader.seek(SeekFrom::Start(*from)).and_then(|_| reader.read_to_end(&mut bytes)).is_err() {
        return Vec::new();
    }
    let whole = bytes.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
    *from += whole as u64;
    String::from_utf8_lossy(&bytes[..whole]).lines().filter_map(|line| parsed(instance, line)).collect()
}

/// The last lines of all instances of a release, as they are shown.
pub fn last(here: &Here<'_>, app: &str, release: u32, most: usize) -> Result<Vec<String>, Failure> {
    let which = Which { process: None, release: Some(release), lines: most };
    let files = files_of(&here.yard.logs(app, release), &which)?;
    let mut lines: Vec<Line> = Vec::new();
    for (instance, file) in &files {
        lines.extend(last_lines(instance, file, most)?);
    }
    lines.sort_by(|a, b| a.0.cmp(&b.0));
    let names: Vec<&str> = files.iter().map(|(instance, _)| instance.as_str()).collect();
    let from = lines.len().saturating_sub(most);
    let shown = |(_, instance, text): &Line| format!("{} | {text}", prefix(&names, instance));
    Ok(lines[from..].iter().map(shown).collect())
}

/// Shows lines in the order of their times.
fn show(here: &Here<'_>, mut lines: Vec<Line>) {
    lines.sort_by(|a, b| a.0.cmp(&b.0));
    let mut names: Vec<&str> = lines.iter().map(|(_, instance, _)| instance.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    for (time, instance, text) in &lines {
        match here.output.is_json() {
            true => {
                here.output.json_line(&serde_json::json!({ "at": time, "instance": instance, "line": text }))
            }
            false => {
                here.output.line(format!("{} {} | {text}", styled(FAINT, time), prefix(&names, instance)))
            }
        }
    }
}

pub fn events(here: &Here<'_>, app: &str, follow: bool) -> Done {
    here.state(app)?;
    let mut shown = 0;
    loop {
        let events = here.yard.events_of(app)?;
        events.iter().skip(shown).for_each(|event| show_event(here, event));
        shown = events.len();
        if !follow || here.output.failure().is_some() {
            return Ok(ExitCode::SUCCESS);
        }
        std::thread::sleep(GLANCE);
    }
}

fn show_event(here: &Here<'_>, event: &Event) {
    if here.output.is_json() {
        return here.output.json_line(event);
    }
    let time = jiff::Timestamp::from_millisecond(event.at_ms).unwrap_or_default();
    here.output.line(format!("{} {}", styled(FAINT, format!("{time:.3}")), event_words(&event.kind)));
}
