//! The documents: what they print can be run, their links lead somewhere, their configuration is valid.

use crate::program;
use serde_json::Value;
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use testkit::program::{Program, Said};

/// The longest line of prose.
const WIDEST: usize = 130;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Every document with its path from the root.
pub fn documents() -> Vec<(String, String)> {
    let mut found: Vec<String> = ["README.md", "CONTRIBUTING.md"].map(str::to_owned).into();
    for folder in ["docs", "docs/languages"] {
        let entries = fs::read_dir(root().join(folder)).unwrap();
        let names = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap());
        found.extend(names.filter(|name| name.ends_with(".md")).map(|name| format!("{folder}/{name}")));
    }
    found.into_iter().map(|path| (path.clone(), fs::read_to_string(root().join(path)).unwrap())).collect()
}

/// A fenced block: its language with what follows, and its text.
pub fn blocks(text: &str) -> Vec<(&str, &str)> {
    let mut rest = text;
    let mut found = Vec::new();
    while let Some((_, after)) = rest.split_once("\n```") {
        let (kind, body) = after.split_once('\n').unwrap();
        let (block, more) = body.split_once("```").unwrap();
        found.push((kind, block));
        rest = more;
    }
    found
}

/// Runs a block in a shell where `shtetl` is the program, in the folder where the last one ended.
fn run(program: &Program, block: &str) -> Said {
    let folder = program.path("folder").display().to_string();
    let script = format!(
        "PATH=/usr/bin:/bin; export PATH; set -eu; cd \"$(cat {folder} 2>/dev/null || echo .)\"; \
         shtetl() {{ \"$SHTETL\" \"$@\"; }}; SHTETL=$0; {block}\npwd > {folder}; exit 0"
    );
    program.run_after(&script, "")
}

#[test]
fn printed_commands_run_and_say_what_is_printed() {
    let mut ran = 0;
    for (path, text) in documents() {
        let program = program();
        let mut last = None;
        for (kind, block) in blocks(&text) {
            match kind {
                "sh run" => {
                    let said = run(&program, block);
                    assert_eq!(said.code, 0, "{path}: {block}\n{said}");
                    last = Some(said);
                    ran += 1;
                }
                "text" => {
                    if let Some(said) = last.take() {
                        assert_eq!(said.stdout, block, "{path}\n{said}");
                    }
                }
                _ => last = None,
            }
        }
    }
    assert!(ran >= 10, "{ran}");
}

#[test]
fn printed_configuration_is_valid() {
    let program = program();
    let mut looked_at = BTreeSet::new();
    for (path, text) in documents() {
        for (_, block) in blocks(&text).into_iter().filter(|(kind, _)| *kind == "toml") {
            let schema = match block.lines().next() {
                Some("# shtetl.toml") => "configuration",
                Some("# house.toml") => "house-rules",
                Some("# config.toml") => "user-configuration",
                Some("# town.toml") => "town",
                Some("# definition.toml") => "buildpack",
                other => panic!("{path}: a block has to begin with the name of its file, not {other:?}"),
            };
            looked_at.insert(schema);
            let document: Value = toml::from_str(block).unwrap_or_else(|error| panic!("{path}: {error}"));
            let mut schema = program.json(&format!("schema {schema}"));
            // Documents may show buildpacks that an organisation adds.
            schema.as_object_mut().unwrap().remove("$schema");
            let validator = jsonschema::validator_for(&schema).unwrap();
            let faults: Vec<String> =
                validator.iter_errors(&document).map(|fault| fault.to_string()).collect();
            assert!(faults.is_empty(), "{path}: {faults:?}\n{block}");
        }
    }
    assert_eq!(looked_at.len(), 5, "{looked_at:?}");
}

/// The anchor of a heading.
fn anchor(heading: &str) -> String {
    let kept = heading
        .to_lowercase()
        .chars()
        .filter(|c| c.is_alphanumeric() || " -_".contains(*c))
        .collect::<String>();
    kept.trim().replace(' ', "-")
}

#[test]
fn links_lead_somewhere() {
    let mut faults = Vec::new();
    let mut links = 0;
    for (path, text) in documents() {
        let folder = Path::new(&path).parent().unwrap();
        for target in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            if target.contains("://") {
                continue;
            }
            links += 1;
            let (file, part) = target.split_once('#').unwrap_or((target, ""));
            let to = if file.is_empty() { root().join(&path) } else { root().join(folder).join(file) };
            let headings = fs::read_to_string(&to).unwrap_or_default();
            let known = headings.lines().filter(|line| line.starts_with('#'));
            let leads = to.exists()
                && (part.is_empty()
                    || known.map(|line| anchor(line.trim_start_matches('#'))).any(|a| a == part));
            if !leads {
                faults.push(format!("{path}: {target}"));
            }
        }
    }
    assert!(faults.is_empty(), "{}", faults.join("\n"));
    assert!(links > 100, "{links}");
}

#[test]
fn prose_has_short_lines() {
    let mut long = Vec::new();
    for (path, text) in documents() {
        let mut in_block = false;
        for (at, line) in text.lines().enumerate() {
            in_block ^= line.starts_with("```");
            if !in_block && !line.starts_with('|') && line.chars().count() > WIDEST {
                long.push(format!("{path}:{}", at + 1));
            }
        }
    }
    assert!(long.is_empty(), "{}", long.join("\n"));
}
