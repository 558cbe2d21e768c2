//! What the app's own build command fetches through the gateway.

use crate::debian::{error_of, with_archive, with_stand_in, workshop_packages};
use std::fs;
use testkit::debian::Signer;
use testkit::program::Program;
use testkit::registry::{Registry, Reply};

/// An app whose build command fetches these paths below the gateway, with a stand-in for the tool that does.
fn app(fetch: &str, paths: &str) -> (Program, Registry) {
    let mut packages = workshop_packages();
    packages.push(with_stand_in("lantern", "./usr/bin/lantern", "stand-in-runtime"));
    let program = with_archive(&Signer::new(), &packages, "");
    let registry = Registry::start();
    registry.answer("/fonts/lamp.css", vec![Reply::of("lamp")]);
    let document = format!("{{\"tarball\":\"{}/npm/fog/-/fog-1.0.0.tgz\"}}", registry.url());
    registry.answer("/npm/fog", vec![Reply::of(document)]);
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    let config = config.replace("[addresses]", "build-packages = [\"lantern\"]\n[addresses]");
    let url = registry.url();
    program.write(
        "app/shtetl.toml",
        format!(
            "{config}npm = \"{url}/npm\"\n\"files:fonts\" = \"{url}/fonts\"\n\
             [build]\nrun = \"lantern --fetch {paths}\"\nfetch = [{fetch}]\n"
        ),
    );
    (program, registry)
}

#[test]
fn files_of_a_name_with_an_address_are_fetched_pinned_and_replayed() {
    let (program, registry) = app("\"files:fonts\"", "@list");
    program.write("app/list", "files:fonts/lamp.css\n");
    let _ = program.succeed("build app --layout image");
    let lock = fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    assert!(lock.contains("from = \"files:fonts\", path = \"lamp.css\", size = 4"), "{lock}");
    program.write("app/server.js", "// another\n");
    let _ = program.succeed("build app --offline");
    assert_eq!(registry.count("/fonts/lamp.css"), 1);
    // Something else than what is pinned is not there any more.
    program.write("app/list", "files:fonts/lamp.css\nfiles:fonts/horn.css\n");
    registry.answer("/fonts/horn.css", vec![Reply::of("horn")]);
    let error = error_of(&program.run("build app"));
    assert!(error.contains("files that are not pinned\n  files:fonts/horn.css\n"), "{error}");
    assert_eq!(registry.count("/fonts/horn.css"), 0);
    let said = program.succeed("build app --update").stderr;
    assert!(said.contains("files:fonts/horn.css is new"), "{said}");
}

#[test]
fn archives_that_a_document_of_npm_names_are_led_through_the_gateway() {
    let (program, _registry) = app("\"npm\"", "npm/fog");
    let _ = program.succeed("build app --layout image");
    let said = program.succeed("build app --layout image").stdout;
    assert!(said.contains("nothing ran"), "{said}");
}

#[test]
fn kinds_that_nobody_knows_and_files_without_an_address_are_refused_with_the_line_to_add() {
    let (program, _registry) = app("\"shells\"", "shells/a");
    let error = error_of(&program.run("build app"));
    assert!(error.contains("\"shells\" must be one of npm"), "{error}");
    let (program, _registry) = app("\"files:schemas\"", "files:schemas/a");
    let error = error_of(&program.run("build app"));
    assert!(error.contains("\"files:schemas\" = \"URL or folder\""), "{error}");
}
