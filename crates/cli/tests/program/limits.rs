//! How much a process may use, and what it can learn of the machine.

use crate::debian::{error_of, with_archive, with_stand_in, workshop_packages};
use crate::program;
use crate::run::with_app;
use testkit::debian::Signer;
use testkit::program::{Program, Said};

/// An app with a task that uses up something, under limits of the user's.
fn greedy(what: &str, limits: &str) -> (Program, Said) {
    let program = with_app();
    program.edit(
        "ferry/shtetl.toml",
        "[task.fail]",
        &format!("[task.greedy]\nwritable = [\"data\"]\nrun = \"node --use {what}\"\n[task.fail]"),
    );
    program.write("ferry/data/.keep", "");
    program.write("home/.config/shtetl/config.toml", format!("[limits]\n{limits}\n"));
    let _ = program.succeed("build ferry --anyway");
    let said = program.run("run ferry greedy --set TOKEN=hunter2");
    (program, said)
}

#[test]
fn a_process_that_uses_too_much_memory_is_ended() {
    insta::assert_snapshot!(greedy("memory", "memory = \"100MiB\"").1, @r#"
    --- stderr
    greedy exceeded its memory limit and was stopped
    note: to allow more, in your own configuration (config.toml), under [limits]: memory = "8GiB"
    --- exit 137
    "#);
}

#[test]
fn the_memory_that_an_app_says_holds_too_and_is_told_where_it_is_said() {
    let (program, _) = greedy("mounts", "");
    program.edit("ferry/shtetl.toml", "--use mounts\"", "--use memory\"\nmemory = \"100MiB\"");
    let _ = program.succeed("build ferry --anyway");
    insta::assert_snapshot!(program.run("run ferry greedy --set TOKEN=hunter2"), @"
    --- stderr
    greedy exceeded its memory limit and was stopped
    note: if it needs more, raise memory in shtetl.toml, under [task.greedy], and build again
    --- exit 137
    ");
}

#[test]
fn files_in_memory_count_as_memory() {
    let said = greedy("files-in-memory", "memory = \"40MiB\"").1;
    assert_eq!((said.stdout.as_str(), said.code), ("full\n", 0), "{said}");
}

#[test]
fn a_process_that_writes_too_much_is_ended() {
    insta::assert_snapshot!(greedy("disk", "written = \"50MiB\"").1, @r#"
    --- stderr
    greedy exceeded its disk limit and was stopped
    note: to allow more, in your own configuration (config.toml), under [limits]: written = "64GiB"
    --- exit 137
    "#);
    let said = greedy("long-file", "written = \"50MiB\"").1;
    assert!(said.stderr.contains("exceeded its disk limit"), "no single file may be longer: {said}");
}

#[test]
fn processes_and_open_files_are_counted_for_each_sandbox_by_itself() {
    let (program, said) = greedy("processes", "processes = 40");
    let started: usize = said.stdout.trim().strip_prefix("started ").unwrap().parse().unwrap();
    assert!((20..40).contains(&started), "{said}");
    if Program::may_act_as_others() {
        let program = program.with("SHTETL_STORE", "nobodys-store").as_user(65534);
        let said = program.run("run image audit --set TOKEN=hunter2");
        assert_eq!(said.code, 0, "{said}");
    }
    let said = greedy("files", "open-files = 50").1;
    let opened: usize = said.stdout.trim().strip_prefix("opened ").unwrap().parse().unwrap();
    assert!((40..50).contains(&opened), "{said}");
}

#[test]
fn a_process_learns_neither_where_its_files_are_nor_how_long_the_machine_has_been_up() {
    let (program, said) = greedy("mounts", "");
    let folder = program.path("").display().to_string();
    let options = |line: &str| line.split_once(" - ").is_some_and(|(_, options)| options.contains(&folder));
    assert!(!said.stdout.lines().any(options), "{said}");
    // Standard input, output and error, and the folder that is listed; nothing of the caller's.
    assert!(said.stdout.contains("\nopen 4\n"), "{said}");
    let said = program.run_after("exec 7</dev/null 8>/dev/null", "run ferry greedy --set TOKEN=hunter2");
    assert!(said.stdout.contains("\nopen 4\n"), "{said}");
    let up = said.stdout.lines().find_map(|line| line.strip_prefix("up ")).unwrap();
    let seconds: f64 = up.split(' ').next().unwrap().parse().unwrap();
    assert!(seconds < 60.0, "{up}");
}

#[test]
fn limits_that_make_no_sense_are_named() {
    let program = with_app();
    program.write("home/.config/shtetl/config.toml", "[limits]\nmemory = \"much\"\nminuts = 3\n");
    insta::assert_snapshot!(program.run("survey ferry"), @r#"
    --- stderr
    error: [place]/home/.config/shtetl/config.toml has 2 faults
    config.toml line 2: limits.memory: must be a number with KiB, MiB, GiB, kB, MB or GB
      2 | memory = "much"
        |          ~~~~~~
    config.toml line 3: no key "minuts" in [limits]; did you mean "minutes"?
      3 | minuts = 3
        | ~~~~~~
    what to do: correct the file; nothing was built
    more: shtetl explain config-faults
    --- exit 2
    "#);
}

#[test]
fn the_machine_says_what_it_allows_and_the_limits_in_force() {
    let program = program();
    program.write("home/.config/shtetl/config.toml", "[limits]\nmemory = \"512MiB\"\nminutes = 5\n");
    let machine = program.json("check --machine");
    assert_eq!(machine["limits"]["memory"], 512 << 20);
    assert_eq!(machine["limits"]["seconds"], 300);
    assert_eq!(machine["own_network"], true, "{machine}");
    assert!(machine["mode"]["isolation"].is_string(), "{machine}");
    let text = program.succeed("check --machine").stdout;
    assert!(text.contains("memory limited         yes  537 MB for all of them together"), "{text}");
}

#[test]
fn an_app_limits_its_own_build_steps() {
    let mut packages = workshop_packages();
    packages.push(with_stand_in("lantern", "./usr/bin/lantern", "stand-in-runtime"));
    let program = with_archive(&Signer::new(), &packages, "");
    let build = |limits: &str| {
        let before = std::fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
        let own =
            format!("build-packages = [\"lantern\"]\n[build]\nrun = \"lantern --use memory\"\n{limits}\n");
        program.edit("app/shtetl.toml", "[addresses]", &format!("{own}[addresses]"));
        let said = program.run("build app");
        program.write("app/shtetl.toml", before);
        error_of(&said)
    };
    insta::assert_snapshot!(build("memory = \"100MiB\""), @r#"
    error: build command: the command exceeded its memory limit and was stopped: lantern --use memory
    what to do: to allow more, in shtetl.toml, under [build]: memory = "8GiB"
    more: shtetl explain step-over-limit
    "#);
    insta::assert_snapshot!(build("memory = \"plenty\"\nminutes = 0"), @r#"
    error: app/shtetl.toml has 2 faults
    shtetl.toml line 7: build.memory: must be a number with KiB, MiB, GiB, kB, MB or GB
      7 | memory = "plenty"
        |          ~~~~~~~~
    shtetl.toml line 8: build.minutes: must be a number above 0
      8 | minutes = 0
        |           ~
    what to do: correct the file; nothing was built
    more: shtetl explain config-faults
    "#);
    program.write("home/.config/shtetl/config.toml", "[limits]\nmemory = \"90MiB\"\n");
    let said = build("memory = \"100MiB\"");
    assert!(said.contains("config.toml"), "the lower of both counts, and is the one to raise: {said}");
}
