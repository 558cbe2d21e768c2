//! `town hand-over`: the build of a town as a job of an engine.

use super::super::Done;
use arguments::{JobEngine, TownJobOptions};
use descriptors::TownJob;
use model::PathFacts;
use render::{FAINT, Output, STRONG, styled};
use std::env;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::ExitCode;
use town::apps::Town;

pub fn run(town: &Town, options: &TownJobOptions, output: &Output) -> Done {
    let name = town.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let job = TownJob {
        town: name,
        shards: options.shards,
        image: options.image.clone(),
        cpus: options.cpus,
        memory: options.memory,
        retries: options.retries,
        shared: options
            .shared
            .clone()
            .or_else(|| env::var("SHTETL_SHARED").ok().filter(|text| !text.is_empty())),
        push: options.push,
        secret: options.secret.clone(),
    };
    let files = match options.to {
        JobEngine::KubernetesJob => job.kubernetes(),
        JobEngine::Slurm => job.slurm(),
        JobEngine::Ci => job.ci(),
    };
    let Some(folder) = &options.out else {
        if output.is_json() {
            let files: Vec<_> =
                files.iter().map(|(name, text)| serde_json::json!({ "name": name, "text": text })).collect();
            output.json(&serde_json::json!({ "format": "shtetl/town-hand-over/1", "files": files }));
        } else {
            for (name, text) in &files {
                output.line(styled(STRONG, format!("# {name}")));
                output.line(text.trim_end());
                output.line("");
            }
        }
        return Ok(ExitCode::SUCCESS);
    };
    fs::create_dir_all(folder).facts(folder)?;
    for (name, text) in &files {
        let path = folder.join(name);
        fs::write(&path, text).facts(&path)?;
        if Path::new(name).extension().is_some_and(|extension| extension == "sh") {
            fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).facts(&path)?;
        }
        output.line(format!("{}  {}", styled(FAINT, "written to"), path.display()));
    }
    Ok(ExitCode::SUCCESS)
}
