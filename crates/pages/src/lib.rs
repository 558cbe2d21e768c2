//! Pages: one file of HTML each, which fetches nothing, for people who would rather look than read tables.

mod comparison;
mod image;
mod ledger;
mod town;
mod treemap;

pub use comparison::comparison;
pub use image::{ImagePage, image};
pub use ledger::ledger;
pub use town::{simulation, town};

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use flate2::Compression;
use flate2::write::GzEncoder;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use std::io::{self, Write};

const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// A section that the head leads to.
struct Section {
    id: &'static str,
    title: &'static str,
    body: Markup,
}

/// A whole page.
fn page(title: &str, head: &Markup, sections: &[Section]) -> String {
    let whole = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                link rel="icon" href="data:,";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                a.skip href="#content" { "Skip to the content" }
                header {
                    h1 { (title) }
                    (head)
                    nav aria-label="Sections" {
                        ul { @for section in sections { li { a href={ "#" (section.id) } { (section.title) } } } }
                    }
                }
                main id="content" {
                    @for section in sections {
                        section aria-labelledby=(section.id) {
                            h2 id=(section.id) { (section.title) }
                            (section.body)
                        }
                    }
                }
                footer { "Written by shtetl " (env!("CARGO_PKG_VERSION")) "." }
                script { (PreEscaped(SCRIPT)) }
            }
        }
    };
    whole.into_string()
}

/// Pairs of a name and what it is.
fn facts<'f>(pairs: impl IntoIterator<Item = (&'f str, String)>) -> Markup {
    html! {
        dl.facts {
            @for (name, value) in pairs { div { dt { (name) } dd { (value) } } }
        }
    }
}

/// The id of the table that [`search`] looks through.
const SEARCHED: &str = "package-table";

/// A field that leaves only rows of the table with all words, and says how many.
fn search(label: &str) -> Markup {
    html! {
        div.search {
            label for="find" { (label) }
            input type="search" id="find" data-table=(SEARCHED) data-count="found";
            span id="found" aria-live="polite" {}
        }
    }
}

/// A button for a document that is packed into the page.
fn download(id: &str, label: &str, file: &str, bytes: &[u8]) -> io::Result<Markup> {
    let mut packed = GzEncoder::new(Vec::new(), Compression::best());
    packed.write_all(bytes)?;
    let packed = BASE64_STANDARD.encode(packed.finish()?);
    Ok(html! {
        button type="button" data-document=(id) data-file=(file) { (label) }
        script type="text/plain" id=(id) { (PreEscaped(packed)) }
    })
}

/// The share of a whole in percent, for widths.
#[allow(clippy::cast_precision_loss, reason = "a width on a screen")]
fn percent(part: u64, whole: u64) -> String {
    format!("{:.2}%", part as f64 * 100.0 / whole.max(1) as f64)
}
