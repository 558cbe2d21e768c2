//! `build`: from a folder to an image.

use super::Done;
use super::check::problems;
use super::order::order;
use super::previews::show_previews;
use super::watching::follow;
use crate::interrupt;
use crate::shared;
use crate::surroundings::Surroundings;
use arguments::{BuildOptions, SourceOptions};
use content::image::{may_become_layout, stream_archive};
use ecosystems::Withheld;
use engine::{Budget, FailedRoot, KeptRoot, Session, SharedResults, StepOutcome};
use images::push;
use model::{Error, shell_words};
use planning::Pinning;
use remote::Network;
use remote::oci::Reference;
use render::events::Renderer;
use render::resolving::Resolving;
use render::table::Table;
use render::{BUSY, FAINT, GOOD, Output, STRONG, TYPED, styled, words};
use std::io::{self, BufWriter, IsTerminal};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use wording::{Failure, trust_advice};
use workshop::app::{App, BuildRequest};
use workshop::build;
use workshop::build::{Built, BuiltPlatform, Exports, Planned, preview};
use workshop::check::{PLAN_FAILS, Scope, Severity};
use workshop::inspect::{self, DEFAULT_TAG};
use workshop::plan::Worklist;
use workshop::prepare::{plan_offline, prepare};
use workshop::record::{LayerRecord, Record};
use workshop::storage::{self, Limit};

pub fn run(options: &BuildOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    if options.watch {
        let built = |_| match work(options, surroundings, output) {
            Ok(_) => Ok(()),
            Err(Failure::Core(error)) if matches!(*error, Error::Interrupted) => Ok(()),
            Err(failure) => {
                // It stands there until the next change.
                wording::report(output, &failure);
                Ok(())
            }
        };
        return follow(&options.source, &[], surroundings, built).map(|()| ExitCode::SUCCESS);
    }
    let done = work(options, surroundings, output);
    if done.is_err() {
        for Withheld { variable, server } in &surroundings.withheld {
            output.aside(format!(
                "note: the app's .npmrc asks to send the variable {variable} to {server}; it was not sent, because only the app names that server"
            ));
            output.aside(format!("  {}", trust_advice(server)));
        }
    }
    done
}

fn work(options: &BuildOptions, surroundings: &Surroundings, output: &Output) -> Done {
    check_targets(options, output)?;
    let push_to = options.push.as_ref().map(|to| push::reference(to, &options.tag)).transpose()?;
    if options.push.is_some() {
        // An unreadable key is reported before the build.
        super::keys::signing_key(&options.signing)?;
    }
    let network = if options.offline { Network::Forbidden } else { Network::Allowed };
    let resolving = Resolving::new(output);
    let fetcher = surroundings.fetcher(network);
    let fetcher = fetcher.with_witness(resolving.witness(surroundings.witness.clone()));
    let pinning = match (options.locked, options.update) {
        (true, _) => Pinning::Locked,
        (_, true) => Pinning::Update,
        _ => Pinning::Keep,
    };
    let platform = options.platform.first().unwrap_or(&surroundings.platform);
    let order =
        BuildRequest { pinning, platform, ..order(&options.tag, &options.compress, surroundings, &fetcher) };
    let app = surroundings.look(&options.source, order.fetcher, order.now)?;
    if !options.anyway {
        check_first(&app, &order, surroundings)?;
    }
    let worklist = prepare(&app, &order, &surroundings.store)?;
    // Obstacles on other platforms are reported before anything runs.
    let orders: Vec<BuildRequest<'_>> =
        others_of(&options.platform).map(|platform| BuildRequest { platform, ..order }).collect();
    let others: Vec<Worklist> =
        orders.iter().map(|order| prepare(&app, order, &surroundings.store)).collect::<Result<_, _>>()?;
    drop(resolving);
    if options.dry_run {
        let previews = std::iter::once(&worklist).chain(&others);
        let previews = previews.map(|list| (list, preview(&app, list, &surroundings.store)));
        show_previews(&app, &previews.collect::<Vec<_>>(), output);
        return Ok(ExitCode::SUCCESS);
    }
    let archive = options.archive.as_ref().filter(|file| !is_standard_output(file));
    let exports = Exports { layout: options.layout.as_deref(), archive: archive.map(PathBuf::as_path) };
    let failed_root = KeptRoot::default();
    let kept = options.shell_on_failure.then_some(&failed_root);
    let planned = Planned { worklist: &worklist, order: &order };
    let others: Vec<Planned<'_>> =
        others.iter().zip(&orders).map(|(worklist, order)| Planned { worklist, order }).collect();
    let built = match build_quietly(&app, planned, &others, exports, kept, surroundings, output) {
        Ok(built) => built,
        Err(failure) => return after_failure(failure, failed_root.take(), output),
    };
    let written = options.layout.iter().chain(archive);
    let written: Vec<String> = written.map(|place| place.display().to_string()).collect();
    let is_streamed = options.archive.as_ref().is_some_and(|file| is_standard_output(file));
    let aside = Output::aside_alone();
    let output = if is_streamed { &aside } else { output };
    if is_streamed {
        let mut to = BufWriter::new(io::stdout().lock());
        stream_archive(&surroundings.store, built.digest, &mut to, Path::new("standard output"))?;
    }
    if !output.is_json() {
        show_built(&built, &written, output);
    }
    let pushed = push_to.map(|to| push_built(&built, &to, options, surroundings, output)).transpose()?;
    if output.is_json() {
        output.json(&document(&built, &written, pushed));
    }
    if built.outcomes.iter().any(|outcome| outcome.because.is_some()) {
        keep_within_limit(surroundings, output)?;
    }
    Ok(ExitCode::SUCCESS)
}

/// The platforms behind the first one, each once.
fn others_of(platforms: &[String]) -> impl Iterator<Item = &String> {
    let is_new = |at: &usize| !platforms[..*at].contains(&platforms[*at]);
    (1..platforms.len()).filter(is_new).map(|at| &platforms[at])
}

/// Opens a shell in the root of the step that failed, if there is one. The failure was reported before.
fn after_failure(failure: Failure, root: Option<FailedRoot>, output: &Output) -> Done {
    let Some(root) = root else { return Err(failure) };
    let code = wording::report(output, &failure);
    output.aside(format!(
        "a shell where \"{}\" failed; leave it with `exit`; its changes are discarded",
        root.step
    ));
    root.open_shell()?;
    Ok(code)
}

/// What stands for standard output, where a file is named.
const STANDARD_OUTPUT: &str = "-";

fn is_standard_output(file: &Path) -> bool {
    file == Path::new(STANDARD_OUTPUT)
}

/// Prunes the store, where the user says how large it may become. While others use it, they are left in peace: the last
/// of them prunes.
fn keep_within_limit(surroundings: &Surroundings, output: &Output) -> Result<(), Failure> {
    let Some(keep) = surroundings.user.keep else { return Ok(()) };
    let now = Surroundings::now() / 1_000_000_000;
    let pruned = storage::prune(&surroundings.store, Limit::Bytes(keep), now, true)?;
    if let Some(pruned) = pruned.filter(|pruned| pruned.bytes > 0) {
        let (removed, keep) = (words::size(pruned.bytes), words::size(keep));
        output.aside(format!("note: removed {removed} from the store to keep it below {keep}"));
    }
    Ok(())
}

/// Ends the build when it is known already that it or the start will fail.
fn check_first(app: &App, order: &BuildRequest<'_>, surroundings: &Surroundings) -> Result<(), Failure> {
    let planned = plan_offline(app, order, &surroundings.store);
    let fetcher = surroundings.fetcher(Network::Forbidden);
    let mut problems = problems(app, &planned, &fetcher, surroundings, Scope::Source)?;
    // What is not pinned, or not at hand, may still be found out.
    let may_plan = planned.as_ref().is_err_and(|error| !is_of_source(error));
    problems.retain(|p| p.severity == Severity::Error && !(may_plan && p.code == PLAN_FAILS));
    match (planned, &problems[..]) {
        (_, []) => Ok(()),
        // The error itself says more than the rule.
        (Err(error), [problem]) if problem.code == PLAN_FAILS => Err(error.into()),
        _ => Err(Failure::WillFail(problems)),
    }
}

/// Whether it is the source that is at fault, and not what has to be asked for.
fn is_of_source(error: &Error) -> bool {
    matches!(error, Error::Survey(_) | Error::Config(_) | Error::Base(_) | Error::Source(_))
}

/// Looks at the places to write to before anything is built.
fn check_targets(options: &BuildOptions, output: &Output) -> Result<(), Failure> {
    let is_streamed = options.archive.as_ref().is_some_and(|file| is_standard_output(file));
    if is_streamed && (io::stdout().is_terminal() || output.is_json()) {
        return Err(Failure::Usage {
            message: "the archive cannot go to standard output together with other output".to_owned(),
            hint: "redirect standard output and leave out --format json, or give --archive a file name"
                .to_owned(),
        });
    }
    let on_terminal = io::stdin().is_terminal() && io::stdout().is_terminal();
    if options.shell_on_failure && !on_terminal {
        return Err(Failure::Usage {
            message: "--shell-on-failure needs a terminal".to_owned(),
            hint: "leave out the option, or run the build in a terminal".to_owned(),
        });
    }
    if let Some(folder) = options.layout.as_ref().filter(|f| !may_become_layout(f)) {
        return Err(Failure::Usage {
            message: format!("{} is not an image layout", folder.display()),
            hint: "give a new folder, or an earlier layout, which is then replaced".to_owned(),
        });
    }
    if let Some(file) = options.archive.as_ref().filter(|_| !is_streamed) {
        let parent = file.parent().filter(|p| *p != Path::new("")).unwrap_or(Path::new("."));
        if file.is_dir() || !parent.is_dir() {
            return Err(Failure::Usage {
                message: format!("{} cannot be written", file.display()),
                hint: "give a file name in an existing folder".to_owned(),
            });
        }
    }
    Ok(())
}

/// Builds an app for this machine under its own name, showing only what runs meanwhile.
pub fn build_once(
    source: &SourceOptions,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<Built, Failure> {
    let fetcher = surroundings.fetcher(Network::Allowed);
    let order = order(DEFAULT_TAG, "zstd", surroundings, &fetcher);
    let app = surroundings.look(source, order.fetcher, order.now)?;
    check_first(&app, &order, surroundings)?;
    let worklist = prepare(&app, &order, &surroundings.store)?;
    let planned = Planned { worklist: &worklist, order: &order };
    let renderer = Renderer::of_work(output);
    build_showing(&renderer, &app, planned, (&[], Exports::default(), None), surroundings)
}

/// Builds, showing only what happens meanwhile.
pub fn build_quietly(
    app: &App,
    first: Planned<'_>,
    others: &[Planned<'_>],
    exports: Exports<'_>,
    failed_root: Option<&KeptRoot>,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<Built, Failure> {
    build_showing(&Renderer::new(output), app, first, (others, exports, failed_root), surroundings)
}

fn build_showing(
    renderer: &Renderer<'_>,
    app: &App,
    first: Planned<'_>,
    (others, exports, failed_root): (&[Planned<'_>], Exports<'_>, Option<&KeptRoot>),
    surroundings: &Surroundings,
) -> Result<Built, Failure> {
    let budget = Budget::new(surroundings.jobs);
    let network = if first.order.fetcher.may_use_network() { Network::Allowed } else { Network::Forbidden };
    let shared = shared::open(surroundings, network)?;
    let events = |event| renderer.show(&event);
    let session = Session {
        failed_root,
        shared: shared.as_ref().map(|shared| shared as &dyn SharedResults),
        ..surroundings.session(first.order.fetcher, &budget, &events)
    };
    let built = build::build(app, first, others, exports, &session);
    shared::finish(shared.as_ref(), renderer.output());
    Ok(built?)
}

/// Pushes a finished build, and shows it; gives it for programs.
fn push_built(
    built: &Built,
    to: &Reference,
    options: &BuildOptions,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<serde_json::Value, Failure> {
    let image = inspect::open(&surroundings.store, &format!("{}:{}", built.name, built.tag))?;
    let evidence = super::evidence::wanted(&image, options.evidence, &options.signing)?;
    let pushed = super::push::push_to(&image, to, &evidence, surroundings, output)?;
    if !output.is_json() {
        output.line(format!("\npushed to {}", styled(STRONG, &pushed.repository)));
        super::push::details(&pushed, output);
    }
    Ok(super::push::document(&image, &pushed))
}

/// A finished build, for programs; `written` are the places that it was also written to.
fn document(built: &Built, written: &[String], pushed: Option<serde_json::Value>) -> serde_json::Value {
    let mut document = serde_json::json!({
        "format": "shtetl/build/1",
        "name": built.name,
        "tag": built.tag,
        "digest": built.digest,
        "number": built.number,
        "milliseconds": built.milliseconds,
        "unchanged": built.before == Some(built.digest),
        "steps": built.outcomes,
        "processes": built.record.processes,
        "layers": built.record.layers,
        "left_out": built.left_out,
        "written": written,
    });
    if !built.others.is_empty() {
        let other = |other: &BuiltPlatform| {
            let BuiltPlatform { record, outcomes } = other;
            serde_json::json!({ "platform": record.platform, "steps": outcomes, "layers": record.layers })
        };
        document["other_platforms"] = built.others.iter().map(other).collect::<Vec<_>>().into();
    }
    if let Some(pushed) = pushed {
        document["pushed"] = pushed;
    }
    document
}

/// Shows a finished build to people; `written` are the places that it was also written to.
pub fn show_built(built: &Built, written: &[String], output: &Output) {
    let others = built.others.iter().flat_map(|other| &other.outcomes);
    let ran = built.outcomes.iter().chain(others).filter(|o| o.because.is_some()).count();
    let image = format!("{}:{}", built.name, built.tag);
    let verdict = match (ran, built.before) {
        (0, Some(before)) if before == built.digest => "nothing changed, nothing ran".to_owned(),
        (0, Some(_)) => "nothing ran; only the image's documents changed".to_owned(),
        (0, None) => "nothing ran: every result was found".to_owned(),
        (n, _) => format!("{} ran", words::count(n, "step")),
    };
    let time = words::duration(built.milliseconds);
    output.line(format!("{}  build {}, {verdict}, {time}", styled(STRONG, &image), built.number));
    output.line(format!("  {}", styled(FAINT, built.digest)));
    let first = (&built.record, &built.outcomes);
    let others = built.others.iter().map(|other| (&other.record, &other.outcomes));
    for (record, outcomes) in std::iter::once(first).chain(others) {
        output.line("");
        if !built.others.is_empty() {
            output.line(styled(STRONG, &record.platform));
        }
        steps(record, outcomes).lines().into_iter().for_each(|line| output.line(line));
    }
    output.line("");
    for line in runs(built).lines() {
        output.line(line);
    }
    for place in written {
        output.line(format!("  {}  {place}", styled(FAINT, "written to")));
    }
    // After the first build, people know.
    if built.number == 1 {
        output.line("");
        output.line(format!("next: {}", styled(TYPED, next(built))));
    }
}

/// The command that runs a new image, with the settings that it needs.
fn next(built: &Built) -> String {
    let settings = built.record.settings.iter();
    let needed = settings.filter(|(_, setting)| setting.required && setting.value.is_none());
    let given: String = needed.map(|(name, _)| format!(" --set {name}=VALUE")).collect();
    let tag = if built.tag == DEFAULT_TAG { String::new() } else { format!(":{}", built.tag) };
    format!("shtetl run {}{tag}{given}", built.name)
}

/// The steps of the image's layers, and those that only built, where they ran.
fn steps(record: &Record, outcomes: &[StepOutcome]) -> Table {
    let mut table = Table::new(&[2]);
    for (at, outcome) in outcomes.iter().enumerate() {
        let layer = record.layers.get(at);
        let (what, why) = match &outcome.because {
            None if layer.is_none() => continue,
            None => (styled(GOOD, "found"), String::new()),
            Some(reason) => (
                styled(BUSY, "ran"),
                format!("{}, {}", words::duration(outcome.milliseconds), words::reason(reason)),
            ),
        };
        let size = layer.map_or_else(String::new, |layer| words::size(layer.size));
        let why = if layer.is_some() { why } else { format!("{why}; only for the build") };
        table.row([outcome.step.clone(), what, size, styled(FAINT, why)]);
    }
    let total: u64 = record.layers.iter().map(|l: &LayerRecord| l.size).sum();
    let packages = record.packages.len();
    let more = if packages == 0 { String::new() } else { words::count(packages, "package") };
    table.row([styled(FAINT, "together"), String::new(), words::size(total), styled(FAINT, more)]);
    table
}

fn runs(built: &Built) -> Table {
    let mut table = Table::new(&[]);
    for process in &built.record.processes {
        table.row([
            process.name.clone(),
            shell_words::join(&process.command),
            words::process_details(process),
        ]);
    }
    table
}
