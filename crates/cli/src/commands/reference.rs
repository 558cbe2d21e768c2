//! `completions` and `man`: the command line as a reference.

use super::Done;
use arguments::{CompletionsOptions, ManOptions, reference};
use model::PathFacts;
use render::{FAINT, Output, styled};
use std::process::ExitCode;

pub fn completions(options: &CompletionsOptions, output: &Output) -> Done {
    output.line(reference::completions(options.shell).trim_end());
    Ok(ExitCode::SUCCESS)
}

pub fn man(options: &ManOptions, output: &Output) -> Done {
    if options.markdown {
        output.line(reference::document().trim_end());
        return Ok(ExitCode::SUCCESS);
    }
    let folder = options.folder.as_deref().unwrap_or(std::path::Path::new("man"));
    let written = reference::manual(folder).facts(folder)?;
    if output.is_json() {
        output.json(&serde_json::json!({ "format": "shtetl/man/1", "files": written }));
        return Ok(ExitCode::SUCCESS);
    }
    output.line(format!("{} manual pages in {}", written.len(), folder.display()));
    output.line(styled(FAINT, format!("  to read one: man -l {}/shtetl-build.1", folder.display())));
    Ok(ExitCode::SUCCESS)
}
