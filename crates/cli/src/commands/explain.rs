//! `explain`: what a code means.

use super::Done;
use arguments::ExplainOptions;
use render::table::Table;
use render::{FAINT, Output, STRONG, styled};
use std::process::ExitCode;
use wording::{Explanation, Failure, explanation, explanations, nearest_or, troubleshooting};

pub fn run(options: &ExplainOptions, output: &Output) -> Done {
    match &options.code {
        _ if options.markdown => output.line(troubleshooting().trim_end()),
        None => list(output),
        Some(code) => {
            let codes = explanations().map(|explanation| explanation.code);
            let found = explanation(code).ok_or_else(|| Failure::Usage {
                message: format!("unknown code {code:?}"),
                hint: nearest_or(code, codes, || "`shtetl explain` lists all codes".to_owned()),
            })?;
            show(found, output);
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn show(explanation: Explanation, output: &Output) {
    let Explanation { code, text } = explanation;
    if output.is_json() {
        output.json(&serde_json::json!({ "format": "shtetl/explanation/1", "code": code, "text": text }));
        return;
    }
    output.line(styled(STRONG, code));
    for paragraph in text.split("\n\n") {
        output.line("");
        let is_code = paragraph.starts_with("    ");
        match is_code {
            true => output.line(paragraph),
            false => output.prose(paragraph.replace('\n', " ")),
        }
    }
}

fn list(output: &Output) {
    if output.is_json() {
        let codes: Vec<&str> = explanations().map(|explanation| explanation.code).collect();
        output.json(&serde_json::json!({ "format": "shtetl/explanations/1", "codes": codes }));
        return;
    }
    let mut table = Table::new(&[]);
    for explanation in explanations() {
        table.row([explanation.code.to_owned(), styled(FAINT, explanation.summary())]);
    }
    for line in table.lines() {
        output.line(line);
    }
}
