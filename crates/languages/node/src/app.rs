//! How an app of Node is built and started, from its scripts and from what is known of its framework.

use crate::app_scripts::AppScripts;
use crate::frameworks::{self, Framework, Outcome};
use crate::inputs;
use crate::{ENTRY_FILES, MANIFEST, Manifest};
use model::shell_words::CommandLine;
use model::{
    AppBuild, BuildCommand, Evidence, Finding, Pages, Place, Problem, ProcessKind, ProcessType, Result, Sign,
};
use planning::first_present;
use source::SourceTree;
use std::collections::BTreeMap;

/// Scripts that start the app as it is when it is built, where `start` is for development.
const LIVE_SCRIPTS: [&str; 5] = ["start:prod", "start:production", "serve:prod", "production", "prod"];
/// Scripts that make something of the app, first to last.
const BUILD_SCRIPTS: [&str; 2] = ["postinstall", "build"];
/// What a build finds in its environment. By the last one, tools know which program runs scripts.
const BUILD_ENV: [&str; 4] = [
    "NEXT_TELEMETRY_DISABLED=1",
    "ASTRO_TELEMETRY_DISABLED=1",
    "NG_CLI_ANALYTICS=false",
    "npm_config_user_agent=npm/11.0.0",
];

/// The app as its manifest describes it.
pub(super) struct App<'a> {
    pub(super) tree: &'a SourceTree,
    pub(super) text: &'a str,
    pub(super) manifest: &'a Manifest,
    /// What has to be built before it, as a line of a shell.
    pub(super) before: Option<String>,
}

impl App<'_> {
    /// Adds to the finding how the app is built, started, or which pages the build makes.
    pub(super) fn survey(&self, finding: &mut Finding) -> Result<()> {
        let framework = frameworks::of(self.manifest);
        if let Some(known) = framework {
            let place = self.at(&format!("\"{}\":", known.package));
            finding.evidence.push(Evidence::speaks_for(
                place,
                known.package,
                format!("the framework {}", known.name),
            ));
        }
        finding.build = self.build(framework);
        self.without_what_was_built(finding);
        let outcome = match framework.filter(|_| finding.build.is_some()) {
            Some(framework) => framework.outcome(self.tree, self.manifest)?,
            None => None,
        };
        if let Some(web) = self.web(framework, outcome.as_ref(), finding) {
            finding.processes.push(web);
        } else if let Some((Outcome::Pages(_) | Outcome::SinglePage(_), folder)) = &outcome {
            let single_page = matches!(outcome, Some((Outcome::SinglePage(_), _)));
            let said =
                finding.build.as_ref().map_or_else(|| self.at("\"build\""), |build| build.said.clone());
            finding.evidence.push(Evidence::speaks_for(
                said.clone(),
                folder,
                "the pages that the build produces",
            ));
            finding.pages = Some(Pages { folder: folder.clone(), single_page, said });
        } else if let Some(known) = framework.filter(|known| known.package == "@sveltejs/kit") {
            let tells =
                "no adapter that produces a server: @sveltejs/adapter-node or @sveltejs/adapter-static";
            let tables = [&self.manifest.dependencies, &self.manifest.dev_dependencies];
            let range = tables.iter().find_map(|table| table.get(known.package));
            let wanted = range.map_or(known.package.to_owned(), |range| format!("{} {range}", known.package));
            let missing = Evidence::against(self.at("\"@sveltejs/kit\""), wanted, tells);
            finding.evidence.push(missing.as_sign(Sign::NoServer));
        }
        Ok(())
    }

    /// Leaves out a build that cannot run and need not: a package as it is published has what its build made, and not
    /// what it was made of. What a rule excludes is missing, and `check` says so.
    fn without_what_was_built(&self, finding: &mut Finding) {
        let Some(build) = finding.build.as_ref().filter(|_| self.is_built()) else { return };
        let there = |path: &str| self.tree.has(path) || self.tree.root().join(path).exists();
        let Some(missing) = inputs::missing(&build.shown, there) else { return };
        let says = format!("the build script is not run: it needs {missing}, which is not in the source");
        finding.evidence.push(Evidence::against(build.said.clone(), &build.shown, &says));
        finding.problems.push(Problem {
            code: "build-left-out".to_owned(),
            place: build.said.clone(),
            says,
            advice: "add the file if the build has to run".to_owned(),
            breaks: false,
        });
        finding.build = None;
    }

    /// Whether the files that start it are in the source.
    fn is_built(&self) -> bool {
        let start = self.manifest.scripts.get("start");
        let words = start.map(|line| CommandLine::parse(line).words).unwrap_or_default();
        let commands = self.manifest.commands();
        let main = self.manifest.main.iter().chain(commands.values());
        main.chain(&words).any(|file| {
            let file = file.trim_start_matches("./");
            self.tree.has(file) || self.tree.has(&format!("{file}.js"))
        })
    }

    fn at(&self, needle: &str) -> Place {
        Place::find(MANIFEST, self.text, needle)
    }

    /// The build: the scripts of the manifest, or the framework's own command.
    fn build(&self, framework: Option<&Framework>) -> Option<AppBuild> {
        let scripts = AppScripts(self.manifest);
        let named: Vec<&str> =
            BUILD_SCRIPTS.into_iter().filter(|name| self.manifest.scripts.contains_key(*name)).collect();
        let of_start = scripts.without_build("start").0;
        let own = match named.last() {
            None if of_start.is_some() => Some((of_start?, self.at("\"start\":"))),
            Some(last) => {
                let lines = named.iter().filter_map(|name| scripts.line(name));
                let line = lines.filter(|line| !line.is_empty()).collect::<Vec<_>>().join(" && ");
                (!line.is_empty()).then(|| (line, self.at(&format!("\"{last}\":"))))
            }
            None => {
                let framework = framework.filter(|framework| !framework.build.is_empty());
                let of =
                    |known: &Framework| (known.build.join(" "), self.at(&format!("\"{}\":", known.package)));
                framework.map(of)
            }
        };
        let (line, said) = match (&self.before, own) {
            (None, own) => own?,
            (Some(before), Some((line, said))) => (format!("{before} && {line}"), said),
            (Some(before), None) => (before.clone(), Place::new(MANIFEST, None)),
        };
        let set =
            |(name, value): (&str, &Option<String>)| value.as_ref().map(|value| format!("{name}={value}"));
        let own =
            [("npm_package_name", &self.manifest.name), ("npm_package_version", &self.manifest.version)];
        let words = match CommandLine::parse(&line) {
            CommandLine { env, words } if env.is_empty() => words,
            CommandLine { env, words } => {
                env.into_iter().map(|(name, value)| format!("{name}={value}")).chain(words).collect()
            }
        };
        let run = std::iter::once("env".to_owned())
            .chain(BUILD_ENV.map(str::to_owned))
            .chain(own.into_iter().filter_map(set))
            .chain(words)
            .collect();
        let command =
            BuildCommand { run, tools: vec!["node".to_owned()], keep: Vec::new(), fetch: Vec::new() };
        Some(AppBuild { command, folder: String::new(), shown: line, said })
    }

    /// The process that answers requests.
    fn web(
        &self,
        framework: Option<&Framework>,
        outcome: Option<&(Outcome, String)>,
        finding: &mut Finding,
    ) -> Option<ProcessType> {
        let scripts = AppScripts(self.manifest);
        let live = LIVE_SCRIPTS.iter().copied().find(|name| self.manifest.scripts.contains_key(*name));
        for name in [Some("start"), live].into_iter().flatten() {
            let Some(line) = scripts.without_build(name).1 else { continue };
            let command = CommandLine::parse(&line);
            let place = self.at(&format!("\"{name}\":"));
            if frameworks::is_for_development(&command.words) {
                finding.evidence.push(Evidence::speaks_for(place, line, "it is a development server"));
                continue;
            }
            finding.evidence.push(Evidence::speaks_for(place.clone(), &line, "the start script"));
            let words = frameworks::without_restarting(command.words);
            let mut env: BTreeMap<String, String> = command.env.into_iter().collect();
            env.extend(frameworks::listens_everywhere(&words));
            let words: Vec<&str> = words.iter().map(String::as_str).collect();
            return Some(ProcessType {
                env,
                ..ProcessType::found("web", ProcessKind::Process, &words, place)
            });
        }
        if let (Some((Outcome::Server(words), _)), Some(framework)) = (outcome, framework) {
            let place = self.at(&format!("\"{}\":", framework.package));
            let shown = words.join(" ");
            finding.evidence.push(Evidence::speaks_for(
                place.clone(),
                shown,
                "it starts what the build produces",
            ));
            let owned: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
            let env = frameworks::listens_everywhere(&owned).into_iter().collect();
            return Some(ProcessType {
                env,
                ..ProcessType::found("web", ProcessKind::Process, words, place)
            });
        }
        if outcome.is_some() || framework.is_some_and(|framework| !framework.build.is_empty()) {
            return None;
        }
        self.entry(finding)
    }

    /// The main file, or a file with a telling name.
    fn entry(&self, finding: &mut Finding) -> Option<ProcessType> {
        let main = self.manifest.main.as_deref().filter(|main| self.tree.has(main));
        let commands = self.manifest.commands();
        let (file, place) = if let Some(main) = main {
            (main, self.at("\"main\""))
        } else if let Some(file) = first_present(self.tree, &ENTRY_FILES) {
            (file, Place::new(file, None))
        } else {
            // The only command that it gives to others.
            let mut files = commands.values().map(|file| file.trim_start_matches("./"));
            (files.next().filter(|file| self.tree.has(file) && files.next().is_none())?, self.at("\"bin\""))
        };
        finding.evidence.push(Evidence::speaks_for(place.clone(), file, "the file that starts the app"));
        Some(ProcessType::found("web", ProcessKind::Process, &["node", file], place))
    }
}
