//! Buildpacks that folders define: added by the app or by house rules, in the place of built-in ones or beside them.

use crate::debian::{error_of, layer, with_archive, workshop_packages};
use crate::program;
use crate::source::git_in;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use testkit::debian::Signer;
use testkit::host::{program_that_fails, program_that_never_ends, program_that_prints};
use testkit::program::Program;

const HEAD: &str =
    "format = \"shtetl/buildpack/1\"\nname = \"forms\"\nversion = \"0.1\"\nabout = \"Ferry forms\"\n";
const EVIDENCE: &str = "[[evidence]]\nfiles = \"forms/*.form\"\ntells = \"ferry forms\"\n";
/// Runs the program of `libhorn-dev`, which makes `made/horn.js`.
const STEP: &str = "[[steps]]\nname = \"export\"\nrun = \"/usr/bin/horn\"\ninputs = [\"forms/**\"]\noutputs = [\"made/**\"]\n";

/// An app of Node with forms, and a buildpack in `tools/forms` with this in its definition.
fn app(definition: &str) -> Program {
    let program = with_archive(&Signer::new(), &workshop_packages(), "");
    program.edit("app/shtetl.toml", "[base]", "[buildpacks]\nadd = [\"../tools/forms\"]\n[base]");
    program.write("app/forms/tide.form", "title: Tides");
    program.write("tools/forms/definition.toml", definition);
    program
}

fn with_step() -> Program {
    app(&format!("{HEAD}build-packages = [\"libhorn-dev\"]\n{EVIDENCE}{STEP}"))
}

/// The names of the steps of a build that ran.
fn ran(program: &Program, command: &str) -> Vec<String> {
    let built = program.json(command);
    let steps = built["steps"].as_array().unwrap().iter().filter(|step| !step["because"].is_null());
    let mut names: Vec<String> = steps.map(|step| step["step"].as_str().unwrap().to_owned()).collect();
    names.sort_unstable();
    names
}

#[test]
fn steps_run_apart_and_again_only_when_what_they_read_changes() {
    let program = with_step();
    let layers = program.json("build app --layout image")["layers"].as_array().unwrap().len();
    let all: String = (0..layers).map(|number| layer(&program.path("image"), number).0).collect();
    assert!(all.contains("app/made/horn.js"), "{all}");
    program.write("app/server.js", "// changed");
    assert_eq!(ran(&program, "build app"), ["app files"]);
    program.write("app/forms/tide.form", "title: Fog");
    assert_eq!(ran(&program, "build app"), ["app files", "forms: export"]);
    // What the buildpack itself brings is part of its steps.
    program.write("tools/forms/files/export", "new");
    assert_eq!(ran(&program, "build app"), ["files of forms", "forms: export"]);
    program.edit("tools/forms/definition.toml", "made/**", "lost/**");
    let error = error_of(&program.run("build app"));
    assert!(error.contains("the build command produced no file that matches lost/**"), "{error}");
}

#[test]
fn it_is_listed_ordered_forbidden_and_added_by_house_rules() {
    let program = with_step();
    let listed = program.succeed("buildpacks app").stdout;
    assert!(
        listed.contains("forms   0.1  ../tools/forms  Ferry forms") && listed.contains("built in"),
        "{listed}"
    );
    let who = |command: &str| program.succeed(command).stdout.lines().next().unwrap_or_default().to_owned();
    assert_eq!(who("survey app"), "app  node and forms");
    program.edit("app/shtetl.toml", "add = ", "forbid = [\"forms\"]\nadd = ");
    assert_eq!(who("survey app"), "app  node");
    program.edit("app/shtetl.toml", "forbid = [\"forms\"]\nadd = [\"../tools/forms\"]", "");
    program.write("rules/house.toml", "[buildpacks]\nadd = [\"../tools/forms\"]\n");
    assert_eq!(who("survey app --house-rules rules/house.toml"), "app  node and forms");
    assert_eq!(who("survey app"), "app  node");
}

#[test]
fn processes_secrets_and_problems_are_like_those_of_built_in_ones() {
    let more = "secrets = [\"FORM_KEY\"]\n[environment]\nFORMS = \"/app/made\"\n[processes.clerk]\nrun = \"node clerk.js\"\n\
        [[problems]]\ncode = \"no-index\"\nhas = \"forms/*.form\"\nlacks = \"forms/index.form\"\nsays = \"there is no index\"\n\
        do = \"add forms/index.form\"\nbreaks = true\n";
    let program = app(&format!("{HEAD}{}{EVIDENCE}", more.split_once("[environment]").unwrap().0));
    let definition = fs::read_to_string(program.path("tools/forms/definition.toml")).unwrap();
    program.write(
        "tools/forms/definition.toml",
        format!("{definition}[environment]{}", more.split_once("[environment]").unwrap().1),
    );
    let said = program.run("check app");
    insta::assert_snapshot!(said.stdout.lines().take(16).collect::<Vec<_>>().join("\n"), @r#"
    app  will fail: 2 errors, 2 warnings

      buildpack-problem  forms/tide.form: there is no index (forms: no-index)
        what to do: add forms/index.form

      start-file  forms/tide.form: clerk needs clerk.js, which is not in the source
        what to do: add the file, or correct the command

      runtime-unsupported  node 20.19.2 reached its end of support on 2026-04-30
        what to do: in shtetl.toml, under [buildpacks.node]: version = "24"

      setting-undeclared  ../tools/forms/definition.toml: FORM_KEY is read without a default and is not declared
        what to do: in shtetl.toml, under [settings]: FORM_KEY = { required = true, secret = true }

    more about a code: shtetl explain CODE
    "#);
    assert_eq!(said.code, 1);
    program.write("app/forms/index.form", "");
    let survey = program.succeed("survey app").stdout;
    assert!(survey.contains("clerk  node clerk.js"), "{survey}");
}

#[test]
fn it_can_be_the_app_itself() {
    let program = program();
    let whole = "claims = \"app\"\n[[evidence]]\nfiles = \"*.boat\"\nline = \"captain:\"\ntells = \"a boat\"\n\
        [processes.web]\nrun = \"/opt/boat\"\nport = 9000\n";
    program.write("app/ferry.boat", "name: Kestrel\ncaptain: Ada\n");
    program.write("app/shtetl.toml", "[base]\nfrom = \"empty\"\n[buildpacks]\nadd = [\"boats\"]\n");
    program.write("app/boats/definition.toml", format!("{HEAD}{whole}"));
    let survey = program.succeed("survey app").stdout;
    assert!(survey.contains("+ ferry.boat line 2  captain: Ada  a boat"), "{survey}");
    assert!(survey.contains("web  /opt/boat  port 9000"), "{survey}");
}

#[test]
fn definitions_that_cannot_be_meant_are_told() {
    let mut errors = String::new();
    for definition in [
        "format = \"shtetl/buildpack/9\"\nname = \"forms\"\nabout = \"\"\nevidence = []\n".to_owned(),
        format!("{HEAD}speed = 3\n{EVIDENCE}"),
        format!("{HEAD}evidence = []\n"),
        format!("{}{EVIDENCE}", HEAD.replace("name = \"forms\"", "name = \"node\"")),
        format!("{HEAD}{EVIDENCE}{}", STEP.replace("/usr/bin/horn", "a && b")),
        format!("{HEAD}{EVIDENCE}{STEP}tools = [\"fog\"]\n"),
        "\0\0\0".to_owned(),
        " ".repeat(2 << 20),
    ] {
        let program = app(&definition);
        errors.push_str(&error_of(&program.run("survey app")));
    }
    insta::assert_snapshot!(errors, @r#"
    error: ../tools/forms/definition.toml: its format is "shtetl/buildpack/9", but this version reads "shtetl/buildpack/1"
    more: shtetl explain survey-malformed
    error: ../tools/forms/definition.toml line 5: unknown field `speed`, expected one of `format`, `name`, `version`, `about`, `claims`, `evidence`, `program`, `reads`, `runtime`, `packages`, `build-packages`, `steps`, `processes`, `tasks`, `environment`, `secrets`, `problems`
    more: shtetl explain survey-malformed
    error: ../tools/forms/definition.toml: it has no [[evidence]], so it would never recognise any source
    more: shtetl explain survey-malformed
    error: there are two buildpacks called node; one comes from ../tools/forms
    what to do: rename the added one in its definition.toml
    more: shtetl explain config-buildpack-twice
    error: ../tools/forms/definition.toml: export: "a && b" needs a shell: run = "sh -c '…'"
    more: shtetl explain survey-malformed
    error: ../tools/forms/definition.toml: unknown tool "fog"; known tools: bundler, compilers, composer, go, jdk-17, jdk-21, jdk-25, maven, node, php, python, ruby, ruby-dev
    more: shtetl explain survey-malformed
    error: ../tools/forms/definition.toml line 1: key with no value, expected `=`
    more: shtetl explain survey-malformed
    error: ../tools/forms/definition.toml: it has 2097152 bytes, more than the maximum of 1048576
    more: shtetl explain survey-malformed
    "#);
    let program = app("");
    program.edit("app/shtetl.toml", "../tools/forms", "../tools/fog");
    let error = error_of(&program.run("survey app"));
    assert!(error.contains("\"../tools/fog\" is not a folder with a definition.toml"), "{error}");
}

#[test]
fn a_new_one_is_written_with_a_trial_that_passes_until_something_changes() {
    let program = program();
    let _ = program.succeed("buildpacks scaffold tools/berths");
    let said = program.succeed("buildpacks trial tools/berths");
    assert_eq!(said.stdout, "two-forms  as expected\n");
    program.edit("tools/berths/definition.toml", "ferry forms to export", "berths");
    let said = program.run("buildpacks trial tools/berths");
    assert_eq!(said.code, 1);
    insta::assert_snapshot!(said.stdout, @"
    two-forms  differs
      - evidence  forms/tide.form: present (ferry forms to export)
      + evidence  forms/tide.form: present (berths)
    ");
    let _ = program.succeed("buildpacks trial tools/berths --accept");
    let _ = program.succeed("buildpacks trial tools/berths");
    let said = program.run("buildpacks scaffold tools/berths");
    assert!(said.code == 2 && said.stderr.contains("already has a definition.toml"), "{said}");
    assert_eq!(program.run("buildpacks scaffold tools/Berths").code, 2);
}

#[test]
fn it_may_be_a_folder_of_a_repository_at_a_commit() {
    let program = with_step().with("PATH", &std::env::var("PATH").unwrap());
    fs::create_dir(program.path("house")).unwrap();
    fs::rename(program.path("tools"), program.path("house/tools")).unwrap();
    for arguments in [&["init", "-q"][..], &["add", "-A"], &["commit", "-qm", "all"]] {
        git_in(&program.path("house"), arguments);
    }
    let commit = git_in(&program.path("house"), &["rev-parse", "HEAD"]);
    let place = format!("git+file://{}#{commit}/tools/forms", program.path("house").display());
    program.edit("app/shtetl.toml", "../tools/forms", &place);
    let _ = program.succeed("build app");
    let listed = program.json("buildpacks app");
    let origin = listed["buildpacks"].as_array().unwrap().last().unwrap()["origin"].as_str().unwrap();
    let named = format!("#{commit}/tools/forms");
    assert!(origin.starts_with("git+file://") && origin.ends_with(&named), "{origin}");
    // Neither what comes later nor the network is needed.
    fs::remove_dir_all(program.path("house")).unwrap();
    assert!(program.succeed("build app --offline").stdout.contains("nothing ran"));

    program.edit("app/shtetl.toml", &commit, "main");
    let error = error_of(&program.run("build app"));
    assert!(error.contains("#main/tools/forms is not named by a commit"), "{error}");
    program.edit("app/shtetl.toml", "#main/tools", &format!("#{commit}/../.."));
    assert_eq!(program.run("build app").code, 2);
}

/// An app with forms, and a buildpack whose program is this.
fn with_program(file: Vec<u8>) -> Program {
    let program = program();
    program.write("app/forms/tide.form", "title: Tides");
    program.write("app/shtetl.toml", "[base]\nfrom = \"empty\"\n[buildpacks]\nadd = [\"../forms\"]\n");
    let claims = HEAD.replace("about", "claims = \"app\"\nprogram = \"ask\"\nreads = [\"forms/**\"]\nabout");
    program.write("forms/definition.toml", format!("{claims}{EVIDENCE}"));
    program.write("forms/files/ask", file);
    fs::set_permissions(program.path("forms/files/ask"), fs::Permissions::from_mode(0o755)).unwrap();
    program
}

#[test]
fn its_program_says_more_of_a_source() {
    let program = with_program(program_that_prints(
        r#"{"format": "shtetl/buildpack-answer/1",
            "evidence": [{"file": "forms/tide.form", "line": 1, "value": "Tides", "tells": "a form to serve"}],
            "processes": {"web": {"run": "/app/clerk --all", "port": 9000}},
            "problems": [{"code": "no-index", "file": "forms/tide.form", "says": "there is no index", "do": "add one"}]}"#,
    ));
    let survey = program.succeed("survey app").stdout;
    assert!(survey.contains("+ forms/tide.form line 1  Tides    a form to serve"), "{survey}");
    assert!(survey.contains("web  /app/clerk --all  port 9000"), "{survey}");
    let checked = program.run("check app");
    assert!(checked.stdout.contains("there is no index (forms: no-index)"), "{checked}");
    // The answer is known, as long as nothing changes that the program sees.
    fs::write(program.path("forms/files/note"), "").unwrap();
    assert!(program.succeed("survey app").stdout.contains("/app/clerk"));

    let no = program_that_prints(r#"{"format": "shtetl/buildpack-answer/1", "recognises": false}"#);
    program.write("forms/files/ask", no);
    let refused = program.run("survey app");
    assert!(refused.code == 1 && refused.stderr.contains("no language recognised"), "{refused}");
}

#[test]
fn programs_that_give_no_answer_are_told_and_ended() {
    let print = program_that_prints;
    let dynamic = || {
        let stand_in = Path::new(env!("CARGO_BIN_EXE_shtetl")).with_file_name("examples/stand-in-runtime");
        fs::read(stand_in).unwrap()
    };
    let answer = |more: &str| print(&format!("{{\"format\": \"shtetl/buildpack-answer/1\"{more}}}"));
    for (file, told) in [
        (print("forms!"), "its answer is not valid: expected"),
        (print(""), "its answer is not valid: EOF"),
        (
            print("{\"format\": \"shtetl/buildpack-answer/9\"}"),
            "this version reads \"shtetl/buildpack-answer/1\"",
        ),
        (answer(", \"speed\": 3"), "unknown field `speed`"),
        (answer(", \"processes\": {\"Bad\": {\"run\": \"a\"}}"), "its answer: \"Bad\" is not a valid name"),
        (print(&"x".repeat(2 << 20)), "it used too much output"),
        (program_that_fails(3), "it ended with status 3"),
        (program_that_never_ends(), "it used too much time"),
        (dynamic(), "it must need nothing but itself"),
    ] {
        let program = with_program(file);
        let error = error_of(&program.run("survey app"));
        assert!(error.contains("error: ../forms/files/ask: ") && error.contains(told), "{told}: {error}");
    }
    let program = with_program(print(""));
    fs::set_permissions(program.path("forms/files/ask"), fs::Permissions::from_mode(0o644)).unwrap();
    let error = error_of(&program.run("survey app"));
    assert!(error.contains("../forms/definition.toml: files/ask is not an executable file"), "{error}");
}

#[test]
fn a_buildpack_in_a_source_has_no_other_files_of_the_machine_read() {
    let program = with_program(program_that_prints(r#"{"format": "shtetl/buildpack-answer/1"}"#));
    fs::rename(program.path("forms/files"), program.path("elsewhere")).unwrap();
    symlink("../elsewhere", program.path("forms/files")).unwrap();
    let error = error_of(&program.run("survey app"));
    assert!(error.contains("../forms/files: it is a link"), "{error}");

    fs::rename(program.path("forms/definition.toml"), program.path("other.toml")).unwrap();
    symlink("../other.toml", program.path("forms/definition.toml")).unwrap();
    let error = error_of(&program.run("survey app"));
    assert!(error.contains("../forms/definition.toml: it is a link"), "{error}");
}
