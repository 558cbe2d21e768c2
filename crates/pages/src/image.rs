//! The page of an image.

use crate::treemap::{Area, cut};
use crate::{SEARCHED, Section, download, facts, page, percent, search};
use images::weight::{LayerWeight, Part};
use maud::{Markup, html};
use model::{Role, shell_words};
use render::words;
use std::collections::BTreeMap;
use std::io;
use workshop::inspect::OpenImage;
use workshop::ledger::Entry;
use workshop::record::Record;

/// What the page is made from.
pub struct ImagePage<'a> {
    /// The image.
    pub image: &'a OpenImage,
    /// What its layers weigh, bottom first; nothing for one that is not at hand.
    pub weights: &'a [Option<LayerWeight>],
    /// The build that it comes from, where this machine knows it.
    pub build: Option<&'a Entry>,
    /// Bills of materials: the name of the file, and the document.
    pub documents: &'a [(String, Vec<u8>)],
}

/// Width and height of the chart, in its own units.
const CHART: (f64, f64) = (1160.0, 380.0);
/// Parts of the layers of a role that are drawn apart; what is smaller is one area.
const DRAWN_PARTS: usize = 150;
/// A letter of the chart is about so wide.
const LETTER: f64 = 6.6;

/// What is in an image, how it came about, and how it runs.
pub fn image(of: &ImagePage<'_>) -> io::Result<String> {
    let ImagePage { image, .. } = of;
    let record = &image.record;
    let mut sections = vec![
        Section { id: "weight", title: "Size", body: weight(of) },
        Section { id: "packages", title: "Packages", body: packages(of) },
        Section { id: "runs", title: "Processes and settings", body: runs(image) },
        Section { id: "why", title: "Evidence", body: evidence(record) },
    ];
    if let Some(build) = of.build {
        sections.push(Section { id: "build", title: "How it was built", body: build_steps(build) });
    }
    sections.push(Section { id: "licences", title: "Licences", body: licences(record) });
    sections.push(Section { id: "documents", title: "Bills of materials", body: documents(of)? });
    Ok(page(&image.label, &head(image), &sections))
}

fn head(image: &OpenImage) -> Markup {
    let record = &image.record;
    let (packed, unpacked) =
        record.layers.iter().fold((0, 0), |(a, b), layer| (a + layer.size, b + layer.raw_size));
    let platforms: Vec<&str> = image.records().map(|record| record.platform.as_str()).collect();
    let runtimes: Vec<String> =
        record.runtimes.iter().map(|one| format!("{} {}", one.name, one.version)).collect();
    let source = record.revision.as_ref().map_or_else(
        || record.source.to_string().chars().take(17).collect(),
        |revision| format!("commit {}", revision.commit.chars().take(12).collect::<String>()),
    );
    let mut pairs = vec![
        ("Size", format!("{} packed, {} unpacked", words::size(packed), words::size(unpacked))),
        ("Base", record.base.clone()),
        ("Platform", platforms.join(", ")),
        ("Source", source),
        ("Packages", record.packages.len().to_string()),
    ];
    if !runtimes.is_empty() {
        pairs.insert(1, ("Runtime", runtimes.join(", ")));
    }
    if let Some(built_on) = &record.built_on {
        pairs.push(("Built on", built_on.base.clone()));
    }
    html! { div.digest { (image.digest) } (facts(pairs)) }
}

fn weight(of: &ImagePage<'_>) -> Markup {
    let record = &of.image.record;
    let total: u64 = record.layers.iter().map(|layer| layer.raw_size).sum();
    html! {
        (chart(of))
        div.wide { table {
            caption { "Layers, from the top of the image to its bottom" }
            thead { tr { th scope="col" { "Layer" } th scope="col" { "Step" } th.number scope="col" { "Packed" }
                th.number scope="col" { "Unpacked" } th.share.narrow-off scope="col" { "Share" } } }
            tbody {
                @for layer in record.layers.iter().rev() {
                    tr class=(layer.role.name()) {
                        td { span.role {} (layer.role.name()) }
                        td { (layer.step) }
                        td.number { (words::size(layer.size)) }
                        td.number { (words::size(layer.raw_size)) }
                        td.share.narrow-off { span.bar style={ "width:" (percent(layer.raw_size, total)) ";background:var(--role)" } {} }
                    }
                }
            }
        } }
    }
}

/// What layers are for, as areas, and in them packages and folders.
#[allow(clippy::cast_precision_loss, reason = "areas on a screen")]
fn chart(of: &ImagePage<'_>) -> Markup {
    let record = &of.image.record;
    let mut roles: BTreeMap<Role, LayerWeight> = BTreeMap::new();
    for (layer, weight) in record.layers.iter().zip(of.weights) {
        let Some(weight) = weight.as_ref().filter(|weight| weight.bytes > 0) else { continue };
        let role = roles.entry(layer.role).or_insert(LayerWeight { bytes: 0, parts: Vec::new() });
        role.bytes += weight.bytes;
        role.parts.extend(weight.parts.iter().cloned());
    }
    let mut layers: Vec<(Role, LayerWeight)> = roles.into_iter().collect();
    layers.sort_by_key(|(_, weight)| std::cmp::Reverse(weight.bytes));
    for (_, weight) in &mut layers {
        weight.parts.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
    }
    if layers.is_empty() {
        return html! { p.soft { "The layers are not on this machine, so their contents are unknown here." } };
    }
    let (width, height) = CHART;
    let whole = Area { x: 0.0, y: 0.0, width, height };
    let weights: Vec<f64> = layers.iter().map(|(_, weight)| weight.bytes as f64).collect();
    let areas = cut(whole, &weights);
    html! {
        div.wide { svg.weights viewBox={ "0 0 " (width) " " (height) } role="img"
            aria-label="Layers by size, with their packages and folders; the tables below hold the same data" {
            @for ((role, weight), area) in layers.iter().zip(areas) {
                g class=(role.name()) { (cells(weight, area)) }
            }
        } }
        ul.legend {
            @for role in roles_of(record) { li class=(role) { span.role {} (role) } }
        }
    }
}

fn roles_of(record: &Record) -> Vec<&'static str> {
    let mut roles: Vec<_> = record.layers.iter().map(|layer| layer.role).collect();
    roles.sort_unstable();
    roles.dedup();
    roles.into_iter().map(Role::name).collect()
}

#[allow(clippy::cast_precision_loss, reason = "areas on a screen")]
fn cells(weight: &LayerWeight, area: Area) -> Markup {
    let drawn: Vec<&Part> = weight.parts.iter().filter(|part| part.bytes > 0).take(DRAWN_PARTS).collect();
    let rest = weight.bytes - drawn.iter().map(|part| part.bytes).sum::<u64>();
    let count = weight.parts.len() - drawn.len();
    let more = Part { name: format!("{count} more"), is_package: false, bytes: rest };
    let parts: Vec<&Part> = drawn.into_iter().chain((rest > 0).then_some(&more)).collect();
    let weights: Vec<f64> = parts.iter().map(|part| part.bytes as f64).collect();
    html! {
        @for (part, Area { x, y, width, height }) in parts.into_iter().zip(cut(area, &weights)) {
            g {
                title { (part.name) ": " (words::size(part.bytes)) }
                rect x={ (format!("{x:.1}")) } y={ (format!("{y:.1}")) }
                    width={ (format!("{width:.1}")) } height={ (format!("{height:.1}")) } {}
                @if let Some(label) = fitting(&part.name, width, height) {
                    text x={ (format!("{:.1}", x + 6.0)) } y={ (format!("{:.1}", y + 16.0)) } { (label) }
                    @if height > 36.0 && width > 56.0 {
                        text.size x={ (format!("{:.1}", x + 6.0)) } y={ (format!("{:.1}", y + 31.0)) } { (words::size(part.bytes)) }
                    }
                }
            }
        }
    }
}

/// As much of a name as an area has room for.
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a few letters")]
fn fitting(name: &str, width: f64, height: f64) -> Option<String> {
    let room = ((width - 12.0) / LETTER).max(0.0) as usize;
    if height < 20.0 || room < 4 {
        return None;
    }
    match name.chars().count() <= room {
        true => Some(name.to_owned()),
        false => Some(format!("{}…", name.chars().take(room - 1).collect::<String>())),
    }
}

fn packages(of: &ImagePage<'_>) -> Markup {
    let record = &of.image.record;
    if record.packages.is_empty() {
        return html! { p.soft { "The image has no packages." } };
    }
    let sizes: BTreeMap<(usize, &str), u64> = of
        .weights
        .iter()
        .enumerate()
        .flat_map(|(number, weight)| {
            weight.iter().flat_map(move |one| one.parts.iter().map(move |part| (number, part)))
        })
        .filter(|(_, part)| part.is_package)
        .map(|(number, part)| ((number, part.name.as_str()), part.bytes))
        .collect();
    let mut rows: Vec<_> = record
        .packages
        .iter()
        .map(|package| {
            let label = format!("{} {}", package.name, package.version);
            (package, sizes.get(&(package.layer.unwrap_or_default(), label.as_str())).copied())
        })
        .collect();
    rows.sort_by_key(|(package, size)| (std::cmp::Reverse(*size), package.name.to_lowercase()));
    let kind = |purl: &str| purl.trim_start_matches("pkg:").split('/').next().unwrap_or_default().to_owned();
    html! {
        (search("Search in name, version, kind and licence"))
        div.wide { table id=(SEARCHED) {
            thead { tr { th scope="col" { "Package" } th scope="col" { "Version" } th.narrow-off scope="col" { "Kind" }
                th scope="col" { "Licence" } th.number.narrow-off scope="col" { "Needs" } th.number scope="col" { "Size" } } }
            tbody {
                @for (package, size) in rows {
                    tr { td { (package.name) } td { (package.version) } td.narrow-off { (kind(&package.purl)) }
                        td { (package.licence.as_deref().unwrap_or("not declared")) }
                        td.number.narrow-off { @if !package.needs.is_empty() { (package.needs.len()) } }
                        td.number { @if let Some(size) = size { (words::size(size)) } } }
                }
            }
        } }
        p.soft { "Sizes are those of files; of Debian packages only the folders are known, in the chart." }
    }
}

fn runs(image: &OpenImage) -> Markup {
    let record = &image.record;
    html! {
        div.wide { table {
            thead { tr { th scope="col" { "Process type" } th scope="col" { "Command" } th scope="col" { "Details" } th scope="col" { "Tag" } } }
            tbody {
                @for (process, variant) in record.processes.iter().zip(&image.variants) {
                    tr { td { (process.name) } td { code { (shell_words::join(&process.command)) } }
                        td { (words::process_details(process)) } td { (variant.tag) } }
                }
            }
        } }
        @if !record.settings.is_empty() {
            h3 { "Settings" }
            div.wide { table {
                thead { tr { th scope="col" { "Name" } th scope="col" { "Rule" } th scope="col" { "What for" } } }
                tbody {
                    @for (name, rule) in &record.settings {
                        tr { td { code { (name) } }
                            td { (anstream::adapter::strip_str(&words::setting(name, rule)).to_string()) }
                            td { (rule.about.as_deref().unwrap_or_default()) } }
                    }
                }
            } }
        }
    }
}

fn evidence(record: &Record) -> Markup {
    html! {
        @for buildpack in &record.buildpacks {
            h3 { (buildpack.name) }
            div.wide { table {
                thead { tr { th scope="col" { "Where" } th scope="col" { "Found" } th scope="col" { "Meaning" } } }
                tbody {
                    @for one in &buildpack.evidence {
                        tr { td { code { (one.place) } } td { (one.value) } td { (one.tells) } }
                    }
                }
            } }
        }
    }
}

fn build_steps(build: &Entry) -> Markup {
    let end = build.steps.iter().map(|step| step.began + step.milliseconds).max().unwrap_or_default();
    let ran = build.steps.iter().filter(|step| step.because.is_some()).count();
    let found = build.steps.len() - ran;
    html! {
        p { "Build " (build.number) " took " (words::duration(build.milliseconds)) ": "
            (words::count(ran, "step")) " ran, and of " (found) " were in the store." }
        div.wide { table.steps {
            thead { tr { th scope="col" { "Step" } th.number scope="col" { "Time" } th scope="col" { "Why" } th.share.narrow-off scope="col" { "When" } } }
            tbody {
                @for step in &build.steps {
                    tr class=(step.role.name()) {
                        td { (step.step) }
                        @if let Some(reason) = &step.because {
                            td.number { (words::duration(step.milliseconds)) }
                            td { (words::reason(reason)) }
                            td.share.narrow-off { span.track {
                                span style={ "left:" (percent(step.began, end)) ";width:" (percent(step.milliseconds, end)) } {} } }
                        } @else {
                            td.number {} td.good { "its result was in the store" } td.share.narrow-off {}
                        }
                    }
                }
            }
        } }
    }
}

fn licences(record: &Record) -> Markup {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for package in &record.packages {
        *counts.entry(package.licence.as_deref().unwrap_or("not declared")).or_default() += 1;
    }
    let mut counts: Vec<_> = counts.into_iter().collect();
    counts.sort_by_key(|(name, count)| (std::cmp::Reverse(*count), *name));
    let most = counts.first().map_or(1, |(_, count)| *count as u64);
    html! {
        div.wide { table {
            thead { tr { th scope="col" { "Licence, as declared" } th.number scope="col" { "Packages" } th.share.narrow-off scope="col" { "Share" } } }
            tbody {
                @for (name, count) in counts {
                    tr { td { (name) } td.number { (count) }
                        td.share.narrow-off { span.bar style={ "width:" (percent(count as u64, most)) } {} } }
                }
            }
        } }
    }
}

fn documents(of: &ImagePage<'_>) -> io::Result<Markup> {
    let mut all = Vec::new();
    for (number, (file, bytes)) in of.documents.iter().enumerate() {
        let kind = if file.ends_with(".cdx.json") { "CycloneDX" } else { "SPDX" };
        let label = format!("Save as {kind}");
        all.push(download(&format!("document-{number}"), &label, file, bytes)?);
    }
    Ok(html! {
        p { "Every package with its package URL, hash, licence, layer and dependencies:" }
        p { @for one in &all { (one) " " } }
    })
}
