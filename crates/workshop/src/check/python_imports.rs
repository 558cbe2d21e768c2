//! What the code of a Python app imports, followed from the files that its commands start.

use crate::check::packages::Installed;
use crate::check::program::{declare, module_files};
use crate::check::{Found, Subject, error, warning};
use model::{Finding, Place, Result};
use python::imports::{is_folder, is_standard, local_files, package_of, providers, top_imports};
use std::collections::BTreeSet;

/// One import at the top of a file.
struct Import {
    place: Place,
    module: String,
}

/// Packages that the code imports on its way from the start, and that nothing declares.
pub(super) fn undeclared(subject: &Subject<'_>) -> Result<Vec<Found>> {
    let Some(finding) = subject.survey.chosen_findings().find(|finding| finding.buildpack == "python") else {
        return Ok(Vec::new());
    };
    let installed = Installed::of(subject, finding)?;
    let mut told = BTreeSet::new();
    let mut found = Vec::new();
    for import in imports(subject) {
        let top = import.module.split('.').next().unwrap_or(&import.module).to_owned();
        if is_there(&top, finding, &installed) || !told.insert(top.clone()) {
            continue;
        }
        let what = format!("{top} is imported, and no declared package provides it");
        let advice = declare(subject, package_of(&top), "python");
        // Before it is resolved, it is not known what the declared packages need.
        if installed.all_names {
            let tell = if providers(&top).is_empty() { warning } else { error };
            found.push(tell(import.place, what, advice));
        }
    }
    Ok(found)
}

fn is_there(module: &str, finding: &Finding, installed: &Installed) -> bool {
    if is_standard(module) {
        return true;
    }
    let plain = module.to_lowercase().replace(['_', '.'], "-");
    let known = providers(module);
    let has = |package: &str| installed.names.contains(package) || finding.declared.contains(package);
    // Many packages are called after what their module is called, with something before or after it.
    let near = |name: &String| name.replace('-', "").contains(&plain.replace('-', ""));
    has(&plain)
        || known.iter().any(|package| has(package))
        || known.is_empty() && installed.names.iter().any(near)
}

/// The imports of everything that is reached from what the processes start; those of local files are followed.
fn imports(subject: &Subject<'_>) -> Vec<Import> {
    let mut pending: Vec<String> = Vec::new();
    for process in &subject.survey.processes {
        let scripts = process.command.iter().filter(|word| word.ends_with(".py"));
        pending.extend(scripts.map(|word| process.path_of(word)));
        pending.extend(module_files(process));
    }
    pending.retain(|file| subject.tree.has(file));
    let mut seen = BTreeSet::new();
    let mut found = Vec::new();
    while let Some(file) = pending.pop() {
        if !seen.insert(file.clone()) {
            continue;
        }
        // A source that is not text imports nothing; one that cannot be read fails when it is packed.
        let Ok(Some(text)) = subject.tree.read_text(&file) else { continue };
        let folder = file.rsplit_once('/').map_or("", |(folder, _)| folder);
        for (number, module) in top_imports(&text) {
            let local = local_files(subject.tree, folder, &module);
            if !local.is_empty() {
                pending.extend(local);
            } else if !module.starts_with('.') && !is_folder(subject.tree, folder, &module) {
                let place = Place::new(file.as_str(), u32::try_from(number + 1).ok());
                found.push(Import { place, module });
            }
        }
    }
    found
}
