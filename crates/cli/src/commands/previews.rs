//! `build --dry-run`: what would be done.

use render::table::Table;
use render::{BUSY, GOOD, Output, STRONG, styled, words};
use workshop::app::App;
use workshop::build::Preview;
use workshop::plan::Worklist;

/// What would be done for each platform.
pub fn show_previews(app: &App, previews: &[(&Worklist, Vec<Preview>)], output: &Output) {
    if !output.is_json() {
        previews.iter().for_each(|(worklist, steps)| show_preview(app, worklist, steps, output));
        return;
    }
    let mut all = previews.iter().map(|(worklist, steps)| preview_document(app, worklist, steps));
    let mut document = all.next().unwrap_or_default();
    let others: Vec<_> = all.collect();
    if !others.is_empty() {
        document["other_platforms"] = others.into();
    }
    output.json(&document);
}

fn preview_document(app: &App, worklist: &Worklist, steps: &[Preview]) -> serde_json::Value {
    let document = |preview: &Preview| {
        serde_json::json!({
            "step": preview.step,
            "role": preview.role,
            "for_build": preview.for_build,
            "key": preview.key,
            "runs": preview.decision.is_err(),
            "because": preview.decision.as_ref().err(),
        })
    };
    let steps: Vec<_> = steps.iter().map(document).collect();
    serde_json::json!({
        "format": "shtetl/preview/1", "name": app.survey.name, "platform": worklist.target.platform,
        "runtimes": worklist.runtimes, "steps": steps,
    })
}

fn show_preview(app: &App, worklist: &Worklist, steps: &[Preview], output: &Output) {
    let runs = steps.iter().filter(|step| step.decision.is_err()).count();
    let summary = match runs {
        0 => "nothing would run".to_owned(),
        n => format!("{} would run", words::count(n, "step")),
    };
    output.line(format!("{}  {summary}, {}", styled(STRONG, &app.survey.name), worklist.target.platform));
    let mut table = Table::new(&[]);
    for Preview { step, for_build, decision, .. } in steps {
        let (what, why) = match decision {
            Ok(result) => (styled(GOOD, "found"), words::size(result.layer.size)),
            Err(reason) => (styled(BUSY, "would run"), words::reason(reason)),
        };
        let why = if *for_build { format!("{why}; only for the build") } else { why };
        table.row([step.clone(), what, why]);
    }
    for line in table.lines() {
        output.line(line);
    }
}
