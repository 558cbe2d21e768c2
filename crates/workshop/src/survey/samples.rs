//! Samples of dotenv files: what people are told to set.

use model::{Place, Result};
use source::SourceTree;
use std::collections::BTreeMap;

const SAMPLES: [&str; 6] =
    [".env.example", ".env.sample", ".env.template", ".env.dist", "env.example", "env.sample"];

/// Variables that a sample at the top of the source names, each with its first place.
pub(super) fn find(tree: &SourceTree) -> Result<BTreeMap<String, Place>> {
    let mut found = BTreeMap::new();
    for file in SAMPLES.iter().filter(|s| tree.has(s)) {
        // A sample that is not text names nothing.
        let Some(text) = tree.read_text(file)? else { continue };
        for (number, line) in text.lines().enumerate() {
            let line = line.trim_start();
            let name =
                line.strip_prefix("export ").unwrap_or(line).split('=').next().unwrap_or_default().trim();
            if line.contains('=') && model::names::is_variable(name) {
                let place = Place::new(*file, u32::try_from(number + 1).ok());
                found.entry(name.to_owned()).or_insert(place);
            }
        }
    }
    Ok(found)
}
