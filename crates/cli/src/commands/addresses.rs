//! `addresses`: where packages come from, and what set each address.

use super::Done;
use crate::surroundings::Surroundings;
use arguments::{AddressesOptions, SourceOptions};
use config::addresses::{Addresses, KnownAddress, Origin};
use config::{ConfigPlace, Effective};
use model::Ecosystem;
use render::table::Table;
use render::{FAINT, GOOD, Output, STRONG, styled};
use std::process::ExitCode;

pub fn run(options: &AddressesOptions, surroundings: &Surroundings, output: &Output) -> Done {
    let path = options.path.as_path();
    let names = surroundings.buildpacks.known_names();
    let place = ConfigPlace { folder: path, shown: path, near: path };
    let Effective { config, origins } =
        Effective::load(&place, &surroundings.choice(&SourceOptions::of(path)), &names)?;
    let addresses = Addresses::new(&surroundings.book, &config, &origins, &options.path);
    if output.is_json() {
        let all: Vec<_> = names
            .ecosystems
            .iter()
            .copied()
            .map(|e| document(e, &addresses.all(e), &addresses.bound(e)))
            .collect();
        output.json(&serde_json::json!({ "format": "shtetl/addresses/1", "addresses": all }));
        return Ok(ExitCode::SUCCESS);
    }
    // Files have no address for all of them, only for each name.
    let is_said = |e: &Ecosystem| *e != Ecosystem::FILES || !addresses.bound(*e).is_empty();
    for (number, ecosystem) in names.ecosystems.iter().copied().filter(is_said).enumerate() {
        if number > 0 {
            output.line("");
        }
        output.line(styled(STRONG, ecosystem.name()));
        let all = addresses.all(ecosystem);
        for line in table(&all).lines() {
            output.line(line);
        }
        for known in addresses.bound(ecosystem) {
            let name = known.bound.as_deref().unwrap_or_default();
            let only = format!("only from there: {name}");
            let detail = format!("{}: {}", who(known.origin), known.detail);
            output.line(format!("  {}  {}  {}", known.address, styled(GOOD, only), styled(FAINT, detail)));
        }
        if all.is_empty() && ecosystem != Ecosystem::FILES {
            let name = ecosystem.name();
            output
                .line(format!("  no address; in shtetl.toml, under [addresses]: {name} = \"URL or folder\""));
        }
    }
    output.line("");
    output.line(styled(
        FAINT,
        "A place that a lockfile names for a package is overridden by options, variables, shtetl.toml",
    ));
    output.line(styled(
        FAINT,
        "and your own configuration, but not by the configuration of the ecosystem's tools.",
    ));
    Ok(ExitCode::SUCCESS)
}

fn document(ecosystem: Ecosystem, all: &[KnownAddress], bound: &[KnownAddress]) -> serde_json::Value {
    let said = |k: &KnownAddress| serde_json::json!({ "address": k.address.to_string(), "origin": k.origin, "said_by": k.detail });
    let of_name = |k: &KnownAddress| {
        let mut said = said(k);
        said["name"] = k.bound.as_deref().into();
        said
    };
    let in_force_first: Vec<_> = all.iter().map(said).collect();
    let bound: Vec<_> = bound.iter().map(of_name).collect();
    serde_json::json!({ "kind": ecosystem.name(), "in_force_first": in_force_first, "bound": bound })
}

fn table(all: &[KnownAddress]) -> Table {
    let mut table = Table::new(&[]);
    for (number, known) in all.iter().enumerate() {
        let force = if number == 0 { styled(GOOD, "effective") } else { styled(FAINT, "overridden") };
        let detail = format!("{}: {}", who(known.origin), known.detail);
        table.row([force, known.address.to_string(), styled(FAINT, detail)]);
    }
    table
}

fn who(origin: Origin) -> &'static str {
    match origin {
        Origin::Option => "option",
        Origin::Variable => "variable",
        Origin::App => "app",
        Origin::HouseRules => "house rules",
        Origin::User => "your configuration",
        Origin::Lockfile => "lockfile",
        Origin::Ecosystem => "ecosystem's configuration",
        Origin::Tool => "ecosystem's tool",
    }
}
