//! `demo`: writes the sample apps and goes through the whole job with them.

use super::build::{build_quietly, show_built};
use super::order::order;
use super::{Done, survey};
use crate::demo_files;
use crate::surroundings::Surroundings;
use arguments::{DemoOptions, SourceOptions};
use content::store::{Store, remove_tree};
use model::error::BaseError;
use model::{Error, ProcessKind, ProcessType, shell_words};
use remote::Network;
use render::{FAINT, GOOD, Output, STRONG, TYPED, styled, words};
use running::image::PortUse;
use running::{Launched, Start, http};
use std::fs;
use std::io::{BufRead, BufReader, IsTerminal, Read};
use std::path::{Path, PathBuf};
use std::process::{ExitCode, Stdio};
use std::time::{Duration, Instant};
use wording::Failure;
use workshop::app::App;
use workshop::base_selection::provisions;
use workshop::build::{Built, Exports, Planned};
use workshop::inspect;
use workshop::inspect::DEFAULT_TAG;
use workshop::prepare::prepare;

/// The apps, in the order in which they are shown.
const APPS: [&str; 3] = ["timetable", "fares", "notices"];
/// Those that are shown where a base has their runtimes.
const FURTHER: [&str; 3] = ["bookings", "depot", "buoy"];
/// What is asked of a web process besides `/`.
const QUESTIONS: [(&str, &str); 2] = [("timetable", "/sailings.json"), ("fares", "/?child=1")];
/// How long a process may take to answer.
const PATIENCE: Duration = Duration::from_secs(20);
/// Answers and outputs are shown up to this many lines.
const LINES: usize = 8;

pub fn run(options: &DemoOptions, surroundings: &Surroundings, output: &Output) -> Done {
    if output.is_json() {
        return Err(Failure::Usage {
            message: "the demo is for people and has no JSON".to_owned(),
            hint: "leave out --format".to_owned(),
        });
    }
    let started = Instant::now();
    let (folder, temporary) = match &options.dir {
        Some(folder) => (checked(folder)?, false),
        None => (surroundings.store.temporary_folder()?, true),
    };
    let result =
        Demo::new(&folder, options, surroundings, output).and_then(|demo| demo.whole(started, temporary));
    if temporary {
        remove_tree(&folder);
    }
    result.map(|()| ExitCode::SUCCESS)
}

/// Only a folder without anything in it is written to.
fn checked(folder: &Path) -> Result<PathBuf, Failure> {
    let used = fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some());
    if used || folder.is_file() {
        return Err(Failure::Usage {
            message: format!("{} is there already", folder.display()),
            hint: "give a new or empty folder".to_owned(),
        });
    }
    Ok(folder.to_owned())
}

struct Demo<'a> {
    folder: PathBuf,
    pause: bool,
    /// Another base than the one that the apps name.
    base: Option<String>,
    surroundings: Surroundings,
    output: &'a Output,
}

impl<'a> Demo<'a> {
    /// Writes the apps; builds go to a store of their own, so that they start from nothing.
    fn new(
        folder: &Path,
        options: &DemoOptions,
        surroundings: &Surroundings,
        output: &'a Output,
    ) -> Result<Self, Failure> {
        write_apps(folder)?;
        let store = Store::open(&folder.join("store"))?;
        let surroundings = Surroundings { logins: Vec::new(), rules: None, ..surroundings.with_store(store) };
        let pause = !options.no_pause && std::io::stdin().is_terminal() && std::io::stdout().is_terminal();
        Ok(Self { folder: folder.to_owned(), pause, base: options.base.clone(), surroundings, output })
    }

    fn whole(&self, started: Instant, temporary: bool) -> Result<(), Failure> {
        let name = styled(STRONG, "Kestrel Sound");
        match &self.base {
            None => {
                self.output.line(format!("{name} is a ferry cooperative with three apps:"));
                self.output.line(
                    "timetable (Node), fares (Python) and notices (static pages). Their packages come from a",
                );
                self.output.line(
                    "folder beside them, their runtimes from this machine: no network, no daemon, no root.",
                );
                self.output
                    .line("Three more (Ruby, PHP and Go) are shown by `shtetl demo --base debian:trixie`.");
            }
            Some(base) => {
                self.output.line(format!("{name} is a ferry cooperative with six apps: timetable (Node),"));
                self.output.line(
                    "fares (Python), notices (static pages), bookings (Ruby), depot (PHP) and buoy (Go).",
                );
                self.output
                    .line("Their packages come from a folder beside them, their runtimes with the base");
                self.output.line(format!("{base}: no daemon, no root."));
            }
        }
        self.part(1, "What is it, and why? Nothing is built yet.", false);
        let apps = self.survey()?;
        self.part(2, "Each app becomes images; every layer is made once and shared.", true);
        let built = self.build_all(&apps)?;
        self.part(3, "Every process type runs, isolated from this machine.", true);
        for built in &built {
            self.run_all(built)?;
        }
        if let Some(first) = built.first() {
            self.part(4, "Building again: nothing changed, so nothing runs.", true);
            self.again(&first.name)?;
            self.part(5, "One changed line: only what depends on it is rebuilt.", true);
            self.change(&first.name)?;
        }
        self.ending(&built, started, temporary);
        Ok(())
    }

    fn part(&self, number: u32, title: &str, pause: bool) {
        if pause && self.pause {
            self.output.line(styled(FAINT, "\nEnter goes on"));
            // Without a line to read there is no reason to wait.
            let _ = std::io::stdin().lock().read_line(&mut String::new());
        }
        self.output.line("");
        let rule = "─".repeat(60_usize.saturating_sub(title.chars().count()).max(3));
        self.output.line(styled(STRONG, format!("{number}  {title} {rule}")));
    }

    fn typed(&self, command: &str) {
        self.output.line(format!("\n{} {}", styled(FAINT, "$"), styled(TYPED, format!("shtetl {command}"))));
    }

    /// The apps that are shown.
    fn apps(&self) -> Vec<&'static str> {
        let further = FURTHER.iter().filter(|_| self.base.is_some());
        APPS.iter().chain(further).copied().collect()
    }

    fn look(&self, app: &str) -> Result<App, Failure> {
        let mut source = SourceOptions::of(&self.folder.join(app));
        source.values.extend(self.base.iter().map(|base| format!("base.from={base}")));
        self.surroundings.look(&source, Surroundings::now())
    }

    fn survey(&self) -> Result<Vec<App>, Failure> {
        let apps = self.apps().into_iter().map(|app| self.look(app)).collect::<Result<Vec<_>, _>>()?;
        for (number, app) in apps.iter().enumerate() {
            if number == 0 {
                self.typed(&format!("survey {}", app.survey.name));
                survey::text(&app.survey, &provisions(app)?, self.output);
                self.output.line("");
            } else {
                let because = app.survey.chosen_findings().filter_map(|f| f.evidence.first());
                let because: Vec<_> = because.map(|e| words::place(&e.place)).collect();
                let (name, language) = (&app.survey.name, app.survey.chosen.join(" and "));
                self.output.line(format!(
                    "{}  {language}, because of {}",
                    styled(STRONG, name),
                    because.join(" and ")
                ));
            }
        }
        Ok(apps)
    }

    /// Builds the apps whose runtime this machine has; says which it has not.
    fn build_all(&self, apps: &[App]) -> Result<Vec<Built>, Failure> {
        let mut all = Vec::new();
        for app in apps {
            self.typed(&format!("build {}", app.survey.name));
            match self.build(&app.survey.name) {
                Ok(built) => {
                    show_built(&built, &[], self.output);
                    all.push(built);
                }
                Err(failure) if is_missing_runtime(&failure) => {
                    wording::report(self.output, &failure);
                    self.output.aside(format!("the demo goes on without {}", app.survey.name));
                }
                Err(failure) => return Err(failure),
            }
        }
        Ok(all)
    }

    fn build(&self, name: &str) -> Result<Built, Failure> {
        let fetcher = self.surroundings.fetcher(match self.base {
            None => Network::Forbidden,
            Some(_) => Network::Allowed,
        });
        let order = order(DEFAULT_TAG, "zstd", &self.surroundings, &fetcher);
        let app = &self.look(name)?;
        let worklist = prepare(app, &order, &self.surroundings.store)?;
        build_quietly(
            app,
            Planned { worklist: &worklist, order: &order },
            &[],
            Exports::default(),
            None,
            &self.surroundings,
            self.output,
        )
    }

    fn run_all(&self, built: &Built) -> Result<(), Failure> {
        for process in &built.record.processes {
            match process.kind {
                ProcessKind::Process => self.run_process(&built.name, process)?,
                ProcessKind::Task => self.run_task(&built.name, process)?,
            }
        }
        Ok(())
    }

    fn launch(&self, name: &str, process: &ProcessType, port: Option<u16>) -> Result<Launched, Failure> {
        let image = inspect::open(&self.surroundings.store, name)?;
        let start =
            Start { port: PortUse::Published(port), ..Start::within(self.surroundings.process_limits()) };
        let io = [Stdio::null(), Stdio::piped(), Stdio::null()];
        Ok(running::start(&self.surroundings.store, &image, Some(&process.name), start, io)?)
    }

    fn run_process(&self, name: &str, process: &ProcessType) -> Result<(), Failure> {
        self.typed(&format!("run {name} {}", process.name));
        let mut launched = self.launch(name, process, process.port.map(|_| 0))?;
        let Some(port) = launched.port else {
            // A worker says something instead of answering.
            let lines = BufReader::new(launched.process().take_output().ok_or(Failure::Silent)?).lines();
            lines.map_while(Result::ok).take(2).for_each(|line| self.said(&line));
            launched.stop(PATIENCE)?;
            return Ok(());
        };
        if !launched.wait_for_port(PATIENCE) {
            return Err(Failure::Silent);
        }
        let more = QUESTIONS.iter().filter(|(app, _)| *app == name).map(|(_, path)| *path);
        for path in std::iter::once("/").chain(more).chain(process.health.as_deref().filter(|h| *h != "/")) {
            let (status, body) = http::ask(port, path)?;
            self.output.line(format!("  {} {status}", styled(GOOD, format!("GET {path}"))));
            body.lines().take(LINES).for_each(|line| self.said(line));
        }
        launched.stop(PATIENCE)?;
        Ok(())
    }

    fn run_task(&self, name: &str, process: &ProcessType) -> Result<(), Failure> {
        self.typed(&format!("run {name} {}", process.name));
        let mut launched = self.launch(name, process, None)?;
        let mut text = String::new();
        launched.process().take_output().ok_or(Failure::Silent)?.read_to_string(&mut text)?;
        text.lines().take(LINES).for_each(|line| self.said(line));
        launched.process().wait().map_err(Error::from)?;
        Ok(())
    }

    /// A line that an app said.
    fn said(&self, line: &str) {
        const WIDEST: usize = 92;
        let cut: String = line.chars().take(WIDEST).collect();
        let more = if line.chars().count() > WIDEST { "…" } else { "" };
        self.output.line(format!("  {} {cut}{more}", styled(FAINT, "|")));
    }

    fn again(&self, name: &str) -> Result<(), Failure> {
        self.typed(&format!("build {name}"));
        show_built(&self.build(name)?, &[], self.output);
        Ok(())
    }

    fn change(&self, name: &str) -> Result<(), Failure> {
        let (file, from, to) = match name {
            "timetable" => ("server.js", "Sailings from", "Ferries from"),
            "fares" => ("fares.py", "\"Outer Light\": 4", "\"Outer Light\": 5"),
            _ => ("index.html", "<h1>Notices", "<h1>All notices"),
        };
        let path = self.folder.join(name).join(file);
        fs::write(&path, fs::read_to_string(&path)?.replace(from, to))?;
        self.output.line(format!("\nin {name}/{file}, {from:?} became {to:?}"));
        self.typed(&format!("build {name}"));
        show_built(&self.build(name)?, &[], self.output);
        Ok(())
    }

    fn ending(&self, built: &[Built], started: Instant, temporary: bool) {
        let images: usize = built.iter().map(|b| b.record.processes.len()).sum();
        let seconds = words::duration(u64::try_from(started.elapsed().as_millis()).unwrap_or_default());
        self.output.line("");
        self.output.line(styled(STRONG, "That was the whole job"));
        self.output.line(format!(
            "  {} for {} of {} apps in {seconds}, without {}daemon or root",
            words::count(images, "image"),
            built.len(),
            self.apps().len(),
            if self.base.is_none() { "network, " } else { "" }
        ));
        self.output.line("");
        self.output.line(styled(STRONG, "What to try next"));
        let folder = self.folder.display().to_string();
        let place = if temporary { "ferry-apps".to_owned() } else { shell_words::join(&[folder]) };
        let mut tries = vec![
            (format!("cd {place}; export SHTETL_STORE=$PWD/store"), "the apps, with what was just built"),
            ("shtetl show timetable".to_owned(), "layers, process types, settings, packages"),
            ("shtetl compare timetable#1 timetable".to_owned(), "what the changed line did to the image"),
            ("shtetl build timetable --dry-run".to_owned(), "what would run, and why"),
            ("shtetl run timetable --watch".to_owned(), "rebuilds and restarts whenever a file changes"),
            ("shtetl yard release timetable".to_owned(), "a release in the background: health, roll-back"),
            ("shtetl town show".to_owned(), "all apps at once"),
            ("shtetl survey YOUR-APP".to_owned(), "what it makes of your own source"),
        ];
        if temporary {
            tries.insert(0, (format!("shtetl demo {place}"), "the same, and the apps stay there"));
        }
        for (typed, what) in tries {
            self.output.line(format!("  {}  {}", styled(TYPED, format!("{typed:<56}")), styled(FAINT, what)));
        }
    }
}

fn is_missing_runtime(failure: &Failure) -> bool {
    matches!(failure, Failure::Core(error) if matches!(**error, Error::Base(BaseError::RuntimeMissing { .. })))
}

fn write_apps(folder: &Path) -> Result<(), Failure> {
    for (name, bytes) in demo_files::FILES {
        let path = folder.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::write(path, bytes)?;
    }
    Ok(())
}
