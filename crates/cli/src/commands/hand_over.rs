//! `hand-over`: descriptors for platforms that run an app.

use super::Done;
use super::opened::open_anywhere;
use crate::arguments::{HandOverOptions, Platform, SourceOptions};
use crate::error::Failure;
use crate::interrupt;
use crate::render::{FAINT, Output, STRONG, styled, words};
use crate::surroundings::Surroundings;
use descriptors::{App, File, Workload, compose, kubernetes, systemd};
use images::push;
use model::{ProcessType, SettingRule};
use std::collections::BTreeMap;
use std::fs;
use std::process::ExitCode;
use workshop::inspect::{self, OpenImage};

pub fn run(options: &HandOverOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let (image, from) = open_anywhere(&options.image, surroundings, output)?;
    let place = match (&options.registry, from) {
        (Some(text), _) => push::reference(text, inspect::DEFAULT_TAG)?,
        (None, Some(reference)) => reference,
        (None, None) => {
            return Err(Failure::Usage {
                message: format!("nothing says where {} is in a registry", image.label),
                hint: "push it, and give that name, or say it with --registry HOST/NAME".to_owned(),
            });
        }
    };
    let repository = format!("{}/{}", place.host, place.repository);
    let app = app(&image, &repository, options, surroundings)?;
    let files = match options.to {
        Platform::Compose => compose(&app),
        Platform::Kubernetes => kubernetes(&app),
        Platform::Systemd => systemd(&app),
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
    let (processes, settings) = running(image, options, surroundings)?;
    let digests = push::digests_by_process(image)?;
    let workload = |process: ProcessType| {
        let digest = digests.get(&process.name).copied().ok_or_else(|| Failure::Usage {
            message: format!("the image has no process type {:?}, which the variant has", process.name),
            hint: "build the image from this source first".to_owned(),
        })?;
        Ok(Workload { image: format!("{repository}@{digest}"), process })
    };
    Ok(App {
        name: image.record.name.clone(),
        workloads: processes.into_iter().map(workload).collect::<Result<_, Failure>>()?,
        settings,
        host: options.host.clone(),
        scale: options.scale,
    })
}

type Running = (Vec<ProcessType>, BTreeMap<String, SettingRule>);

fn running(
    image: &OpenImage,
    options: &HandOverOptions,
    surroundings: &Surroundings,
) -> Result<Running, Failure> {
    let Some(source) = &options.source else {
        return Ok((image.record.processes.clone(), image.record.settings.clone()));
    };
    let source = SourceOptions { variant: options.variant.clone(), ..SourceOptions::of(source) };
    let looked_at = surroundings.look(&source, Surroundings::now())?;
    Ok((looked_at.survey.processes, looked_at.survey.settings))
}

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
