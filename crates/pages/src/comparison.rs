//! The page of what is different between two images.

use crate::{SEARCHED, Section, facts, page, search};
use images::compare::{Comparison, FileFact, LayerChange, Move, PackageChange, Pair};
use maud::{Markup, html};
use model::shell_words;
use render::words;

/// How many files of a layer are listed.
const MOST_FILES: usize = 200;

/// What is different between two images, which people know as `before` and `after`.
pub fn comparison(before: &str, after: &str, of: &Comparison) -> String {
    let mut sections = Vec::new();
    if !of.packages.is_empty() {
        sections.push(Section { id: "packages", title: "Packages", body: packages(&of.packages) });
    }
    if !of.layers.is_empty() {
        sections.push(Section { id: "layers", title: "Layers and files", body: layers(of) });
    }
    if !(of.processes.is_empty() && of.settings.is_empty() && of.runtimes.is_empty()) {
        sections.push(Section { id: "runs", title: "Processes and settings", body: runs(of) });
    }
    page(&format!("{before} and {after}"), &head(of), &sections)
}

fn head(of: &Comparison) -> Markup {
    let Pair { before, after } = of.size;
    let mut pairs = vec![
        ("Size", format!("{} → {}", words::size(before), words::size(after))),
        ("Layers", format!("{} the same, {} other", of.same_layers, of.layers.len())),
        ("Packages", format!("{} changed", of.packages.len())),
    ];
    let texts = [("Source", &of.source), ("Base", &of.base), ("Platform", &of.platform)];
    pairs.extend(texts.into_iter().filter_map(|(name, pair)| {
        let Pair { before, after } = pair.as_ref()?;
        let short = |text: &str| text.chars().take(19).collect::<String>();
        Some((name, format!("{} → {}", short(before), short(after))))
    }));
    html! {
        div.digest { (of.digest.before) br; (of.digest.after) }
        @if of.is_same() { p.good { "It is the same image." } }
        (facts(pairs))
    }
}

fn packages(changes: &[PackageChange]) -> Markup {
    let word = |change: Move| match change {
        Move::Up => "newer",
        Move::Down => "older",
        Move::Added => "new",
        Move::Removed => "gone",
        Move::Rebuilt => "other contents",
    };
    html! {
        (search("Search in packages"))
        div.wide { table id=(SEARCHED) {
            thead { tr { th scope="col" { "Package" } th scope="col" { "Change" } th scope="col" { "Before" } th scope="col" { "After" }
                th.narrow-off scope="col" { "Kind" } th.narrow-off scope="col" { "Licence" } } }
            tbody {
                @for one in changes {
                    tr { td { (one.name) } td { (word(one.change)) } td { (one.before.join(", ")) } td { (one.after.join(", ")) }
                        td.narrow-off { (one.kind) }
                        td.narrow-off { @if let Some(Pair { before, after }) = &one.licence {
                            (before.as_deref().unwrap_or("none")) " → " (after.as_deref().unwrap_or("none"))
                        } } }
                }
            }
        } }
    }
}

fn layers(of: &Comparison) -> Markup {
    let size = |size: Option<u64>| size.map_or_else(|| "not there".to_owned(), words::size);
    html! {
        @for LayerChange { step, size: Pair { before, after }, because, files } in &of.layers {
            h3 { (step) " " span.soft { (size(*before)) " → " (size(*after)) } }
            @if !because.is_empty() { p { "Because these inputs of the step changed: " (because.join(", ")) "." } }
            @if files.is_empty() { p.soft { "No file is different." } } @else {
                div.wide { table {
                    caption { (words::count(files.len(), "file")) @if files.len() > MOST_FILES { ", the first " (MOST_FILES) } }
                    thead { tr { th scope="col" { "File" } th.number scope="col" { "Before" } th.number scope="col" { "After" } } }
                    tbody {
                        @for change in files.iter().take(MOST_FILES) {
                            tr { td { code { "/" (change.path) } } td.number { (file(change.fact.before.as_ref())) }
                                td.number { (file(change.fact.after.as_ref())) } }
                        }
                    }
                } }
            }
        }
    }
}

fn file(fact: Option<&FileFact>) -> String {
    match fact {
        None => "not there".to_owned(),
        Some(FileFact { link: Some(target), .. }) => format!("→ {target}"),
        Some(fact) => format!("{} {:04o}", words::size(fact.size), fact.mode & 0o7777),
    }
}

fn runs(of: &Comparison) -> Markup {
    let none = || "none".to_owned();
    let runtimes = of.runtimes.iter().map(|(name, Pair { before, after })| {
        (name.clone(), before.clone().unwrap_or_else(none), after.clone().unwrap_or_else(none))
    });
    let command = |process: &Option<model::ProcessType>| {
        process.as_ref().map_or_else(none, |one| {
            format!("{} ({})", shell_words::join(&one.command), words::process_details(one))
        })
    };
    let processes = of
        .processes
        .iter()
        .map(|(name, Pair { before, after })| (format!("process {name}"), command(before), command(after)));
    let rule = |is_there: bool| if is_there { "a rule".to_owned() } else { "no rule".to_owned() };
    let settings = of.settings.iter().map(|(name, Pair { before, after })| {
        let after = if *before && *after { "another rule".to_owned() } else { rule(*after) };
        (format!("setting {name}"), rule(*before), after)
    });
    html! {
        div.wide { table {
            thead { tr { th scope="col" { "What" } th scope="col" { "Before" } th scope="col" { "After" } } }
            tbody {
                @for (what, before, after) in runtimes.chain(processes).chain(settings) {
                    tr { td { (what) } td { (before) } td { (after) } }
                }
            }
        } }
    }
}
