//! Documents that are generated from the program.

use crate::program;
use std::fs;

/// To regenerate one: `cargo run -- man --markdown > docs/commands.md`, and alike.
#[test]
fn generated_documents_are_up_to_date() {
    let documents = [
        ("man", include_str!("../../../../docs/commands.md")),
        ("schema", include_str!("../../../../docs/configuration-reference.md")),
        ("explain", include_str!("../../../../docs/troubleshooting.md")),
    ];
    for (command, written) in documents {
        let printed = program().command([command, "--markdown"]).output().unwrap();
        let printed = String::from_utf8(printed.stdout).unwrap();
        assert_eq!(printed, written, "out of date: the document of {command} --markdown");
    }
}

#[test]
fn an_error_names_a_code_that_is_explained() {
    let program = program();
    let error = program.run("build nothing-here");
    let line = error.stderr.lines().last().unwrap().to_owned();
    let command = line.strip_prefix("more: shtetl ").unwrap();
    assert_eq!(command, "explain source-unreadable");
    let explained = program.succeed(command).stdout;
    assert!(explained.starts_with("source-unreadable\n\nThe path does not exist"), "{explained}");
    let wrong = program.run("explain source-unreadible");
    assert_eq!((wrong.code, wrong.stderr.contains("\"source-unreadable\"")), (2, true));
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
