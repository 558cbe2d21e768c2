//! `hand-over`: descriptors for platforms that run an app.

use super::Done;
use super::opened::open_anywhere;
use super::variants::{as_in_source, check_same, differing, not_built, values};
use crate::interrupt;
use crate::surroundings::Surroundings;
use arguments::{DescriptorForm, HandOverOptions};
use descriptors::{App, File, Workload, compose, kubernetes, systemd};
use images::push;
use model::ProcessType;
use render::{FAINT, Output, STRONG, styled, words};
use std::fs;
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::{self, OpenImage};

pub fn run(options: &HandOverOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let (image, from) = open_anywhere(&options.image, surroundings, output)?;
    let place = match (&options.registry, from) {
        (Some(text), _) => push::reference(text, inspect::DEFAULT_TAG)?,
        (None, Some(reference)) => reference,
        (None, None) => {
            return Err(Failure::Usage {
                message: format!("no registry is known for {}", image.label),
                hint: "push it and use that name, or add --registry HOST/NAME".to_owned(),
            });
        }
    };
    let repository = format!("{}/{}", place.host, place.repository);
    let app = app(&image, &repository, options, surroundings)?;
    let files = match options.to {
        DescriptorForm::Compose => compose(&app),
        DescriptorForm::Kubernetes => kubernetes(&app),
        DescriptorForm::Systemd => systemd(&app),
    };
    write(&files, options, surroundings)?;
    if output.is_json() {
        let names: Vec<_> = files.iter().map(|file| options.folder.join(&file.name)).collect();
        output.json(&serde_json::json!({
            "format": "shtetl/hand-over/1", "image": image.label, "digest": image.digest, "files": names,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!(
        "{}  {} in {}",
        styled(STRONG, &image.label),
        words::count(files.len(), "file"),
        options.folder.display()
    ));
    for file in &files {
        output.line(format!("  {}", file.name));
    }
    output.line(styled(FAINT, format!("  {repository}, by digest")));
    Ok(ExitCode::SUCCESS)
}

/// The app as the record has it, or as a variant of its source changes that.
fn app(
    image: &OpenImage,
    repository: &str,
    options: &HandOverOptions,
    surroundings: &Surroundings,
) -> Result<App, Failure> {
    let (processes, settings) =
        as_in_source(image, options.source.as_deref(), options.variant.as_deref(), surroundings)?;
    let digests = push::digests_by_process(image)?;
    let values = differing(&values(&image.record.settings), &values(&settings));
    let workload = |process: ProcessType| {
        let built = image.record.processes.iter().find(|built| built.name == process.name);
        let digest = digests.get(&process.name).copied();
        let (Some(built), Some(digest)) = (built, digest) else {
            return Err(not_built(&process.name, "the image does not have it"));
        };
        check_same(built, &process)?;
        let mut env = values.clone();
        env.extend(differing(&built.env, &process.env));
        if process.port != built.port {
            env.extend(process.port.map(|port| (PORT.to_owned(), port.to_string())));
        }
        Ok(Workload { image: format!("{repository}@{digest}"), process, env })
    };
    Ok(App {
        name: image.record.name.clone(),
        workloads: processes.into_iter().map(workload).collect::<Result<_, Failure>>()?,
        settings,
        host: options.host.clone(),
        scale: options.scale,
    })
}

/// The variable that tells a process which port to listen on.
const PORT: &str = "PORT";

fn write(files: &[File], options: &HandOverOptions, surroundings: &Surroundings) -> Result<(), Failure> {
    let folder = &options.folder;
    fs::create_dir_all(folder).map_err(|source| Failure::File { path: folder.clone(), source })?;
    for file in files {
        let path = folder.join(&file.name);
        if path.is_dir() {
            return Err(Failure::Usage {
                message: format!("{} is a folder", path.display()),
                hint: "give another --folder".to_owned(),
            });
        }
        surroundings.store.write(&path, file.text.as_bytes())?;
    }
    Ok(())
}
