//! `runtimes`: what can be provided, and from where.

use super::Done;
use arguments::RuntimesOptions;
use bases::catalogue::{Offer, as_of, offers};
use render::table::Table;
use render::{FAINT, Output, STRONG, styled};
use std::process::ExitCode;
use wording::{Failure, suggestion};

pub fn run(options: &RuntimesOptions, output: &Output) -> Done {
    let mut all = offers();
    if let Some(name) = &options.name {
        let mut known: Vec<&str> = all.iter().map(|o| o.runtime).collect();
        known.dedup();
        if !known.contains(&name.as_str()) {
            return Err(Failure::Usage {
                message: format!("unknown runtime {name:?}"),
                hint: suggestion(name, &known),
            });
        }
        all.retain(|offer| offer.runtime == name);
    }
    if output.is_json() {
        output.json(&serde_json::json!({ "format": "shtetl/runtimes/1", "as_of": as_of(), "runtimes": all }));
        return Ok(ExitCode::SUCCESS);
    }
    let (building, running): (Vec<_>, Vec<_>) = all.into_iter().partition(|offer| offer.for_building);
    if !running.is_empty() {
        list(&running, output);
        output.line(styled(FAINT, "  or the runtime of any OCI image: from = \"oci:REFERENCE\""));
        output.line("");
    }
    if !building.is_empty() {
        output.line("used only during builds");
        list(&building, output);
        output.line("");
    }
    output.line(styled(FAINT, format!("end of support as announced upstream; table as of {}", as_of())));
    Ok(ExitCode::SUCCESS)
}

fn list(offers: &[Offer], output: &Output) {
    let mut last = "";
    let mut table = Table::new(&[]);
    for offer in offers {
        let name = if offer.runtime == last { String::new() } else { styled(STRONG, offer.runtime) };
        last = offer.runtime;
        table.row([name, offer.version.clone(), offer.origin.clone(), styled(FAINT, support(offer))]);
    }
    table.lines().iter().for_each(|line| output.line(line));
}

fn support(offer: &Offer) -> String {
    match (&offer.supported_until, &offer.base_supported_until) {
        (Some(own), Some(base)) => format!("supported until {own} (upstream), until {base} (Debian)"),
        (None, Some(base)) => format!("supported until {base} (Debian)"),
        _ => String::new(),
    }
}
