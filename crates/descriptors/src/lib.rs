//! Descriptors of apps for platforms that run them: what the record of an image says, in the platform's own open form.
//!
//! | module | owns |
//! | --- | --- |
//! | `compose` | the Compose specification |
//! | `kubernetes` | workloads, services and jobs of Kubernetes |
//! | `systemd` | units of systemd, which run the image with this program |
//!
//! Secrets are never in them: they are named, and the platform has them. Nothing here reads or writes files.
#![forbid(unsafe_code)]

mod compose;
mod kubernetes;
mod systemd;
mod town_job;
mod yaml;

pub use compose::compose;
pub use kubernetes::kubernetes;
pub use systemd::systemd;
pub use town_job::{JobFile, TownJob};

use model::process::moments;
use model::{ProcessKind, ProcessType, SettingRule};
use std::collections::BTreeMap;

/// An app, as it is handed over.
#[derive(Debug, Clone)]
pub struct App {
    /// Its name.
    pub name: String,
    /// Its process types and tasks, the default one first.
    pub workloads: Vec<Workload>,
    /// The rules of its settings.
    pub settings: BTreeMap<String, SettingRule>,
    /// A name under which the web process is asked from outside, where there is one.
    pub host: Option<String>,
    /// How many of the web process there may be, where that follows the load: at least and at most.
    pub scale: Option<(u32, u32)>,
}

/// A process type with its image.
#[derive(Debug, Clone)]
pub struct Workload {
    /// The process type.
    pub process: ProcessType,
    /// Its image, by digest.
    pub image: String,
    /// Variables that have another value than in the image.
    pub env: BTreeMap<String, String>,
}

/// A file to be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct File {
    /// Its name.
    pub name: String,
    /// What is in it.
    pub text: String,
}

/// What platforms know processes by.
const WRITTEN_BY: &str =
    "written by `shtetl hand-over` from the record of the image; write it again rather than change it";

impl App {
    /// What goes on until it is told to end.
    fn processes(&self) -> impl Iterator<Item = &Workload> {
        self.workloads.iter().filter(|workload| workload.process.kind == ProcessKind::Process)
    }

    /// The tasks that run before this moment.
    fn tasks_before(&self, moment: &'static str) -> impl Iterator<Item = &Workload> {
        let is_task = |workload: &&Workload| workload.process.kind == ProcessKind::Task;
        let at = move |workload: &&Workload| workload.process.before.as_deref() == Some(moment);
        self.workloads.iter().filter(is_task).filter(at)
    }

    /// The tasks that run before a release starts, and before every start: where the platform starts all at once, these are
    /// the same.
    fn tasks(&self) -> impl Iterator<Item = &Workload> {
        moments::ALL.into_iter().flat_map(|moment| self.tasks_before(moment))
    }

    /// The settings whose value is not known here, so that the platform gives it.
    fn given(&self) -> impl Iterator<Item = (&String, &SettingRule)> {
        self.settings.iter().filter(|(_, rule)| rule.value.is_none())
    }

    /// The name of a workload on a platform.
    fn name_of(&self, workload: &Workload) -> String {
        format!("{}-{}", self.name, workload.process.name)
    }
}

/// The folders that a process writes to, from the root of the image, each with a name.
fn writable(process: &ProcessType) -> Vec<(String, String)> {
    let named = |folder: &String| {
        let plain = folder.trim_matches('/');
        let path = if plain == "." { "/app".to_owned() } else { format!("/app/{plain}") };
        let letters =
            plain.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' });
        let letters: String = letters.collect();
        // In front, so that it is none of the names that platforms need themselves.
        let name = format!("app-{}", letters.trim_matches('-'));
        (name.trim_end_matches('-').to_owned(), path)
    };
    process.writable.iter().map(named).collect()
}

/// Bytes in whole mebibytes.
fn mebibytes(bytes: u64) -> u64 {
    bytes.div_ceil(1 << 20)
}
