//! `swap-base`: images go on another base, in the store or in their registry.

use super::Done;
use crate::interrupt;
use crate::surroundings::Surroundings;
use arguments::SwapBaseOptions;
use config::Effective;
use config::addresses::Addresses;
use content::BlobDigest;
use engine::{Budget, Session, run_indexed};
use evidence::Artefact;
use images::compare::Move;
use images::push::{Attachment, Destination, Transfer};
use images::swap_base::{NewBases, Onto, SwapRequest, Swapped, swap};
use images::{pull, push};
use model::names;
use remote::Network;
use remote::oci::{Reference, Target};
use render::events::Renderer;
use render::table::Table;
use render::{BAD, FAINT, GOOD, Output, STRONG, styled, words};
use std::collections::BTreeSet;
use std::path::Path;
use std::process::ExitCode;
use std::sync::{Mutex, PoisonError};
use wording::Failure;
use workshop::inspect::{self, OpenImage};
use workshop::record::LayerRecord;

/// How many images are worked on at once.
const AT_ONCE: usize = 8;

pub fn run(options: &SwapBaseOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    options.tag.iter().try_for_each(|tag| names::check_tag(tag))?;
    super::keys::signing_key(&options.signing)?;
    let names = match options.all {
        true => inspect::all(&surroundings.store)?,
        false => options.images.clone(),
    };
    let here = Path::new(".");
    let Effective { config, origins } = surroundings.config_here()?;
    let keyrings = Surroundings::keyrings(&config)?;
    let onto = options.onto.as_ref().map_or(Onto::Newest, |base| Onto::Base(base.clone()));
    let request = SwapRequest {
        onto: &onto,
        addresses: &Addresses::new(&surroundings.book, &config, &origins, here),
        keyrings: &keyrings,
        outdated: config.outdated.unwrap_or_default(),
        credentials: &surroundings.credentials,
        near: here,
        now: Surroundings::now() / 1_000_000_000,
    };
    let fetcher = surroundings.fetcher(Network::Allowed);
    let (renderer, budget) = (Renderer::of_work(output), Budget::new(surroundings.jobs));
    let events = |event| renderer.show(&event);
    let work = Work {
        options,
        surroundings,
        bases: NewBases::new(&request),
        session: surroundings.session(&fetcher, &budget, &events),
    };
    let done: Mutex<Vec<Option<Result<Swapped, Failure>>>> = Mutex::new(names.iter().map(|_| None).collect());
    let one = |at: usize| {
        let swapped = work.one(&names[at]);
        done.lock().unwrap_or_else(PoisonError::into_inner)[at] = Some(swapped);
    };
    // The first one alone: the others take the new layers from where it has put them.
    run_indexed(names.len().min(1), AT_ONCE, one);
    run_indexed(names.len().saturating_sub(1), AT_ONCE, |at| one(at + 1));
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    if surroundings.cancel.is_cancelled() {
        return Err(model::Error::Interrupted.into());
    }
    if let [Some(Err(_))] = &done[..] {
        done.pop().flatten().transpose()?;
    }
    let done: Vec<(&String, Result<Swapped, Failure>)> =
        names.iter().zip(done).filter_map(|(name, done)| Some((name, done?))).collect();
    report(&done, options, output)
}

/// What all images have in common.
struct Work<'a> {
    options: &'a SwapBaseOptions,
    surroundings: &'a Surroundings,
    bases: NewBases<'a>,
    session: Session<'a>,
}

impl Work<'_> {
    fn one(&self, name: &str) -> Result<Swapped, Failure> {
        let store = &self.surroundings.store;
        match push::reference(name, inspect::DEFAULT_TAG) {
            Ok(reference) if !Path::new(name).exists() => self.in_registry(&reference),
            _ => {
                let image = inspect::open(store, name)?;
                let swapped = swap(&image, &self.bases, &self.session, &|_| Ok(()))?;
                let (app, tag) = image.label.split_once(':').unwrap_or((&image.label, inspect::DEFAULT_TAG));
                let tag = self.options.tag.as_deref().unwrap_or(tag);
                if names::check("app", app).is_err() {
                    return Err(Failure::Usage {
                        message: format!("{name} is not an image in the store"),
                        hint: "give the name of an image in the store, or of one in a registry".to_owned(),
                    });
                }
                if !self.options.dry_run && (!swapped.is_same() || self.options.tag.is_some()) {
                    store.write_document(&store.image_path(app, tag), &swapped.digest.after)?;
                }
                Ok(swapped)
            }
        }
    }

    fn in_registry(&self, from: &Reference) -> Result<Swapped, Failure> {
        let transfer = self.surroundings.transfer(self.session.fetcher, &|_, _| {});
        let to = match (&self.options.tag, &from.target) {
            (Some(tag), _) => Reference { target: Target::Tag(tag.clone()), ..from.clone() },
            (None, Target::Tag(_)) => from.clone(),
            (None, Target::Digest(_)) => {
                return Err(Failure::Usage {
                    message: format!("{from} has no tag"),
                    hint: "choose the tag of the result with --tag".to_owned(),
                });
            }
        };
        let image = pull::fetch_documents(from, &transfer)?;
        let fetch = |layers: &[&LayerRecord]| pull::fetch_layers(from, layers.iter().copied(), &transfer);
        let swapped = swap(&image, &self.bases, &self.session, &fetch)?;
        if self.options.dry_run || (swapped.is_same() && self.options.tag.is_none()) {
            return Ok(swapped);
        }
        let new = inspect::open_index(transfer.store, &image.label, swapped.digest.after)?;
        self.push(&image, &new, &to, &transfer)?;
        Ok(swapped)
    }

    /// Pushes the new image to where the old one is: the layers that both have are there.
    fn push(
        &self,
        old: &OpenImage,
        new: &OpenImage,
        to: &Reference,
        transfer: &Transfer<'_>,
    ) -> Result<(), Failure> {
        let evidence = super::evidence::wanted(new, self.options.evidence, &self.options.signing)?;
        let attachment =
            |one: &'_ Artefact| -> (&'static str, Vec<u8>) { (one.media_type, one.bytes.clone()) };
        let documents: Vec<(&str, Vec<u8>)> = evidence.iter().map(attachment).collect();
        let attachments: Vec<Attachment<'_>> =
            documents.iter().map(|(media_type, bytes)| Attachment { media_type, bytes }).collect();
        let there: BTreeSet<BlobDigest> =
            old.records().flat_map(|record| &record.layers).map(|layer| layer.digest).collect();
        push::push(new, &Destination { to, attachments: &attachments, there: Some(&there) }, transfer)?;
        Ok(())
    }
}

/// What happened to each image; those that were refused last, with the reasons.
fn report(done: &[(&String, Result<Swapped, Failure>)], options: &SwapBaseOptions, output: &Output) -> Done {
    let refused = done.iter().filter(|(_, done)| done.is_err()).count();
    if output.is_json() {
        let images: Vec<_> = done.iter().map(|(name, done)| document(name, done)).collect();
        output.json(&serde_json::json!({
            "format": "shtetl/swap-base/1", "dry_run": options.dry_run, "images": images,
        }));
    } else {
        text(done, options, output);
    }
    Ok(if refused == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

fn document(name: &str, done: &Result<Swapped, Failure>) -> serde_json::Value {
    match done {
        Ok(swapped) => {
            let mut document = serde_json::to_value(swapped).unwrap_or_default();
            document["image"] = name.into();
            document["unchanged"] = swapped.is_same().into();
            document
        }
        Err(failure) => serde_json::json!({ "image": name, "refused": wording::document(failure) }),
    }
}

fn text(done: &[(&String, Result<Swapped, Failure>)], options: &SwapBaseOptions, output: &Output) {
    let mut table = Table::new(&[]);
    for (name, done) in done.iter().filter_map(|(name, done)| Some((name, done.as_ref().ok()?))) {
        let Swapped { base, new_layers, bytes, .. } = done;
        let base = match base.before == base.after {
            true => base.after.clone(),
            false => format!("{} → {}", base.before, base.after),
        };
        let row = match done.is_same() {
            true => [styled(FAINT, "the same"), base, String::new(), String::new()],
            false => {
                let layers = words::count(*new_layers, "new layer");
                let what = if options.dry_run { "would be swapped" } else { "swapped" };
                [styled(GOOD, what), base, packages(done), format!("{layers}, {}", words::size(*bytes))]
            }
        };
        let [verdict, base, packages, layers] = row;
        table.row([styled(STRONG, name), verdict, base, packages, styled(FAINT, layers)]);
    }
    table.lines().into_iter().for_each(|line| output.line(line));
    for (name, failure) in done.iter().filter_map(|(name, done)| Some((name, done.as_ref().err()?))) {
        output.line(format!("  {}  {}", styled(STRONG, name), styled(BAD, "refused")));
        for line in wording::lines(failure) {
            output.line(format!("    {line}"));
        }
    }
    if done.len() > 1 {
        output.line(summary(done, options.dry_run));
    }
}

/// `openssl 3.5.1 → 3.5.2 and 4 more`.
fn packages(swapped: &Swapped) -> String {
    let moved = |wanted: Move| swapped.packages.iter().filter(move |one| one.change == wanted);
    let Some(first) = moved(Move::Up).next() else {
        return words::count(swapped.packages.len(), "package");
    };
    let [before, after] = [&first.before, &first.after].map(|versions| versions.join(", "));
    let more = match swapped.packages.len() - 1 {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    format!("{} {before} → {after}{more}", first.name)
}

fn summary(done: &[(&String, Result<Swapped, Failure>)], dry_run: bool) -> String {
    let count =
        |wanted: fn(&Result<Swapped, Failure>) -> bool| done.iter().filter(|(_, one)| wanted(one)).count();
    let swapped = count(|one| one.as_ref().is_ok_and(|one| !one.is_same()));
    let same = count(|one| one.as_ref().is_ok_and(Swapped::is_same));
    let refused = count(Result::is_err);
    format!(
        "{}: {swapped} {}swapped, {same} on it already, {refused} refused",
        words::count(done.len(), "image"),
        if dry_run { "would be " } else { "" },
    )
}
