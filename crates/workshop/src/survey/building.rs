//! What a build runs, and whether the pages that it makes are all that the image serves.

use super::options_of;
use crate::buildpacks::Buildpacks;
use config::{BuildChoice, Effective};
use model::files::CONFIG;
use model::{AppBuild, BuildCommand, Claim, Finding, Pages, Place, in_folder, shell_words};

/// The key of the folder with the pages, of any buildpack that serves some.
const DOCROOT: &str = "docroot";
/// The process type that answers requests.
const WEB: &str = "web";

/// What the configuration says, or the first chosen buildpack that knows what has to be run.
pub(super) fn build(
    findings: &[Finding],
    chosen: &[String],
    effective: &Effective,
    member: Option<&str>,
) -> Option<AppBuild> {
    let folder = member.unwrap_or_default();
    let mut build = match &effective.config.build {
        Some(BuildChoice::Off) => None,
        Some(BuildChoice::Run(command)) => Some(AppBuild {
            shown: shell_words::join(&command.run),
            said: effective.place("build.run").unwrap_or_else(|| Place::new(CONFIG, None)),
            command: BuildCommand {
                keep: command.keep.iter().map(|pattern| in_folder(folder, pattern)).collect(),
                ..command.clone()
            },
            folder: folder.to_owned(),
        }),
        None => {
            let of = |name: &String| findings.iter().find(|f| f.buildpack == *name)?.build.clone();
            chosen.iter().find_map(of)
        }
    }?;
    build.command.fetch.clone_from(&effective.config.fetch);
    Some(build)
}

/// Where the build makes pages and nothing of the app serves them, puts the buildpack that does in front: the image
/// then has nothing but them.
pub(super) fn serve_pages(
    findings: &mut [Finding],
    chosen: &mut Vec<String>,
    effective: &Effective,
    build: Option<&AppBuild>,
    buildpacks: &Buildpacks,
) -> Option<Pages> {
    let config = &effective.config;
    let build = build?;
    let has_command = config.processes.get(WEB).is_some_and(|web| web.run.is_some());
    let first = findings.iter().find(|f| Some(&f.buildpack) == chosen.first())?;
    if has_command || first.processes.iter().any(|process| process.name == WEB) {
        return None;
    }
    let of = |name: &String| findings.iter().find(|f| f.buildpack == *name)?.pages.clone();
    let found = match config.order {
        Some(_) => chosen.iter().find_map(of),
        // The front end of another language's app is served by that.
        None => first.pages.clone(),
    };
    for buildpack in
        buildpacks.iter().filter(|buildpack| !config.forbid.iter().any(|f| f == buildpack.name()))
    {
        let options = options_of(config, buildpack.name());
        let configured = options.text(DOCROOT).map(|folder| Pages {
            folder: in_folder(&build.folder, folder.trim_matches('/').trim_start_matches("./")),
            single_page: found.as_ref().is_some_and(|pages| pages.single_page),
            said: build.said.clone(),
        });
        let Some(pages) = configured.or_else(|| found.clone()) else { continue };
        let Some(serving) = buildpack.serve(&pages, &options) else { continue };
        chosen.retain(|name| *name != serving.buildpack);
        chosen.insert(0, serving.buildpack.clone());
        for finding in findings.iter_mut() {
            if finding.buildpack == serving.buildpack {
                *finding = serving.clone();
            } else if finding.claim == Claim::Whole {
                // It only makes them.
                finding.claim = Claim::Part;
            }
        }
        return Some(pages);
    }
    None
}
