//! The command line as a reference: a document, manual pages, completions for shells.

use crate::Arguments;
use clap::{Arg, Command, CommandFactory};
use clap_complete::Shell;
use clap_mangen::Man;
use std::fmt::Write as _;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// The name of the program.
const PROGRAM: &str = "shtetl";

/// The command with everything filled in that clap adds by itself.
fn command() -> Command {
    let mut command = Arguments::command();
    command.build();
    command
}

/// What a shell completes words with, as a script of that shell.
pub fn completions(shell: Shell) -> String {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut command(), PROGRAM, &mut script);
    String::from_utf8_lossy(&script).into_owned()
}

/// Writes a manual page for the program and for each command into a folder; gives their files.
pub fn manual(folder: &Path) -> io::Result<Vec<PathBuf>> {
    fs::create_dir_all(folder)?;
    let mut written = Vec::new();
    let mut pending = vec![(PROGRAM.to_owned(), command())];
    while let Some((name, command)) = pending.pop() {
        for inner in commands_of(&command) {
            pending.push((format!("{name}-{}", inner.get_name()), inner.clone()));
        }
        let path = folder.join(format!("{name}.1"));
        let mut page = Vec::new();
        Man::new(command).title(name).render(&mut page)?;
        fs::write(&path, page)?;
        written.push(path);
    }
    written.sort();
    Ok(written)
}

fn commands_of(command: &Command) -> impl Iterator<Item = &Command> {
    command.get_subcommands().filter(|inner| !inner.is_hide_set() && inner.get_name() != "help")
}

/// All commands with their options, as a document in Markdown.
pub fn document() -> String {
    let mut text = String::from(
        "# Commands\n\nWritten by `shtetl man --markdown`: every text here is a part of the help. Options of all commands come last.\n",
    );
    let whole = command();
    for inner in commands_of(&whole) {
        describe(PROGRAM, inner, &mut text);
    }
    text.push_str("\n## Options of all commands\n\n");
    options(whole.get_arguments().filter(|option| option.is_global_set()), &mut text);
    text
}

fn describe(parents: &str, command: &Command, text: &mut String) {
    let name = format!("{parents} {}", command.get_name());
    let level = if parents == PROGRAM { "##" } else { "###" };
    let _ = write!(text, "\n{level} `{name}`\n");
    if let Some(about) = command.get_about() {
        let _ = write!(text, "\n{about}\n");
    }
    let own: Vec<&Arg> = command.get_arguments().filter(|argument| !argument.is_global_set()).collect();
    let (words, named): (Vec<&Arg>, Vec<&Arg>) =
        own.into_iter().partition(|argument| argument.is_positional());
    let usage: String = words.iter().map(|word| format!(" {}", value_of(word))).collect();
    if commands_of(command).next().is_none() {
        let options = if named.iter().any(|option| option.get_id() != "help") { " [OPTIONS]" } else { "" };
        let _ = write!(text, "\n```\n{name}{options}{usage}\n```\n");
    }
    let listed: Vec<&Arg> = words.into_iter().chain(named).collect();
    if listed.iter().any(|argument| is_listed(argument)) {
        text.push('\n');
        options(listed.into_iter(), text);
    }
    if let Some(examples) = command.get_after_help() {
        let examples = examples.to_string();
        let lines = examples.lines().filter(|line| *line != "Examples:").map(str::trim_end);
        let _ = write!(text, "\n```\n{}\n```\n", lines.collect::<Vec<_>>().join("\n").trim_matches('\n'));
    }
    for inner in commands_of(command) {
        describe(&name, inner, text);
    }
}

fn is_listed(argument: &Arg) -> bool {
    !argument.is_hide_set() && !matches!(argument.get_id().as_str(), "help" | "version")
}

fn options<'a>(all: impl Iterator<Item = &'a Arg>, text: &mut String) {
    text.push_str("| | |\n| --- | --- |\n");
    for argument in all.filter(|argument| is_listed(argument)) {
        let value = value_of(argument);
        let shown = match argument.get_long() {
            Some(long) if argument.get_action().takes_values() => format!("--{long} {value}"),
            Some(long) => format!("--{long}"),
            None => value,
        };
        let mut about = argument.get_help().map(ToString::to_string).unwrap_or_default();
        let values = argument.get_possible_values();
        let named: Vec<&str> =
            values.iter().filter(|value| !value.is_hide_set()).map(|value| value.get_name()).collect();
        if !named.is_empty() && argument.get_action().takes_values() {
            let _ = write!(about, " ({})", named.join(", "));
        }
        let defaults: Vec<String> =
            argument.get_default_values().iter().map(|value| value.to_string_lossy().into_owned()).collect();
        if !defaults.is_empty()
            && argument.get_action().takes_values()
            && !argument.is_hide_default_value_set()
        {
            let _ = write!(about, " [default: {}]", defaults.join(" "));
        }
        if let Some(variable) = argument.get_env() {
            let _ = write!(about, " [variable: {}]", variable.to_string_lossy());
        }
        let _ = writeln!(text, "| `{shown}` | {} |", about.replace('|', "\\|").replace('\n', " "));
    }
}

/// How the value of an argument is written.
fn value_of(argument: &Arg) -> String {
    let names = argument.get_value_names().unwrap_or_default();
    let names: Vec<String> = match names {
        [] => vec![argument.get_id().as_str().to_uppercase().replace('_', "-")],
        some => some.iter().map(ToString::to_string).collect(),
    };
    let more = argument.get_num_args().is_some_and(|range| range.max_values() > 1);
    let text = names.join(" ") + if more { "…" } else { "" };
    if argument.is_positional() && !argument.is_required_set() { format!("[{text}]") } else { text }
}
