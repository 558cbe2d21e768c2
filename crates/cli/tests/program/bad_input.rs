//! Sources and configuration that cannot work: a clear error with advice, nothing half written.

use crate::debian::error_of;
use crate::program;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use testkit::program::Program;

#[test]
fn every_fault_of_the_configuration_is_underlined_at_once() {
    let program = program().with_demo();
    program.write(
        "timetable/shtetl.toml",
        "[proces.web]\nrun = \"node server.js\"\n\n[process.Tides]\nrun = \"node tides.js | tee log\"\nport = 80000\n\n[settings]\nTOKEN = { secret = true, value = \"hunter2\" }\n",
    );
    insta::assert_snapshot!(program.run("build timetable"), @r#"
    --- stderr
    error: timetable/shtetl.toml has 4 faults
    shtetl.toml line 1: no key "proces"; did you mean "process"?
      1 | [proces.web]
        |  ~~~~~~
    shtetl.toml line 4: process.Tides: a name has lower-case letters, digits and dashes, begins with a letter, and has at most 63 characters; for example "tides"
      4 | [process.Tides]
        | ~~~~~~~~~~~~~~~
    shtetl.toml line 6: process.Tides.port: must be a port from 1 to 65535
      6 | port = 80000
        |        ~~~~~
    shtetl.toml line 9: settings.TOKEN: a secret cannot have a value here; set it when the app is started
      9 | TOKEN = { secret = true, value = "·······" }
        |         ~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~
    what to do: correct the file; nothing was built
    more: shtetl explain config-faults
    --- exit 2
    "#);
    program.write("timetable/shtetl.toml", "[base\nfrom = \"host\"\n");
    insta::assert_snapshot!(program.run("survey timetable"), @"
    --- stderr
    error: timetable/shtetl.toml has 1 fault
    shtetl.toml line 1: invalid TOML: unclosed table, expected `]`
      1 | [base
        |      ~
    what to do: correct the file; nothing was built
    more: shtetl explain config-faults
    --- exit 2
    ");
    assert!(!program.path("store/images/timetable").exists());
}

#[test]
fn folders_that_are_no_apps() {
    let program = program();
    fs::create_dir(program.path("empty")).unwrap();
    program.write("letters/letter.txt", "Dear ferry");
    program.write("both/package.json", r#"{"scripts":{"start":"node a.js"}}"#);
    program.write("both/requirements.txt", "");
    insta::assert_snapshot!(program.run("survey empty"), @"
    --- stderr
    error: empty has nothing to pack
    what to do: give the folder of an app
    more: shtetl explain source-empty
    --- exit 2
    ");
    insta::assert_snapshot!(program.run("survey letters"), @"
    --- stderr
    error: no language recognised
      node     looked for package.json
      python   looked for requirements.txt, pyproject.toml, Pipfile, setup.py, manage.py, app.py, main.py
      ruby     looked for Gemfile, config.ru
      php      looked for composer.json, index.php, public/index.php, htdocs/index.php
      java     looked for pom.xml, build.gradle.kts, build.gradle, *.jar, *.war
      go       looked for go.mod, a program in bin/ or at the top
      static   looked for index.html, public/index.html, site/index.html
    what to do: give the folder of an app; it must contain one of these files
    more: shtetl explain survey-unrecognised
    --- exit 1
    ");
    insta::assert_snapshot!(program.run("survey both"), @r#"
    --- stderr
    error: node and python all recognise this source
      node     because of package.json
      python   because of requirements.txt
    what to do: in shtetl.toml, under [buildpacks]: order = ["node"]; or list both, the main one first
    more: shtetl explain survey-ambiguous
    --- exit 1
    "#);
    insta::assert_snapshot!(program.run("survey gone"), @"
    --- stderr
    error: gone: no such file or folder
    what to do: give the folder of an app
    more: shtetl explain source-unreadable
    --- exit 2
    ");
    program.write("both/shtetl.toml", "[buildpacks]\norder = [\"node\", \"pyhton\"]\n");
    insta::assert_snapshot!(program.run("survey both"), @r#"
    --- stderr
    error: shtetl.toml names the buildpack "pyhton", which does not exist
    what to do: did you mean "python"?
    more: shtetl explain config-unknown-buildpack
    --- exit 2
    "#);
}

#[test]
fn names_that_are_not_allowed() {
    let program = program();
    program.write("Ferry_Times/index.html", "");
    assert_eq!(
        program.json("survey Ferry_Times")["survey"]["name"],
        "ferry-times",
        "a folder may be called anything"
    );
    program.write("Ferry_Times/shtetl.toml", "name = \"Ferry_Times\"\n");
    insta::assert_snapshot!(program.run("build Ferry_Times"), @r#"
    --- stderr
    error: Ferry_Times/shtetl.toml has 1 fault
    shtetl.toml line 1: name: a name has lower-case letters, digits and dashes, begins with a letter, and has at most 63 characters; for example "ferry-times"
      1 | name = "Ferry_Times"
        |        ~~~~~~~~~~~~~
    what to do: correct the file; nothing was built
    more: shtetl explain config-faults
    --- exit 2
    "#);
    program.write("pages/index.html", "");
    insta::assert_snapshot!(program.run("build pages --tag a/b"), @r#"
    --- stderr
    error: "a/b" is not a valid name for a tag
    what to do: for example "a-b"
    more: shtetl explain config-name
    --- exit 2
    "#);
    fs::write(program.path("pages").join(OsStr::from_bytes(b"f\xe4hre.html")), "").unwrap();
    insta::assert_snapshot!(program.run("build pages"), @r#"
    --- stderr
    error: the file name "f\xE4hre.html" is not UTF-8 or has a line break
    what to do: rename it, or leave it out with [source] exclude
    more: shtetl explain source-file-name
    --- exit 2
    "#);
}

#[test]
fn a_folder_that_cannot_be_read() {
    let program = program();
    program.write("app/index.html", "");
    program.write("app/closed/page.html", "");
    fs::set_permissions(program.path("app/closed"), fs::Permissions::from_mode(0o000)).unwrap();
    // The superuser reads everything, so somebody else has to try.
    let program = if Program::may_act_as_others() { program.as_user(65534) } else { program };
    insta::assert_snapshot!(program.run("build app"), @"
    --- stderr
    error: [place]/app/closed: permission denied
    what to do: make it readable, or leave it out with [source] exclude
    more: shtetl explain source-unreadable
    --- exit 3
    ");
    fs::set_permissions(program.path("app/closed"), fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn links_that_lead_out_of_the_source_are_left_out_and_named_at_once() {
    let program = program();
    program.write("app/index.html", "");
    for (link, target) in [("users", "/etc/passwd"), ("up", "../../secrets"), ("own", "index.html")] {
        std::os::unix::fs::symlink(target, program.path(&format!("app/{link}"))).unwrap();
    }
    let left_out = program.json("survey app")["survey"]["left_out"].clone();
    let named: Vec<&str> = left_out.as_array().unwrap().iter().map(|l| l["path"].as_str().unwrap()).collect();
    assert_eq!(named, ["up", "users"]);
}

#[test]
fn a_folder_of_apps_names_them() {
    let program = program();
    program.write("frontend/package.json", r#"{"scripts":{"start":"node a.js"}}"#);
    program.write("services/rates/index.html", "");
    program.write("notes.txt", "");
    program.write("shtetl.toml", "");
    let said = program.run("survey .");
    assert!(said.stderr.contains("  frontend is an app\n  services/rates is an app\n"), "{said}");
}

#[test]
fn a_runtime_that_is_missing_or_another_one() {
    let program = program().with_demo();
    program.edit("timetable/package.json", ">=18", "^22.1");
    insta::assert_snapshot!(program.run("build timetable"), @"
    --- stderr
    error: 1 problem found before the build started
      runtime-unmet  package.json line 11: node ^22.1 is required, but the base host has 20.1.0
        what to do: install a matching node, or change the constraint
    what to do: correct this, or build anyway with --anyway
    --- exit 1
    ");
    fs::remove_file(program.path("host/ferry/bin/node")).unwrap();
    insta::assert_snapshot!(program.run("build timetable"), @"
    --- stderr
    error: 1 problem found before the build started
      runtime-unmet  the base `host` takes node from this machine, which has none
        what to do: install node
    what to do: correct this, or build anyway with --anyway
    --- exit 1
    ");
}

#[test]
fn no_command_to_start_and_an_unknown_base() {
    let program = program();
    program.write("app/package.json", "{}");
    insta::assert_snapshot!(program.run("build app"), @r#"
    --- stderr
    error: 1 problem found before the build started
      start-missing  no start command found
        what to do: in shtetl.toml: [process.web], then run = "the command"
    what to do: correct this, or build anyway with --anyway
    --- exit 1
    "#);
    program.write("app/server.js", "");
    program.write("app/shtetl.toml", "[base]\nfrom = \"granite\"\n");
    insta::assert_snapshot!(program.run("build app"), @r#"
    --- stderr
    error: unknown base "granite"
    what to do: in shtetl.toml, under [base]: from = "debian:trixie", "debian:bookworm", "oci:REFERENCE", "empty", or "host" (captured from this machine)
    more: shtetl explain config-unknown-base
    --- exit 2
    "#);
}

#[test]
fn images_that_are_not_there() {
    let program = program().with_demo();
    let _ = program.succeed("build notices");
    insta::assert_snapshot!(program.run("show notice"), @r#"
    --- stderr
    error: there is no image "notice"
      in the store: notices:latest
    what to do: did you mean "notices"?
    more: shtetl explain run-no-image
    --- exit 2
    "#);
    insta::assert_snapshot!(program.run("run notices wbe"), @r#"
    --- stderr
    error: the image has no process type or task "wbe"
    what to do: did you mean "web"?
    more: shtetl explain run-no-such-process
    --- exit 2
    "#);
    insta::assert_snapshot!(program.run("build notices --layout mirror"), @"
    --- stderr
    error: mirror is not an image layout
    what to do: give a new folder, or an earlier layout, which is then replaced
    --- exit 2
    ");
    program.write("text.tar", "no archive");
    assert_eq!(program.run("show text.tar").code, 1);
}

#[test]
fn code_without_the_file_that_declares_its_packages_gets_the_lines_to_write() {
    let program = program();
    program.write(
        "look/look/app.py",
        "import os\nimport falcon\nfrom PIL import Image\nfrom .images import Store\n",
    );
    program.write("look/look/images.py", "import json\n");
    insta::assert_snapshot!(error_of(&program.run("survey look")), @"
    error: no language recognised
      look/app.py is Python, and there is no requirements.txt
    what to do: write a requirements.txt with the lines falcon, pillow
    more: shtetl explain survey-unrecognised
    ");
    program.write("depot/src/depot.go", "package main\n");
    insta::assert_snapshot!(error_of(&program.run("survey depot")), @"
    error: no language recognised
      src/depot.go is Go, and there is no go.mod
    what to do: in the app's folder, run `go mod init app && go mod tidy`
    more: shtetl explain survey-unrecognised
    ");
}

#[test]
fn errors_are_json_when_results_are() {
    let said = program().run("survey gone --format json");
    let error: serde_json::Value = serde_json::from_str(&said.stderr).unwrap();
    assert_eq!(error["error"]["exit"], 2);
    assert_eq!(said.stdout, "");
}

#[test]
fn a_program_that_git_ignores_is_named_with_the_line_that_takes_it_in() {
    let program = program();
    program.write("app/bin/ferryd", testkit::host::program_that_writes("/tmp/log", "sailed"));
    fs::set_permissions(program.path("app/bin/ferryd"), fs::Permissions::from_mode(0o755)).unwrap();
    program.write("app/.gitignore", "bin/\n");
    program.write("app/README.md", "Run bin/ferryd\n");
    insta::assert_snapshot!(error_of(&program.run("survey app")), @r#"
    error: no language recognised
      bin/ferryd is a program that a rule excludes
    what to do: in shtetl.toml, under [source]: include = ["bin/ferryd"]
    more: shtetl explain survey-unrecognised
    "#);
    program.write("app/shtetl.toml", "[source]\ninclude = [\"bin/ferryd\"]\n");
    let survey = program.json("survey app")["survey"].clone();
    assert_eq!(survey["processes"][0]["command"], serde_json::json!(["./bin/ferryd"]));
}
