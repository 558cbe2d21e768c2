//! How apps that nobody configured are built and started: scripts, builds, pages, variables in commands.

use crate::compiling::packages;
use crate::debian::{error_of, layer, with_archive};
use crate::program;
use serde_json::Value;
use std::fs;
use std::path::Path;
use testkit::archives::{npm_tarball, sha512_integrity};
use testkit::debian::{Item, Package, Signer};
use testkit::host::program_that_writes;
use testkit::program::Program;

/// The configuration of the first image in a layout.
pub fn config(layout: &Path) -> Value {
    let blob = |digest: &str| -> Value {
        let bytes = fs::read(layout.join("blobs/sha256").join(digest.trim_start_matches("sha256:"))).unwrap();
        serde_json::from_slice(&bytes).unwrap()
    };
    let index: Value = serde_json::from_slice(&fs::read(layout.join("index.json")).unwrap()).unwrap();
    let manifest = blob(index["manifests"][0]["digest"].as_str().unwrap());
    blob(manifest["config"]["digest"].as_str().unwrap())["config"].clone()
}

/// An app of Node whose build writes `made`, and whatever `manifest` says.
pub fn app_that_builds(manifest: &str, made: &str) -> Program {
    let mut all = packages(b"python".to_vec(), b"shell".to_vec());
    all.retain(|package| package.name != "coreutils");
    // The build is started by way of it, with the environment that builds have.
    let env = Item::Program(program_that_writes(&format!("/app/{made}"), "<p>made</p>"));
    all.push(Package::new("coreutils", "9", "", &[]).with("./usr/bin/env", env));
    let program = with_archive(&Signer::new(), &all, "");
    fs::remove_file(program.path("app/server.js")).unwrap();
    program.write("app/package.json", manifest);
    program.edit("app/shtetl.toml", "[addresses]", "[addresses]\nnpm = \"../npm\"");
    let vite = npm_tarball(&vec![(
        "package.json".to_owned(),
        br#"{"name":"vite","version":"7.0.0","bin":{"vite":"vite.js"}}"#.to_vec(),
    )]);
    program.write("npm/vite/-/vite-7.0.0.tgz", &vite);
    let offered = format!(
        r#"{{"versions":{{"7.0.0":{{"version":"7.0.0","dist":{{"integrity":"{}"}}}}}}}}"#,
        sha512_integrity(&vite)
    );
    program.write("npm/vite/index.json", offered);
    program
}

pub fn steps(built: &Value) -> Vec<String> {
    let all = built["steps"].as_array().unwrap().iter();
    all.map(|step| step["step"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn a_front_end_is_built_and_its_pages_are_all_that_the_image_has() {
    let manifest = r#"{"name":"harbour","engines":{"node":"20"},"scripts":{"dev":"vite","build":"vite build"},
        "devDependencies":{"vite":"^7"}}"#;
    let program = app_that_builds(manifest, "wharf/index.html");
    program.write("app/index.html", "<script src=/src/main.js></script>");
    program.write("app/vite.config.js", "export default { build: { outDir: 'wharf' } }\n");
    let survey = program.json("survey app")["survey"].clone();
    assert_eq!(survey["chosen"], serde_json::json!(["static", "node"]));
    assert_eq!(
        (survey["pages"]["folder"].as_str(), survey["pages"]["single_page"].as_bool()),
        (Some("wharf"), Some(true))
    );
    let built = program.json("build app --layout image");
    let names = steps(&built);
    assert!(!names.iter().any(|name| name == "app files" || name == "node runtime"), "{names:?}");
    let at = names.iter().position(|name| name == "build command").unwrap();
    assert_eq!(
        layer(&program.path("image"), at).0,
        "0755 0:0 app/\n0755 0:0 app/wharf/\n0755 0:0 app/wharf/index.html\n"
    );
    assert!(program.succeed("build app").stdout.contains("nothing ran"));
    // A build that makes something else makes no image that would only say "not found".
    program.edit("app/vite.config.js", "wharf", "quay");
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: the build command did not produce quay/index.html, which the image needs
      it made wharf/index.html
    what to do: correct the start command, docroot, or the command under [build] in shtetl.toml
    more: shtetl explain step-not-made
    ");
    // Whoever does not want it built says so, and is told what is missing then.
    program.edit("app/shtetl.toml", "[addresses]", "[build]\nrun = false\n[addresses]");
    insta::assert_snapshot!(error_of(&program.run("build app")), @r#"
    error: 1 problem found before the build started
      start-missing  no start command found
        what to do: in shtetl.toml: [process.web], then run = "the command"
    what to do: correct this, or build anyway with --anyway
    "#);
}

#[test]
fn a_build_script_runs_beside_the_packages_and_the_start_script_finds_what_it_made() {
    let manifest = r#"{"name":"harbour","engines":{"node":"20"},"devDependencies":{"vite":"^7"},"scripts":{
        "start":"npm run serve","serve":"NODE_ENV=live node dist/server.js","build":"vite build --ssr"}}"#;
    let program = app_that_builds(manifest, "dist/server.js");
    let built = program.json("build app --layout image");
    assert!(steps(&built).contains(&"build command".to_owned()));
    assert_eq!(built["processes"][0]["command"], serde_json::json!(["node", "dist/server.js"]));
    let environment = config(&program.path("image"))["Env"].to_string();
    assert!(environment.contains("NODE_ENV=live"), "{environment}");
    // What only the build reads can stay out of the image.
    program.write("app/src/lib/tides.ts", "");
    program.write("app/tsconfig.json", "{}");
    program.edit(
        "app/shtetl.toml",
        "[addresses]",
        "[build]\nleave-out = [\"src\", \"tsconfig.*\"]\n[addresses]",
    );
    let built = program.json("build app --layout image");
    let at = steps(&built).iter().position(|name| name == "app files").unwrap();
    let files = layer(&program.path("image"), at).0;
    assert!(
        !files.contains("src") && !files.contains("tsconfig") && files.contains("package.json"),
        "{files}"
    );
    program.edit("app/package.json", "dist/server.js", "dist/main");
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: the build command did not produce dist/main, which the image needs
      it made dist/server.js
    what to do: correct the start command, docroot, or the command under [build] in shtetl.toml
    more: shtetl explain step-not-made
    ");
}

#[test]
fn variables_in_commands_have_their_values_when_the_process_starts() {
    let program = with_archive(&Signer::new(), &testkit::debian::harbour_packages(), "");
    let command = "\n[process.web]\nport = 9000\nrun = \"node server.js --port $PORT 'costs $5'\"\n";
    let written = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("app/shtetl.toml", format!("{written}{command}"));
    let _ = program.succeed("build app --layout image");
    let config_of = config(&program.path("image"));
    insta::assert_snapshot!(config_of["Entrypoint"], @r#"["/bin/sh","-c","exec node server.js --port \"$PORT\" 'costs $5' \"$@\"","web"]"#);
    assert!(config_of["Env"].to_string().contains("PORT=9000"), "{config_of}");

    // A base without a shell has the values that are known when the image is made.
    let program = crate::program();
    program.write("app/package.json", "{}");
    program.write("app/server.js", "");
    let with = |run: &str| {
        program.write("app/shtetl.toml", format!("[base]\nfrom = \"host\"\n[process.web]\n{run}\n"))
    };
    with("run = \"node server.js --port ${PORT:-80}\"");
    let _ = program.succeed("build app --layout image");
    insta::assert_snapshot!(config(&program.path("image"))["Entrypoint"], @r#"["node","server.js","--port","8080"]"#);
    with("run = \"node server.js --tide $TIDE\"");
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: shtetl.toml line 4: the command of web needs a shell for $TIDE, and the base has none
    what to do: put the value into the command, or choose a Debian base in [base] from
    more: shtetl explain survey-no-shell
    ");
    with("run = \"node migrate.js && node server.js\"");
    insta::assert_snapshot!(error_of(&program.run("build app --anyway")), @"
    error: shtetl.toml line 4: the command of web needs a shell, and the base has none
    what to do: use a command without shell syntax, or choose a Debian base in [base] from
    more: shtetl explain survey-no-shell
    ");
}

#[test]
fn writable_folders_belong_to_the_user_that_processes_run_as() {
    let program = with_archive(&Signer::new(), &testkit::debian::harbour_packages(), "");
    program.write("app/data/tides.db", "");
    let written = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program
        .write("app/shtetl.toml", format!("{written}\n[process.web]\nwritable = [\"data\", \"var/log\"]\n"));
    let built = program.json("build app --layout image");
    let at = steps(&built).iter().position(|name| name == "app files").unwrap();
    insta::assert_snapshot!(layer(&program.path("image"), at).0, @"
    0755 0:0 app/
    0755 1000:1000 app/data/
    0644 1000:1000 app/data/tides.db
    0644 0:0 app/package.json
    0644 0:0 app/server.js
    0755 0:0 app/var/
    0755 1000:1000 app/var/log/
    ");
    assert_eq!(
        config(&program.path("image"))["Volumes"],
        serde_json::json!({ "/app/data": {}, "/app/var/log": {} })
    );
    for folder in ["/data", "../data", ""] {
        program.write("app/shtetl.toml", format!("{written}\n[process.web]\nwritable = [{folder:?}]\n"));
        assert_eq!(program.run("build app").code, 2, "{folder}");
    }
}

#[test]
fn a_lockfile_of_python_that_is_older_than_its_manifest_is_refused() {
    let uv = "version = 1\n[[package]]\nname = \"app\"\nsource = { virtual = \".\" }\n\
        dependencies = [{ name = \"tariff\" }]\n[[package]]\nname = \"tariff\"\nversion = \"1.4\"\n\
        source = { registry = \"https://index.example/simple\" }\n\
        wheels = [{ url = \"https://index.example/tariff-1.4-py3-none-any.whl\", hash = \"sha256:00\" }]\n";
    let pipfile_lock =
        r#"{"_meta":{},"default":{"tariff":{"version":"==1.4","hashes":["sha256:00"]}},"develop":{}}"#;
    let mut said = String::new();
    for (lockfile, text, manifest, needs) in [
        ("uv.lock", uv, "pyproject.toml", "\"tariff>=1\", \"fog; python_version < '3'\""),
        ("uv.lock", uv, "pyproject.toml", "\"tariff>=1\", \"fog>=2\""),
        ("uv.lock", uv, "pyproject.toml", "\"tariff<1.2\""),
        ("Pipfile.lock", pipfile_lock, "Pipfile", "tariff = \"*\"\n"),
        ("Pipfile.lock", pipfile_lock, "Pipfile", "tariff = \"*\"\nfog = \">=2\"\n"),
    ] {
        let program = program();
        program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
        program.write(&format!("app/{lockfile}"), text);
        program.write("app/shtetl.toml", "[base]\nfrom = \"host\"\n");
        let manifest_text = match manifest {
            "Pipfile" => format!("[packages]\n{needs}"),
            _ => format!("[project]\nname = \"app\"\nversion = \"1\"\ndependencies = [{needs}]\n"),
        };
        program.write(&format!("app/{manifest}"), manifest_text);
        let found = program.run("check app --format json");
        let document: Value = serde_json::from_str(&found.stdout).unwrap_or_else(|_| panic!("{found}"));
        let stale = document["problems"].as_array().unwrap().iter().find(|p| p["code"] == "lock-stale");
        let what = stale.map_or("stands for it".to_owned(), |p| p["what"].as_str().unwrap().to_owned());
        said.push_str(&format!("{lockfile}: {what}\n"));
    }
    insta::assert_snapshot!(said, @"
    uv.lock: stands for it
    uv.lock: pyproject.toml requires fog, which is not locked
    uv.lock: pyproject.toml requires tariff <1.2, but 1.4 is locked
    Pipfile.lock: stands for it
    Pipfile.lock: Pipfile requires fog, which is not locked
    ");
}
