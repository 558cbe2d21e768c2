//! `build` and `ledger`: what runs, what does not, and why.

use crate::program;
use std::os::unix::process::CommandExt;
use std::process::Stdio;
use std::time::Duration;
use testkit::archives::{npm_tarball, sha512_integrity};
use testkit::registry::{Registry, Reply};

#[test]
fn the_first_build_runs_everything_and_the_second_nothing() {
    let program = program().with_demo();
    insta::assert_snapshot!(program.run("build timetable --jobs 1"), @"
    timetable:latest  build 1, 4 steps ran, [time]
      sha256:5355c679b8874e1b91d5ac3e5530fe2c947d0ef1e4e9275bc9d562d31e0bb9c0

      host base      ran   759 B  [time], never built here
      node runtime   ran   270 B  [time], never built here
      node packages  ran  4.0 kB  [time], never built here
      app files      ran  2.4 kB  [time], never built here
      together            7.4 kB  7 packages

      web    node server.js  port 8080, health /healthz, memory 128 MiB
      tides  node tides.js

    next: shtetl run timetable
    --- stderr
    host base: running (never built here)
    host base: done in [time], 759 B
    node runtime: running (never built here)
    node runtime: done in [time], 270 B
    node packages: running (never built here)
    node packages: done in [time], 4.0 kB
    app files: running (never built here)
    app files: done in [time], 2.4 kB
    --- exit 0
    ");
    insta::assert_snapshot!(program.run("build timetable --jobs 1"), @"
    timetable:latest  build 2, nothing changed, nothing ran, [time]
      sha256:5355c679b8874e1b91d5ac3e5530fe2c947d0ef1e4e9275bc9d562d31e0bb9c0

      host base      found   759 B
      node runtime   found   270 B
      node packages  found  4.0 kB
      app files      found  2.4 kB
      together              7.4 kB  7 packages

      web    node server.js  port 8080, health /healthz, memory 128 MiB
      tides  node tides.js
    --- stderr
    host base: found in the store
    node runtime: found in the store
    node packages: found in the store
    app files: found in the store
    --- exit 0
    ");
}

#[test]
fn a_change_runs_only_what_depends_on_it_and_says_why() {
    let program = program().with_demo();
    let _ = program.succeed("build timetable");

    program.edit("timetable/server.js", "Sailings from", "Ferries from");
    program.write("timetable/new.js", "");
    insta::assert_snapshot!(program.run("build timetable --dry-run"), @"
    timetable  1 step would run, linux/amd64
      host base      found      759 B
      node runtime   found      270 B
      node packages  found      4.0 kB
      app files      would run  source: server.js changed, new.js new
    --- exit 0
    ");
    let _ = program.succeed("build timetable");

    program.edit("timetable/shtetl.toml", "Kestrel Harbour", "Skerry Point");
    insta::assert_snapshot!(program.succeed("build timetable").stdout.lines().next().unwrap_or_default(), @"timetable:latest  build 3, nothing ran; only the image's documents changed, [time]");

    // The app no longer needs one of its packages.
    program.edit("timetable/package.json", "    \"kelp\": \"^0.9.0\",\n", "");
    program.edit("timetable/package-lock.json", "        \"kelp\": \"^0.9.0\",\n", "");
    program.edit("timetable/server.js", "require(\"kelp\")", "({})");
    insta::assert_snapshot!(program.run("build timetable --dry-run"), @"
    timetable  2 steps would run, linux/amd64
      host base      found      759 B
      node runtime   found      270 B
      node packages  would run  packages: node_modules/kelp gone
      app files      would run  source: package-lock.json, package.json, server.js changed
    --- exit 0
    ");
    insta::assert_snapshot!(program.run("build timetable --dry-run --compress gzip"), @"
    timetable  4 steps would run, linux/amd64
      host base      would run  layers are now gzip linux/amd64; before, they were zstd linux/amd64
      node runtime   would run  layers are now gzip linux/amd64; before, they were zstd linux/amd64
      node packages  would run  packages: node_modules/kelp gone
      app files      would run  source: package-lock.json, package.json, server.js changed
    --- exit 0
    ");
    let _ = program.succeed("build timetable");
    insta::assert_snapshot!(program.run("ledger timetable").stdout.lines().map(|l| l.split("  ").skip(5).collect::<Vec<_>>().join("|")).collect::<Vec<_>>().join("\n"), @"

    5355c679b887|4 steps for the first time
    0e6749b250ab|app files (source: server.js changed, new.js new)
    933527d5a5b5|only the image's documents
    f1426b8b0e7d|node packages (packages: node_modules/kelp gone); app files (source: package-lock.json, package.json, server.js changed)
    ");
}

#[test]
fn a_lost_result_is_made_again() {
    let program = program().with_demo();
    let built = program.json("build notices");
    let layer = built["layers"][3]["digest"].as_str().unwrap().replace("sha256:", "store/blobs/sha256/");
    std::fs::remove_file(program.path(&layer)).unwrap();
    let again = program.json("build notices");
    assert_eq!(again["steps"][3]["because"]["reason"], "result-gone");
    assert_eq!(again["digest"], built["digest"]);
}

#[test]
fn the_ledger_keeps_failures_too() {
    let program = program().with_demo();
    std::fs::remove_file(program.path("mirror/npm/kelp/-/kelp-0.9.2.tgz")).unwrap();
    assert_eq!(program.run("build timetable").code, 1);
    let builds = &program.json("ledger timetable")["apps"][0]["builds"];
    assert!(builds[0]["failure"].as_str().unwrap().contains("kelp 0.9.2"), "{builds}");
    assert_eq!(program.run("ledger timetable --log 1").code, 0);
    insta::assert_snapshot!(program.run("ledger timetabel"), @r#"
    --- stderr
    error: no build of "timetabel" is recorded here
    what to do: did you mean "timetable"?
    --- exit 2
    "#);
}

/// Where a registry has the package of [`with_slow_package`].
const SLOW: &str = "/slow/-/slow-1.0.0.tgz";

/// Writes an app that needs the package `slow`; gives its archive.
fn with_slow_package(program: &testkit::program::Program) -> Vec<u8> {
    let tarball = npm_tarball(&vec![("package.json".into(), b"{}".to_vec())]);
    program.write("app/a.js", "");
    program.write("app/package.json", r#"{"dependencies":{"slow":"1"},"scripts":{"start":"node a.js"}}"#);
    let lock = format!(
        r#"{{"lockfileVersion":3,"packages":{{"":{{"dependencies":{{"slow":"1"}}}},
        "node_modules/slow":{{"version":"1.0.0","integrity":"{}"}}}}}}"#,
        sha512_integrity(&tarball)
    );
    program.write("app/package-lock.json", lock);
    program.write("app/shtetl.toml", "[base]\nfrom = \"host\"\n");
    tarball
}

#[test]
fn killed_in_the_middle_the_store_still_works() {
    let (program, registry) = (program(), Registry::start());
    let tarball = with_slow_package(&program);
    let slow = Reply { delay: Duration::from_secs(30), ..Reply::of(tarball.clone()) };
    registry.answer(SLOW, vec![slow, Reply::of(tarball)]);
    let build = format!("build app --address npm={}", registry.url());

    let mut command = program.command(build.split(' '));
    let mut child = command.process_group(0).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    while registry.count(SLOW) == 0 {
        assert!(child.try_wait().unwrap().is_none(), "it ended before it asked");
        std::thread::sleep(Duration::from_millis(10));
    }
    child.kill().unwrap();
    child.wait().unwrap();

    let _ = program.succeed(&build);
    assert_eq!(
        std::fs::read_dir(program.path("store/tmp"))
            .unwrap()
            .filter(|e| e.as_ref().unwrap().path().is_dir())
            .count(),
        0
    );
    let _ = program.succeed("show app");
}

#[test]
fn two_builds_at_once_share_one_store() {
    let program = program().with_demo();
    let start = |app| {
        program
            .command(["build", app, "--format", "json"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap()
    };
    let both = [start("timetable"), start("timetable"), start("fares")];
    let digests: Vec<_> = both
        .map(|child| {
            let output = child.wait_with_output().unwrap();
            assert!(output.status.success(), "{}", program.said(&output));
            serde_json::from_slice::<serde_json::Value>(&output.stdout).unwrap()["digest"].clone()
        })
        .into();
    assert_eq!(digests[0], digests[1]);
    assert_ne!(digests[0], digests[2]);
}

/// Starts `arguments` in a process group of its own, so that a signal reaches it alone.
fn started(program: &testkit::program::Program, arguments: &str) -> std::process::Child {
    let mut command = program.command(arguments.split(' '));
    command.process_group(0).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
}

#[test]
fn an_interrupted_build_ends_soon_and_leaves_nothing_half_done() {
    for signal in ["-INT", "-TERM"] {
        let (program, registry) = (program(), Registry::start());
        let tarball = with_slow_package(&program);
        let stalled = Reply { silent_after: Some(20), ..Reply::of(tarball.clone()) };
        registry.answer(SLOW, vec![stalled, Reply::of(tarball)]);
        let arguments = format!("build app --address npm={} --layout image", registry.url());
        let mut child = started(&program, &arguments);
        while registry.count(SLOW) == 0 {
            assert!(child.try_wait().unwrap().is_none(), "it ended before it asked");
            std::thread::sleep(Duration::from_millis(10));
        }
        let told = std::time::Instant::now();
        let id = child.id().to_string();
        assert!(std::process::Command::new("kill").args([signal, &id]).status().unwrap().success());
        let said = program.said(&child.wait_with_output().unwrap());
        assert_eq!(said.code, 130, "{signal}: {said}");
        // Without the token, it would wait for twenty seconds.
        assert!(told.elapsed() < Duration::from_secs(5), "{signal}: {:?}", told.elapsed());
        assert!(!program.path("image/index.json").exists(), "no layout is begun");
        let _ = program.succeed(&arguments);
    }
}

#[test]
fn output_that_cannot_be_written_is_an_error_and_a_closed_pipe_is_none() {
    let program = program().with_demo();
    let _ = program.succeed("build notices");
    for arguments in [
        "schema configuration",
        "survey notices",
        "check notices",
        "show notices",
        "ledger notices",
        "build notices",
    ] {
        for format in ["text", "json"] {
            let arguments = format!("{arguments} --format {format}");
            let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
            let mut command = program.command(arguments.split(' '));
            let output =
                command.stdout(full).stderr(Stdio::piped()).spawn().unwrap().wait_with_output().unwrap();
            let said = program.said(&output);
            assert_eq!(said.code, 3, "{arguments}: {said}");
            assert!(said.stderr.contains("the disk is full"), "{arguments}: {said}");

            let (reader, writer) = std::io::pipe().unwrap();
            drop(reader);
            let mut command = program.command(arguments.split(' '));
            let output =
                command.stdout(writer).stderr(Stdio::piped()).spawn().unwrap().wait_with_output().unwrap();
            assert_eq!(program.said(&output).code, 0, "{arguments}");
        }
    }
}
