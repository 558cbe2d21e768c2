//! `schema`: JSON Schemas of files and outputs.

use super::Done;
use crate::documents::{self, ALL};
use arguments::SchemaOptions;
use render::table::Table;
use render::{FAINT, Output, styled};
use std::process::ExitCode;
use wording::{Failure, suggestion};

pub fn run(options: &SchemaOptions, output: &Output) -> Done {
    if options.markdown {
        output.line(documents::reference().trim_end());
        return Ok(ExitCode::SUCCESS);
    }
    match &options.name {
        None => list(output),
        Some(name) => {
            let known = ALL.map(|d| d.name);
            let described = ALL.iter().find(|d| d.name == name).ok_or_else(|| Failure::Usage {
                message: format!("unknown schema {name:?}"),
                hint: suggestion(name, &known),
            })?;
            output.json(&(described.schema)());
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn list(output: &Output) {
    if output.is_json() {
        let all = ALL.map(|d| serde_json::json!({ "name": d.name, "about": d.about }));
        output.json(&serde_json::json!({ "format": "shtetl/schemas/1", "schemas": all }));
        return;
    }
    let mut table = Table::new(&[]);
    for described in ALL {
        table.row([described.name.to_owned(), styled(FAINT, described.about)]);
    }
    for line in table.lines() {
        output.line(line);
    }
}
