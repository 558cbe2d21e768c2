//! `show`: what is in an image.

use super::opened::open_anywhere;
use super::{Done, advisories};
use crate::interrupt;
use crate::surroundings::Surroundings;
use arguments::ShowOptions;
use evidence::Found;
use images::weight;
use model::shell_words;
use pages::ImagePage;
use render::table::Table;
use render::{FAINT, Output, STRONG, styled, words};
use std::path::Path;
use std::process::ExitCode;
use wording::Failure;
use workshop::inspect::{OpenImage, PlatformImage};
use workshop::ledger;

pub fn run(options: &ShowOptions, surroundings: &Surroundings, output: &Output) -> Done {
    interrupt::cancels(&surroundings.cancel)?;
    let (image, _) = open_anywhere(&options.image, surroundings, output)?;
    let image = match &options.platform {
        None => image,
        Some(wanted) => {
            let mut all = image.platforms().into_iter();
            all.find(|one| one.record.platform == *wanted).ok_or_else(|| missing(&image, wanted))?
        }
    };
    let find = |path: &Path| {
        advisories::find(path, &image.record.packages, &surroundings.config_here()?.config.accepted)
    };
    let found = options.advisories.as_deref().map(find).transpose()?;
    if options.record {
        output.json(&image.record);
    } else if output.is_json() {
        output.json(&document(&image, found.as_ref()));
    } else {
        text(&image, options.packages, output);
        if let Some(found) = &found {
            advisories::show(found, output);
        }
    }
    if let Some(file) = &options.page {
        write_page(&image, file, surroundings)?;
        output.aside(format!("page written to {}", file.display()));
    }
    let fails = found.is_some_and(|found| advisories::reaches(&found, options.fail_on));
    Ok(if fails { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

fn write_page(image: &OpenImage, file: &Path, surroundings: &Surroundings) -> Result<(), Failure> {
    let store = &surroundings.store;
    let builds = ledger::entries(store, &image.record.name);
    let documents =
        evidence::of_image(image, None)?.into_iter().filter(|one| one.file.starts_with("packages"));
    let documents: Vec<(String, Vec<u8>)> = documents.map(|one| (one.file, one.bytes)).collect();
    // An image whose base was swapped was built under another digest.
    let built = image.record.built_on.as_ref().map_or(image.digest, |built_on| built_on.image);
    let page = pages::image(&ImagePage {
        image,
        weights: &weight::of(store, &image.record)?,
        build: builds.iter().rev().find(|build| build.digest == Some(built)),
        documents: &documents,
    })?;
    super::pages::write(file, &page, surroundings)
}

fn missing(image: &OpenImage, platform: &str) -> Failure {
    let known: Vec<&str> = image.records().map(|record| record.platform.as_str()).collect();
    Failure::Usage {
        message: format!("{} is not built for {platform}", image.label),
        hint: format!("it is built for {}", known.join(" and ")),
    }
}

fn document(image: &OpenImage, found: Option<&Found>) -> serde_json::Value {
    let variants: Vec<_> = image
        .variants
        .iter()
        .map(|v| serde_json::json!({ "process": v.process, "tag": v.tag, "digest": v.digest, "config": v.config.config }))
        .collect();
    let mut document = serde_json::json!({
        "format": "shtetl/show/1", "image": image.label, "digest": image.digest,
        "variants": variants, "record": image.record,
    });
    if !image.others.is_empty() {
        let other = |one: &PlatformImage| {
            let digests =
                one.variants.iter().map(|v| serde_json::json!({ "process": v.process, "digest": v.digest }));
            serde_json::json!({ "platform": one.record.platform, "variants": digests.collect::<Vec<_>>() })
        };
        document["other_platforms"] = image.others.iter().map(other).collect::<Vec<_>>().into();
    }
    if let Some(found) = found {
        document["advisories"] = serde_json::json!(found);
    }
    document
}

fn text(image: &OpenImage, all_packages: bool, output: &Output) {
    let record = &image.record;
    let runtimes: Vec<String> = record.runtimes.iter().map(|r| format!("{} {}", r.name, r.version)).collect();
    let runtimes = match runtimes.join(" and ") {
        none if none.is_empty() => none,
        some => format!("{some}, "),
    };
    let from =
        if record.base == "host" { "captured from a host".to_owned() } else { format!("on {}", record.base) };
    let platforms: Vec<&str> = image.records().map(|record| record.platform.as_str()).collect();
    output.line(format!("{}  {runtimes}{from}, {}", styled(STRONG, &image.label), platforms.join(" and ")));
    output.line(format!("  {}  {}", styled(FAINT, "image "), image.digest));
    output.line(format!("  {}  {}", styled(FAINT, "source"), record.source));
    section(output, "layers, bottom to top", &layers(image));
    section(output, "how it runs", &processes(image));
    if !record.settings.is_empty() {
        section(output, "settings", &settings(image));
    }
    if all_packages {
        section(output, "packages", &packages(image));
    } else if !record.packages.is_empty() {
        let count = words::count(record.packages.len(), "package");
        output.line(format!("\n{count}: `shtetl show {} --packages` lists them", image.label));
    }
}

fn section(output: &Output, heading: &str, table: &Table) {
    output.line("");
    output.line(styled(STRONG, heading));
    for line in table.lines() {
        output.line(line);
    }
}

fn layers(image: &OpenImage) -> Table {
    let mut table = Table::new(&[1, 2]);
    let (mut packed, mut unpacked) = (0, 0);
    for layer in &image.record.layers {
        packed += layer.size;
        unpacked += layer.raw_size;
        let sizes = [words::size(layer.size), words::size(layer.raw_size)];
        let [size, raw] = sizes;
        table.row([layer.role.name().to_owned(), size, raw, styled(FAINT, layer.digest.short())]);
    }
    table.row([
        styled(FAINT, "together"),
        words::size(packed),
        words::size(unpacked),
        styled(FAINT, "packed, unpacked"),
    ]);
    table
}

fn processes(image: &OpenImage) -> Table {
    let mut table = Table::new(&[]);
    for (process, variant) in image.record.processes.iter().zip(&image.variants) {
        table.row([
            process.name.clone(),
            shell_words::join(&process.command),
            words::process_details(process),
            styled(FAINT, format!("tag {}", variant.tag)),
        ]);
    }
    table
}

fn settings(image: &OpenImage) -> Table {
    let mut table = Table::new(&[]);
    for (name, rule) in &image.record.settings {
        table.row([
            name.clone(),
            words::setting(name, rule),
            styled(FAINT, rule.about.as_deref().unwrap_or_default()),
        ]);
    }
    table
}

fn packages(image: &OpenImage) -> Table {
    let mut table = Table::new(&[]);
    for package in &image.record.packages {
        let licence = package.licence.as_deref().unwrap_or("no licence said");
        table.row([package.name.clone(), package.version.clone(), styled(FAINT, licence)]);
    }
    table
}
