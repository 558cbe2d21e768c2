//! A shell where a program of a step failed. The shell is that of the machine that runs the tests.

use crate::debian::{with_archive, workshop_packages};
use crate::real_compiler::{libraries, package};
use std::collections::BTreeSet;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use testkit::debian::Signer;
use testkit::program::Program;

/// An app whose build command leaves a file and fails.
fn failing_app() -> Program {
    let mut files = BTreeSet::from([PathBuf::from("/usr/bin/sh")]);
    files.extend(libraries(Path::new("/usr/bin/sh")));
    let mut packages = workshop_packages();
    packages.retain(|one| one.name != "dash");
    packages.push(package("dash", &files));
    let program = with_archive(&Signer::new(), &packages, "");
    program.write("app/readme", "harbour");
    program.edit("app/shtetl.toml", "[addresses]", "[build]\nrun = \"echo low > tide; exit 3\"\n[addresses]");
    program
}

#[test]
fn a_shell_has_the_files_of_the_command_that_failed_and_a_terminal_of_its_own() {
    let program = failing_app();
    let build = program.command(["build", "app", "--shell-on-failure"]);
    let words: Vec<_> = [build.get_program()].into_iter().chain(build.get_args()).collect();
    let line = words.iter().map(|word| format!("'{}'", word.to_string_lossy())).collect::<Vec<_>>().join(" ");
    // script(1) gives it a terminal, and types what it reads.
    let mut command = Command::new("/usr/bin/script");
    command.args(["-qec", &line, "/dev/null"]).env_clear();
    command.envs(build.get_envs().filter_map(|(name, value)| Some((name, value?))));
    command.current_dir(build.get_current_dir().unwrap());
    let mut running =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let typed = "read tide < tide; read readme < readme; echo \"$tide water, $readme\"; echo new > /result/x\nexit 5\n";
    let mut input = running.stdin.take().unwrap();
    input.write_all(typed.as_bytes()).unwrap();
    let output = running.wait_with_output().unwrap();
    drop(input);
    let said = String::from_utf8_lossy(&output.stdout);
    let failed = said.find("the command ended with status 3").expect(&said);
    let shell = said.find("low water, harbour").expect(&said);
    assert!(failed < shell, "what failed is told first: {said}");
    assert_eq!(output.status.code(), Some(1), "the build has failed, however the shell ends: {said}");
    let folders =
        fs::read_dir(program.path("store/tmp")).unwrap().filter(|one| one.as_ref().unwrap().path().is_dir());
    assert_eq!(folders.count(), 0, "nothing of the root stays");
}

#[test]
fn without_a_terminal_there_is_no_shell() {
    let said = failing_app().run("build app --shell-on-failure");
    insta::assert_snapshot!(said, @"
    --- stderr
    error: --shell-on-failure needs a terminal
    what to do: leave out the option, or run the build in a terminal
    --- exit 2
    ");
}
