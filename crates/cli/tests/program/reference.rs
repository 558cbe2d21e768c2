//! The command line as a reference.

use crate::program;
use std::fs;

/// To write it again: `cargo run -- man --markdown > docs/commands.md`.
#[test]
fn the_reference_of_commands_is_up_to_date() {
    let said = program().command(["man", "--markdown"]).output().unwrap();
    let written = include_str!("../../../../docs/commands.md");
    assert_eq!(String::from_utf8(said.stdout).unwrap(), written, "docs/commands.md is out of date");
}

#[test]
fn manual_pages_and_completions_know_every_command() {
    let program = program();
    let _ = program.succeed("man pages");
    let pages = fs::read_dir(program.path("pages")).unwrap().count();
    assert!(pages > 50, "{pages}");
    assert!(program.path("pages/shtetl-yard-roll-back.1").exists());
    for shell in ["bash", "zsh", "fish"] {
        let script = program.succeed(&format!("completions {shell}")).stdout;
        assert!(script.contains("swap-base") && script.contains("roll-back"), "{shell}");
    }
    assert_eq!(program.run("completions nushel").code, 2);
}
