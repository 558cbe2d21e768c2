//! `demo`: writes the sample apps and goes through the whole job with them, by running this program as a user would.

use super::Done;
use crate::demo_files;
use crate::interrupt::{self, Ending};
use crate::surroundings::Surroundings;
use arguments::DemoOptions;
use config::AppConfig;
use config::addresses::Addresses;
use content::store::{Store, remove_tree};
use model::{Ecosystem, Error, ProcessKind, ProcessType, shell_words};
use objects::RegistryServer;
use render::{FAINT, GOOD, Output, STRONG, TYPED, styled, words};
use running::image::PortUse;
use running::{Launched, Start, http};
use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader, IsTerminal, Read, Write};
use std::net::{Ipv4Addr, TcpListener};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use wording::{Failure, INTERRUPTED};
use workshop::inspect;

/// The apps that this machine's runtimes can run, each with the program that it needs.
const APPS: [(&str, &str); 3] = [("timetable", "node"), ("fares", "python3"), ("notices", "python3")];
/// Those that are shown where a base has their runtimes.
const FURTHER: [&str; 4] = ["harbourmap", "bookings", "depot", "buoy"];
/// The one that is built with Maven, which is downloaded: only where it is known from where.
const WITH_MAVEN: &str = "cargo-desk";
/// The base where this machine has no runtime.
const ELSE: &str = "debian:trixie";
/// What is asked of a web process besides `/`.
const QUESTIONS: [(&str, &str); 2] = [("timetable", "/sailings.json"), ("fares", "/?child=1")];
/// How long a process may take to answer.
const PATIENCE: Duration = Duration::from_secs(20);
/// Answers and outputs are shown up to this many lines.
const LINES: usize = 8;
/// Variables that would change what the commands of the demo do.
const UNSET: [&str; 5] = ["SHTETL_RULES", "SHTETL_VALUES", "SHTETL_VARIANT", "SHTETL_TOWN", "SHTETL_SHARED"];

pub fn run(options: &DemoOptions, surroundings: &Surroundings, output: &Output) -> Done {
    if output.is_json() {
        return Err(Failure::Usage {
            message: "the demo has no JSON output".to_owned(),
            hint: "leave out --format".to_owned(),
        });
    }
    let (folder, temporary) = match &options.dir {
        Some(folder) => (checked(folder)?, false),
        None => (surroundings.store.temporary_folder()?, true),
    };
    let interrupted = stop_at_signal(&folder)?;
    let result = Demo::new(&folder, options, surroundings, output).and_then(|demo| demo.whole(temporary));
    if temporary {
        remove_tree(&folder);
    }
    match interrupted.load(Ordering::SeqCst) {
        // What failed was interrupted, too.
        true => Err(Error::Interrupted.into()),
        false => result.map(|()| ExitCode::SUCCESS),
    }
}

/// Lets the demo end in good order at a signal, which the command that runs meanwhile gets as well. What does not end in time
/// is ended, but never without its yard.
fn stop_at_signal(folder: &Path) -> Result<Arc<AtomicBool>, Failure> {
    let folder = folder.to_owned();
    interrupt::on_signal(PATIENCE, move |ending| {
        if ending == Ending::Forced {
            stop_yard(&folder);
            std::process::exit(i32::from(INTERRUPTED));
        }
    })
}

/// Only a new folder, an empty one, or that of an earlier demo is written to.
fn checked(folder: &Path) -> Result<PathBuf, Failure> {
    let used = fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some());
    let is_demo = ["timetable/shtetl.toml", "mirror", "store"].iter().all(|name| folder.join(name).exists());
    if (used && !is_demo) || folder.is_file() {
        return Err(Failure::Usage {
            message: format!("{} already exists", folder.display()),
            hint: "give a new or empty folder, or that of an earlier demo".to_owned(),
        });
    }
    fs::create_dir_all(folder)?;
    Ok(folder.canonicalize()?)
}

struct Demo<'a> {
    folder: PathBuf,
    pause: bool,
    /// The base that the apps have; `None` for this machine's runtimes.
    base: Option<String>,
    /// Those that can be built.
    apps: Vec<&'static str>,
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
        let here = APPS.iter().filter(|(_, program)| surroundings.host.program(program).is_some());
        let mut apps: Vec<&str> = here.map(|(app, _)| *app).collect();
        let mut base = options.base.clone();
        if base.is_none() && apps.is_empty() && knows(surroundings, Ecosystem::DEBIAN) {
            output.aside(format!(
                "This machine has neither Node nor Python: the base is {ELSE}, which is downloaded."
            ));
            base = Some(ELSE.to_owned());
        }
        if base.is_some() {
            let maven = Some(WITH_MAVEN).filter(|_| knows(surroundings, Ecosystem::MAVEN));
            apps = APPS.iter().map(|(app, _)| *app).chain(FURTHER).chain(maven).collect();
        }
        write_apps(folder, base.as_deref())?;
        let surroundings = surroundings.with_store(Store::open(&folder.join("store"))?);
        let pause = !options.no_pause && std::io::stdin().is_terminal() && std::io::stdout().is_terminal();
        Ok(Self { folder: folder.to_owned(), pause, base, apps, surroundings, output })
    }

    fn whole(&self, temporary: bool) -> Result<(), Failure> {
        let started = Instant::now();
        self.introduction();
        let first = self.apps.first().copied();
        self.part("What is it, and why? Nothing is built yet.");
        self.shtetl(&format!("survey {}", first.unwrap_or("timetable")))?;
        let Some(first) = first else {
            self.output.aside(
                "No image is built: this machine has neither Node nor Python. Try --base debian:trixie.",
            );
            return Ok(());
        };
        self.part("Each app becomes images; every layer is made once and shared.");
        for app in &self.apps {
            self.shtetl(&format!("build {app}"))?;
        }
        self.part("Every process type runs, isolated from this machine.");
        for app in &self.apps {
            self.run_all(app)?;
        }
        self.part("Building again: nothing changed, so nothing runs.");
        self.shtetl(&format!("build {first}"))?;
        self.part("One changed line: only what depends on it is rebuilt.");
        self.change(first)?;
        self.shtetl(&format!("build {first}"))?;
        self.shtetl(&format!("compare {first}#1 {first}"))?;
        self.registry(first)?;
        if self.base.is_some() {
            self.part("A newer base under an image, without building it.");
            self.shtetl(&format!("swap-base {first} --newest --dry-run"))?;
        }
        self.releases(first)?;
        self.part("All apps at once.");
        self.shtetl(&format!("town build {}", self.apps.join(" ")))?;
        self.shtetl("town show")?;
        self.ending(started, temporary)
    }

    fn introduction(&self) {
        let name = styled(STRONG, "Kestrel Sound");
        self.output.line(match &self.base {
            None => format!(
                "{name} is a ferry cooperative with three apps:
timetable (Node), fares (Python) and notices (static pages). Their packages come from a
folder beside them, their runtimes from this machine: no network, no daemon, no root.
Five more (Ruby, PHP, Go, Java and a map) are shown by `shtetl demo --base debian:trixie`."
            ),
            Some(base) => format!(
                "{name} is a ferry cooperative with eight apps: timetable (Node), fares (Python),
notices (static pages), harbourmap (pages that Node builds), bookings (Ruby), depot (PHP),
buoy (Go) and cargo-desk (Java). Their packages come from a folder beside them, those of
Java from Maven's address, their runtimes with the base {base}: no daemon, no root."
            ),
        });
        if self.base.is_some() && !self.apps.contains(&WITH_MAVEN) {
            self.output.line(format!("{WITH_MAVEN} is left out: there is no address of the kind maven."));
        }
        for (app, program) in APPS.iter().filter(|(app, _)| !self.apps.contains(app)) {
            self.output.line(format!("{app} is left out: this machine has no {program}."));
        }
    }

    fn part(&self, title: &str) {
        if self.pause {
            self.output.line(styled(FAINT, "\nPress Enter to continue"));
            // Without a line to read there is no reason to wait.
            let _ = std::io::stdin().lock().read_line(&mut String::new());
        }
        self.output.line("");
        let rule = "─".repeat(70_usize.saturating_sub(title.chars().count()).max(3));
        self.output.line(styled(STRONG, format!("{title} {rule}")));
    }

    fn typed(&self, command: &str) {
        self.output.line(format!("\n{} {}", styled(FAINT, "$"), styled(TYPED, format!("shtetl {command}"))));
    }

    /// Runs a command of this program in the folder of the apps.
    fn shtetl(&self, command: &str) -> Result<(), Failure> {
        self.typed(command);
        std::io::stdout().flush()?;
        let status = program(&self.folder, command)?.status()?;
        match status.success() {
            true => Ok(()),
            false => Err(Failure::Demo { command: command.to_owned() }),
        }
    }

    fn registry(&self, app: &str) -> Result<(), Failure> {
        self.part("Into a registry, with evidence that is signed.");
        let folder = self.folder.join("registry");
        fs::create_dir_all(&folder)?;
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
        let server = RegistryServer::start(listener, &folder)?;
        let image = format!("{}/ferry/{app}:2", server.address());
        self.output.line("A registry of the demo's own stands in for yours.");
        if !self.folder.join("ferry.key").exists() {
            self.shtetl("keys make ferry.key")?;
        }
        self.shtetl(&format!("push {app} {image} --evidence --key ferry.key"))?;
        self.shtetl(&format!("verify {image} --trust ferry.key.pub"))
    }

    fn releases(&self, app: &str) -> Result<(), Failure> {
        self.part("Releases on this machine: health before traffic, and back again.");
        let yard = RunningYard(self);
        self.shtetl(&format!("yard release {app}#1"))?;
        self.shtetl(&format!("yard release {app}"))?;
        self.shtetl(&format!("yard roll-back {app}"))?;
        self.shtetl("yard status")?;
        drop(yard);
        Ok(())
    }

    fn run_all(&self, app: &str) -> Result<(), Failure> {
        for process in &inspect::open(&self.surroundings.store, app)?.record.processes {
            match process.kind {
                ProcessKind::Process => self.run_process(app, process)?,
                ProcessKind::Task => self.run_task(app, process)?,
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

    /// A line of an app's output.
    fn said(&self, line: &str) {
        const WIDEST: usize = 92;
        let cut: String = line.chars().take(WIDEST).collect();
        let more = if line.chars().count() > WIDEST { "…" } else { "" };
        self.output.line(format!("  {} {cut}{more}", styled(FAINT, "|")));
    }

    /// Changes a line of the app; in a demo that is taken up again, changes it back.
    fn change(&self, name: &str) -> Result<(), Failure> {
        let (file, from, to) = match name {
            "timetable" => ("server.js", "Sailings from", "Ferries from"),
            "fares" => ("fares.py", "\"Outer Light\": 4", "\"Outer Light\": 5"),
            _ => ("index.html", "<h1>Notices", "<h1>All notices"),
        };
        let path = self.folder.join(name).join(file);
        let text = fs::read_to_string(&path)?;
        let (from, to) = if text.contains(from) { (from, to) } else { (to, from) };
        fs::write(&path, text.replace(from, to))?;
        self.output.line(format!("\nin {name}/{file}, {from:?} became {to:?}"));
        Ok(())
    }

    fn ending(&self, started: Instant, temporary: bool) -> Result<(), Failure> {
        let mut images = 0;
        for app in &self.apps {
            images += inspect::open(&self.surroundings.store, app)?.record.processes.len();
        }
        let seconds = words::duration(u64::try_from(started.elapsed().as_millis()).unwrap_or_default());
        self.output.line("");
        self.output.line(styled(STRONG, "That was the whole job"));
        self.output.line(format!(
            "  {} of {} apps in {seconds}, without {}daemon or root",
            words::count(images, "image"),
            self.apps.len(),
            if self.base.is_none() { "network, " } else { "" }
        ));
        self.output.line("");
        self.output.line(styled(STRONG, "What to try next"));
        let folder = self.folder.display().to_string();
        let place = if temporary { "ferry-apps".to_owned() } else { shell_words::join(&[folder]) };
        let mut tries = vec![
            (format!("cd {place}; export SHTETL_STORE=$PWD/store"), "the apps, with what was just built"),
            ("shtetl show timetable".to_owned(), "layers, process types, settings, packages"),
            ("shtetl build timetable --dry-run".to_owned(), "what would run, and why"),
            ("shtetl run timetable --watch".to_owned(), "rebuilds and restarts after every change"),
            ("shtetl hand-over timetable --to compose \\".to_owned(), "files for a platform"),
            ("  --registry harbour.example/timetable --folder out".to_owned(), ""),
            ("shtetl survey YOUR-APP".to_owned(), "what Shtetl makes of your own app"),
        ];
        if temporary {
            tries.insert(0, (format!("shtetl demo {place}"), "the same, and keep the apps"));
        }
        for (typed, what) in tries {
            self.output.line(format!("  {}  {}", styled(TYPED, format!("{typed:<56}")), styled(FAINT, what)));
        }
        Ok(())
    }
}

/// Whether it is known where packages of an ecosystem come from.
fn knows(surroundings: &Surroundings, ecosystem: Ecosystem) -> bool {
    let (app, origins) = (AppConfig::default(), BTreeMap::new());
    let addresses = Addresses::new(&surroundings.book, &app, &origins, Path::new("."));
    addresses.in_force(ecosystem).is_ok()
}

/// The yard of the demo, which is stopped however the demo ends.
struct RunningYard<'d, 'o>(&'d Demo<'o>);

impl Drop for RunningYard<'_, '_> {
    fn drop(&mut self) {
        stop_yard(&self.0.folder);
    }
}

fn stop_yard(folder: &Path) {
    // Without one that runs there is nothing to stop, and nothing to say.
    let stopped =
        program(folder, "yard stop").and_then(|mut stop| Ok(stop.stdout(Stdio::null()).status()?));
    drop(stopped);
}

/// This program with a command, on the apps, the store and the yard in a folder.
fn program(folder: &Path, command: &str) -> Result<Command, Failure> {
    let mut program = Command::new(std::env::current_exe()?);
    program.args(command.split(' ')).current_dir(folder).stdin(Stdio::null());
    program.env("SHTETL_STORE", folder.join("store")).env("SHTETL_YARD", folder.join("yard"));
    for name in UNSET {
        program.env_remove(name);
    }
    Ok(program)
}

/// Writes what is not there yet; with a base, the apps get that one in place of this machine.
fn write_apps(folder: &Path, base: Option<&str>) -> Result<(), Failure> {
    for (name, bytes) in demo_files::FILES {
        let path = folder.join(name);
        if path.exists() {
            continue;
        }
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::write(&path, bytes)?;
        if let Some(base) = base.filter(|_| name.ends_with("shtetl.toml")) {
            fs::write(
                &path,
                String::from_utf8_lossy(bytes).replace("from = \"host\"", &format!("from = {base:?}")),
            )?;
        }
    }
    Ok(())
}
