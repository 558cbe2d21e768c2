//! Apps that are members of a workspace: the whole's lockfile and other members, and nothing that they do not need.

use crate::debian::{error_of, layer};
use crate::program;
use crate::starting::{app_that_builds, config, steps};
use std::fs;

use testkit::program::Program;

/// A workspace of two apps, `fares` and `notices`, and a library that the first needs.
fn harbour() -> Program {
    let program = program();
    program.write(
        "whole/package.json",
        r#"{"name":"harbour","private":true,"workspaces":["apps/*","parts/*"]}"#,
    );
    program.write(
        "whole/package-lock.json",
        r#"{"lockfileVersion":3,"packages":{
            "":{"name":"harbour","workspaces":["apps/*","parts/*"]},
            "apps/fares":{"version":"1.0.0","dependencies":{"@harbour/tides":"*"}},
            "apps/notices":{"version":"1.0.0"},
            "parts/tides":{"name":"@harbour/tides","version":"1.0.0"},
            "node_modules/fares":{"resolved":"apps/fares","link":true},
            "node_modules/notices":{"resolved":"apps/notices","link":true},
            "node_modules/@harbour/tides":{"resolved":"parts/tides","link":true}}}"#,
    );
    let fares = r#"{"name":"fares","version":"1.0.0","scripts":{"start":"node server.js"},"dependencies":{"@harbour/tides":"*"}}"#;
    program.write("whole/apps/fares/package.json", fares);
    program.write("whole/apps/fares/server.js", "console.log(require('@harbour/tides'))\n");
    program.write("whole/apps/fares/shtetl.toml", "[base]\nfrom = \"host\"\n");
    program.write(
        "whole/apps/notices/package.json",
        r#"{"name":"notices","version":"1.0.0","scripts":{"start":"node n.js"}}"#,
    );
    program.write("whole/apps/notices/n.js", "");
    program.write("whole/parts/tides/package.json", r#"{"name":"@harbour/tides","version":"1.0.0"}"#);
    program.write("whole/parts/tides/index.js", "module.exports = 'high tide at noon'\n");
    program
}

#[test]
fn a_member_is_built_from_the_whole_with_what_it_needs() {
    let program = harbour();
    let built = program.json("build whole/apps/fares --layout image");
    assert_eq!(built["name"], "fares");
    let at = steps(&built).iter().position(|name| name == "app files").unwrap();
    insta::assert_snapshot!(layer(&program.path("image"), at).0, @"
    0755 0:0 app/
    0755 0:0 app/apps/
    0755 0:0 app/apps/fares/
    0644 0:0 app/apps/fares/package.json
    0644 0:0 app/apps/fares/server.js
    0644 0:0 app/package-lock.json
    0644 0:0 app/package.json
    0755 0:0 app/parts/
    0755 0:0 app/parts/tides/
    0644 0:0 app/parts/tides/index.js
    0644 0:0 app/parts/tides/package.json
    ");
    let at = steps(&built).iter().position(|name| name == "node packages").unwrap();
    insta::assert_snapshot!(layer(&program.path("image"), at).0, @"
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/@harbour/
    0777 0:0 app/node_modules/@harbour/tides -> ../../parts/tides
    ");
    let config = config(&program.path("image"));
    assert_eq!(config["WorkingDir"], "/app/apps/fares");
    insta::assert_snapshot!(program.succeed("run fares --port 0").stdout, @r#"{"executable":"/usr/bin/node","version":"20.1.0"}"#);
    // Nothing of another member counts.
    program.write("whole/apps/notices/n.js", "// changed");
    assert!(program.succeed("build whole/apps/fares").stdout.contains("nothing ran"));
    program.write("whole/parts/tides/index.js", "module.exports = 'low tide'\n");
    assert!(program.succeed("build whole/apps/fares").stdout.contains("parts/tides/index.js"));
}

#[test]
fn a_member_is_named_from_the_whole_by_its_name_or_folder() {
    let program = harbour();
    let by_path = program.json("survey whole/apps/fares");
    for name in ["fares", "apps/fares", "./apps/fares/"] {
        assert_eq!(program.json(&format!("survey whole --member {name}")), by_path, "{name}");
    }
    insta::assert_snapshot!(error_of(&program.run("survey whole --member fare")), @r#"
    error: the workspace has no member "fare"
    what to do: did you mean "fares"?
    more: shtetl explain source-no-member
    "#);
    insta::assert_snapshot!(error_of(&program.run("survey whole/parts/tides --member x")), @r#"
    error: there is no member "x": this is not a workspace
    what to do: give the folder of a workspace, or leave out --member
    more: shtetl explain source-no-member
    "#);
    // Which one is meant, the whole does not say.
    program.write("whole/shtetl.toml", "[base]\nfrom = \"host\"\n");
    insta::assert_snapshot!(error_of(&program.run("build whole")), @"
    error: 1 problem found before the build started
      start-missing  members of the workspace can be started: apps/fares, apps/notices
        what to do: choose a member, for example --member apps/fares
    what to do: correct this, or build anyway with --anyway
    ");
}

#[test]
fn a_folder_with_a_lockfile_of_its_own_is_no_member() {
    let program = harbour();
    program.write("whole/apps/notices/package-lock.json", r#"{"lockfileVersion":3,"packages":{"":{}}}"#);
    let survey = program.json("survey whole/apps/notices")["survey"].clone();
    assert_eq!(survey["files"], 3, "only its own: {survey}");
    assert_eq!(survey["processes"][0]["folder"], serde_json::Value::Null);
}

#[test]
fn members_that_one_needs_are_built_before_it() {
    let manifest = r#"{"name":"harbour","engines":{"node":"20"},"workspaces":["apps/*","parts/*"],"devDependencies":{"vite":"^7"}}"#;
    let program = app_that_builds(manifest, "apps/fares/dist/server.js");
    let fares = r#"{"name":"fares","scripts":{"build":"vite build","start":"node dist/server.js"},"dependencies":{"tides":"*"}}"#;
    program.write("app/apps/fares/package.json", fares);
    program.write(
        "app/parts/tides/package.json",
        r#"{"name":"tides","version":"1.0.0","scripts":{"build":"vite build --lib"}}"#,
    );
    fs::rename(program.path("app/shtetl.toml"), program.path("app/apps/fares/shtetl.toml")).unwrap();
    program.edit("app/apps/fares/shtetl.toml", "\"../npm\"", "\"../../../npm\"");
    program.edit("app/apps/fares/shtetl.toml", "\"../archive\"", "\"../../../archive\"");
    program.edit("app/apps/fares/shtetl.toml", "\"../security\"", "\"../../../security\"");
    program.edit("app/apps/fares/shtetl.toml", "\"../keys.gpg\"", "\"../../../keys.gpg\"");
    let survey = program.json("survey app --member fares")["survey"].clone();
    let line = "cd /app/parts/tides && vite build --lib && cd /app/apps/fares && vite build";
    assert_eq!(
        (survey["build"]["shown"].as_str(), survey["build"]["folder"].as_str()),
        (Some(line), Some("apps/fares"))
    );
    let built = program.json("build app/apps/fares");
    assert!(steps(&built).contains(&"build command".to_owned()), "{built}");
    assert!(
        program.path("app/apps/fares/shtetl.lock").is_file() && !program.path("app/shtetl.lock").exists()
    );
}

/// Whether a root of the store has a link at `path`.
fn is_in_some_root(program: &Program, path: &str) -> bool {
    let trees = program.path("store/trees");
    let found = |entry: fs::DirEntry| entry.path().join(path).is_symlink();
    fs::read_dir(trees).unwrap().flatten().any(found)
}

#[test]
fn a_build_finds_development_packages_whichever_tool_locked_them() {
    let manifest = r#"{"name":"harbour","engines":{"node":"20"},"devDependencies":{"vite":"^7"},"scripts":{
        "start":"node dist/server.js","build":"vite build"}}"#;
    let program = app_that_builds(manifest, "dist/server.js");
    let offered = fs::read_to_string(program.path("npm/vite/index.json")).unwrap();
    let integrity = offered.split('"').find(|text| text.starts_with("sha512-")).unwrap().to_owned();
    let pnpm = format!(
        "lockfileVersion: '9.0'\nimporters:\n  .:\n    devDependencies:\n      vite:\n        specifier: ^7\n        version: 7.0.0\n\
        packages:\n  vite@7.0.0:\n    resolution: {{integrity: {integrity}}}\n    hasBin: true\nsnapshots:\n  vite@7.0.0: {{}}\n"
    );
    let yarn = format!("# yarn lockfile v1\n\nvite@^7:\n  version \"7.0.0\"\n  integrity {integrity}\n");
    for (file, text) in [("pnpm-lock.yaml", pnpm), ("yarn.lock", yarn)] {
        program.write(&format!("app/{file}"), text);
        let _ = fs::remove_dir_all(program.path("store"));
        let _ = program.json("build app");
        assert!(is_in_some_root(&program, "app/node_modules/.bin/vite"), "{file}");
        fs::remove_file(program.path("app").join(file)).unwrap();
    }
}
