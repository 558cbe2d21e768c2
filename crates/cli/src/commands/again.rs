//! `verify --again`: an image is built once more from its source, from nothing, and compared to the byte.

use super::build::build_quietly;
use super::order::order;
use crate::surroundings::Surroundings;
use arguments::{SourceOptions, VerifyOptions};
use content::BlobDigest;
use content::image::media;
use content::store::Store;
use evidence::{Finding, Verdict};
use images::compare::{Comparison, FileFact, LayerChange, compare};
use planning::Pinning;
use remote::Network;
use render::{Output, words};
use std::path::Path;
use wording::Failure;
use workshop::app::{App, BuildRequest};
use workshop::build::{Exports, Planned};
use workshop::inspect::{self, OpenImage};
use workshop::plan::Worklist;
use workshop::prepare::prepare;

/// What is found when the image is built once more.
const AGAIN: &str = "built again";

/// Builds the image from `source` again, and tells whether the same comes out.
pub fn build_again(
    image: &OpenImage,
    source: &Path,
    options: &VerifyOptions,
    surroundings: &Surroundings,
    output: &Output,
) -> Result<Finding, Failure> {
    // Nothing that was made before is used, so it has a store of its own.
    let folder = surroundings.store.temporary_folder()?;
    let created = image.variants[0].config.created.clone();
    let apart = Surroundings { created, ..surroundings.with_store(Store::open(&folder)?) };
    let app = look(image, source, options, &apart)?;
    if let Some(wanted) = &image.record.revision
        && app.survey.revision.as_ref().map(|found| &found.commit) != Some(&wanted.commit)
    {
        let commit = words::short(&wanted.commit);
        output.aside(format!("note: this source does not have commit {commit}; its current files are used"));
    }
    let fetcher = apart.fetcher(Network::Allowed);
    let codec = image.record.layers.first().map(|layer| layer.codec).unwrap_or_default();
    let tag = image.variants[0].tag.clone();
    let plain = BuildRequest { codec, ..order(&tag, codec.name(), &apart, &fetcher) };
    let platforms = platforms(image);
    let orders: Vec<BuildRequest<'_>> = platforms
        .iter()
        .map(|platform| BuildRequest { platform, pinning: Pinning::Locked, ..plain })
        .collect();
    let lists: Vec<Worklist> =
        orders.iter().map(|order| prepare(&app, order, &apart.store)).collect::<Result<_, _>>()?;
    let planned: Vec<Planned<'_>> =
        lists.iter().zip(&orders).map(|(worklist, order)| Planned { worklist, order }).collect();
    let Some((first, others)) = planned.split_first() else {
        return Ok(Finding { what: AGAIN, verdict: Verdict::Missing, detail: "no platform".to_owned() });
    };
    let layout = folder.join("layout");
    let exports = Exports { layout: Some(&layout), archive: None };
    let built = build_quietly(&app, *first, others, exports, None, &apart, output)?;
    let expected = image.record.built_on.as_ref().map_or(image.digest, |built_on| built_on.image);
    let same = |detail: String| Finding { what: AGAIN, verdict: Verdict::Holds, detail };
    // A tag of one process type has some of the images.
    let again = inspect::open_index(&apart.store, &image.label, built.digest)?;
    let made: Vec<BlobDigest> = again.all_variants().map(|variant| variant.digest).collect();
    let is_part = || image.all_variants().all(|variant| made.contains(&variant.digest));
    if built.digest == expected || (image.record.built_on.is_none() && is_part()) {
        let swapped = image.record.built_on.as_ref().map(|built_on| built_on.base.as_str());
        let since = swapped.map(|base| format!("; it was built on {base}, and its base was swapped since"));
        return Ok(same(format!("identical, byte for byte{}", since.unwrap_or_default())));
    }
    if image.record.built_on.is_some() {
        let detail = format!("the build gave {}, expected {expected}", built.digest);
        return Ok(Finding { what: AGAIN, verdict: Verdict::Fails, detail });
    }
    let again = inspect::open(&surroundings.store, &layout.display().to_string())?;
    let comparison = compare(&surroundings.store, image, &again)?;
    Ok(Finding { what: AGAIN, verdict: Verdict::Fails, detail: first_difference(&comparison) })
}

/// The source as it was: its commit, where there is one.
fn look(
    image: &OpenImage,
    source: &Path,
    options: &VerifyOptions,
    surroundings: &Surroundings,
) -> Result<App, Failure> {
    let now = Surroundings::now();
    let fetcher = surroundings.fetcher(Network::Allowed);
    let plain = SourceOptions {
        variant: options.variant.clone(),
        member: options.member.clone(),
        ..SourceOptions::of(source)
    };
    let of_commit = image.record.revision.as_ref().filter(|revision| revision.uncommitted.is_empty());
    let mut app = match of_commit {
        Some(revision) => {
            let options = SourceOptions { rev: Some(revision.commit.clone()), ..plain };
            match surroundings.look(&options, &fetcher, now) {
                Err(Failure::Core(error)) if matches!(*error, model::Error::Source(_)) => {
                    surroundings.look(&SourceOptions { rev: None, ..options }, &fetcher, now)?
                }
                looked => looked?,
            }
        }
        None => surroundings.look(&plain, &fetcher, now)?,
    };
    // The folder may have another name here.
    app.survey.name.clone_from(&image.record.name);
    Ok(app)
}

/// The platforms of an image, in the order in which it was built for them.
fn platforms(image: &OpenImage) -> Vec<String> {
    let mut found = Vec::new();
    for listed in image.index.manifests.iter().filter(|listed| listed.media_type == media::MANIFEST) {
        let platform = listed.platform.as_ref().map(|one| format!("{}/{}", one.os, one.architecture));
        found.extend(platform.filter(|platform| !found.contains(platform)));
    }
    found
}

/// The first thing that is different, and where it comes from.
fn first_difference(comparison: &Comparison) -> String {
    if let Some(source) = &comparison.source {
        return format!("the source differs: {} instead of {}", source.after, source.before);
    }
    let Some(LayerChange { step, because, files, .. }) = comparison.layers.first() else {
        return "the layers are identical, but the image's documents differ: perhaps another version of this program built it"
            .to_owned();
    };
    let file = files.first().map(|change| {
        let size = |fact: &Option<FileFact>| {
            fact.as_ref().map_or_else(|| "not there".to_owned(), |fact| words::size(fact.size))
        };
        format!(": /{} ({} → {})", change.path, size(&change.fact.before), size(&change.fact.after))
    });
    let cause = match because.is_empty() {
        true => "although its inputs are the same: the programs that this step runs are not reproducible"
            .to_owned(),
        false => format!("because of {}", because.join(", ")),
    };
    format!("the layer of \"{step}\" differs, {cause}{}", file.unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;
    use content::BlobDigest;
    use images::compare::{FileChange, Pair};
    use std::collections::BTreeMap;

    #[test]
    fn the_first_layer_and_file_are_named_and_what_they_come_from() {
        let digest = |text: &[u8]| BlobDigest::of(text);
        let file = |size| Some(FileFact { size, mode: 0o644, link: None, digest: None });
        let layer = |because: &[&str]| LayerChange {
            step: "build command".to_owned(),
            size: Pair { before: Some(1), after: Some(1) },
            because: because.iter().map(|input| (*input).to_owned()).collect(),
            files: vec![FileChange {
                path: "app/dist/index.html".to_owned(),
                fact: Pair { before: file(120), after: file(121) },
            }],
        };
        let mut comparison = Comparison {
            digest: Pair { before: digest(b"a"), after: digest(b"b") },
            size: Pair { before: 1, after: 1 },
            source: None,
            base: None,
            platform: None,
            runtimes: BTreeMap::new(),
            packages: Vec::new(),
            processes: BTreeMap::new(),
            settings: BTreeMap::new(),
            layers: vec![layer(&[])],
            same_layers: 3,
        };
        assert_eq!(
            first_difference(&comparison),
            "the layer of \"build command\" differs, although its inputs are the same: the programs that this step runs are not \
             reproducible: /app/dist/index.html (120 B → 121 B)"
        );
        comparison.layers = vec![layer(&["packages"])];
        assert!(first_difference(&comparison).contains("differs, because of packages: /app"));
        comparison.layers.clear();
        assert!(first_difference(&comparison).starts_with("the layers are identical"));
        comparison.source = Some(Pair { before: "one".to_owned(), after: "other".to_owned() });
        assert_eq!(first_difference(&comparison), "the source differs: other instead of one");
    }
}
