//! Frameworks of PHP: their processes, what they make before the start, what they read and write.

use engine::support_files::SupportFile;
use model::{AppBuild, BuildCommand, Evidence, Finding, Place, ProcessKind, ProcessType};
use source::SourceTree;
use std::collections::BTreeSet;

/// Symfony, by its bundle; its commands are in `bin/console`.
const SYMFONY: (&str, &str) = ("symfony/framework-bundle", "bin/console");
/// Laravel; its commands are in `artisan`.
const LARAVEL: (&str, &str) = ("laravel/framework", "artisan");

/// What Symfony reads in place of `.env`, which images do not have, and which it asks for otherwise.
const SETTINGS: &str = "<?php return ['APP_ENV' => 'prod', 'APP_DEBUG' => '0'];\n";

/// Gives the part of Symfony that writes its container a time that is the same in every build: it names folders by it.
const TIME: &str = "<?php namespace Symfony\\Component\\HttpKernel; function time() { return 315619200; }";

/// A framework that an app is made with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Framework {
    Symfony,
    Laravel,
}

impl Framework {
    /// The framework of an app with these packages.
    pub(super) fn of(tree: &SourceTree, packages: &BTreeSet<String>) -> Option<Self> {
        let is = |(package, commands): (&str, &str)| packages.contains(package) && tree.has(commands);
        if is(SYMFONY) {
            Some(Self::Symfony)
        } else {
            (is(LARAVEL) || tree.has(LARAVEL.1)).then_some(Self::Laravel)
        }
    }

    fn commands(self) -> &'static str {
        match self {
            Self::Symfony => SYMFONY.1,
            Self::Laravel => LARAVEL.1,
        }
    }

    /// Adds its processes, its secret, and what it makes before the start.
    pub(super) fn apply(self, tree: &SourceTree, packages: &BTreeSet<String>, finding: &mut Finding) {
        let said = Place::new(self.commands(), None);
        finding.evidence.push(Evidence::speaks_for(said.clone(), "present", "the framework's own commands"));
        let has = |folder: &str| tree.files().keys().any(|file| file.starts_with(folder));
        let mut add = |name: &str, kind: ProcessKind, command: &[&str]| {
            finding.processes.push(ProcessType::found(name, kind, command, said.clone()));
        };
        match self {
            Self::Laravel => {
                if has("database/migrations/") {
                    add("migrate", ProcessKind::Task, &["php", "artisan", "migrate", "--force"]);
                }
                if has("app/Jobs/") {
                    add("worker", ProcessKind::Process, &["php", "artisan", "queue:work"]);
                }
            }
            Self::Symfony => {
                if packages.contains("doctrine/doctrine-migrations-bundle") && has("migrations/") {
                    let command = ["php", "bin/console", "doctrine:migrations:migrate", "--no-interaction"];
                    add("migrate", ProcessKind::Task, &command);
                }
                if packages.contains("symfony/messenger") && has("src/MessageHandler/") {
                    add(
                        "worker",
                        ProcessKind::Process,
                        &["php", "bin/console", "messenger:consume", "async"],
                    );
                }
            }
        }
        for process in &mut finding.processes {
            process.writable.extend(self.writable().iter().map(|folder| (*folder).to_owned()));
        }
        if let Some((name, file)) = self.secret(tree) {
            finding.secrets.insert(name.to_owned(), Place::new(file, None));
        }
        finding.build = self.build(packages);
    }

    fn writable(self) -> &'static [&'static str] {
        match self {
            Self::Symfony => &["var/log"],
            Self::Laravel => &["bootstrap/cache", "storage"],
        }
    }

    /// The secret that it signs with, and the file that reads it.
    fn secret(self, tree: &SourceTree) -> Option<(&'static str, &'static str)> {
        let (name, file) = match self {
            Self::Symfony => ("APP_SECRET", "config/packages/framework.yaml"),
            Self::Laravel => ("APP_KEY", "config/app.php"),
        };
        let text = tree.read_text(file).ok().flatten()?;
        text.contains(name).then_some((name, file))
    }

    /// What it makes of the app, with values that stand for secrets: they do not get into what is made.
    fn build(self, packages: &BTreeSet<String>) -> Option<AppBuild> {
        let (shown, set, keep) = match self {
            Self::Symfony => ("php bin/console cache:warmup", "APP_ENV=prod APP_DEBUG=0", "var/cache/**"),
            Self::Laravel if packages.contains(LARAVEL.0) => {
                ("php artisan package:discover", "APP_ENV=production APP_DEBUG=false", "bootstrap/cache/**")
            }
            Self::Laravel => return None,
        };
        let before = match self {
            Self::Symfony => format!(
                "echo \"{}\" > .env.local.php && echo '{TIME}' > /tmp/time.php && ",
                SETTINGS.trim_end()
            ),
            Self::Laravel => String::new(),
        };
        let run = match self {
            Self::Symfony => shown.replace("php ", "php -d auto_prepend_file=/tmp/time.php "),
            Self::Laravel => shown.to_owned(),
        };
        Some(AppBuild {
            command: BuildCommand {
                run: ["sh".to_owned(), "-c".to_owned(), format!("{before}{set} exec {run}")].into(),
                tools: vec!["php".to_owned()],
                keep: vec![keep.to_owned()],
                fetch: Vec::new(),
            },
            folder: String::new(),
            shown: shown.to_owned(),
            said: Place::new(self.commands(), None),
        })
    }

    /// Environment of every process: the app is not being developed, and its log is its output.
    pub(super) fn variables(self) -> Vec<(&'static str, String)> {
        let variables: &[(&str, &str)] = match self {
            Self::Symfony => &[("APP_DEBUG", "0"), ("APP_ENV", "prod")],
            Self::Laravel => &[("APP_DEBUG", "false"), ("APP_ENV", "production"), ("LOG_CHANNEL", "stderr")],
        };
        variables.iter().map(|(name, value)| (*name, (*value).to_owned())).collect()
    }

    /// A file that it wants.
    pub(super) fn file(self) -> Option<SupportFile> {
        let (path, text) = ("app/.env.local.php", SETTINGS.to_owned());
        (self == Self::Symfony).then_some(SupportFile { path, text, executable: false })
    }
}
