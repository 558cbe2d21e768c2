//! Apps of PHP: packages from a stand-in registry, and the step in which Composer writes what loads their classes.

use crate::debian::{error_of, layer, with_archive, workshop_packages};
use crate::lying_registry::{Comes, Error, Right, assert_none, wrong};
use serde_json::{Value, json};
use std::fs;
use testkit::archives::{npm_tarball, tarball, zip_archive};
use testkit::debian::{Item, Package, Signer};
use testkit::host::program_that_writes;
use testkit::program::Program;
use testkit::registry::{Registry, Reply};

fn dist(text: &str) -> Vec<u8> {
    zip_archive(&vec![
        ("ferry-fog-1a2b/src/Fog.php".to_owned(), text.as_bytes().to_vec()),
        ("ferry-fog-1a2b/composer.json".to_owned(), b"{}".to_vec()),
    ])
}

/// An app in `quays` that locks `ferry/fog`, on an archive whose Composer writes an autoloader.
fn app(registry: &Registry) -> Program {
    let mut packages = workshop_packages();
    let composer = program_that_writes("/app/vendor/autoload.php", "loads");
    packages
        .push(Package::new("composer", "2.8.8", "", &[]).with("./usr/bin/composer", Item::Program(composer)));
    let parts = ["cli", "fpm", "curl", "intl", "mbstring", "mysql", "pgsql", "sqlite3", "xml", "zip"];
    let parts = parts.map(|part| format!("php8.4-{part}"));
    let others = ["libapache2-mod-php8.4", "media-types", "unzip"].map(str::to_owned);
    packages.extend(parts.iter().chain(&others).map(|name| Package::new(name, "8.4.28", "", &[])));
    let program = with_archive(&Signer::new(), &packages, "");
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("quays/shtetl.toml", config);
    program.write("quays/public/index.php", "<?php");
    program.write("quays/composer.json", r#"{"require":{"ferry/fog":"^1.0"}}"#);
    registry.answer("/fog.zip", vec![Reply::of(dist("<?php"))]);
    lock(&program, fog(&format!("{}/fog.zip", registry.url())));
    program
}

fn fog(url: &str) -> Value {
    json!({ "name": "ferry/fog", "version": "1.2.0", "type": "library", "license": ["MIT"],
        "dist": { "type": "zip", "url": url, "reference": "1a2b", "shasum": "" } })
}

fn lock(program: &Program, package: Value) {
    let lock = json!({ "content-hash": "ab12", "packages": [package], "packages-dev": [], "platform": {} });
    program.write("quays/composer.lock", lock.to_string());
}

/// What the layers of the image have below the folder of packages.
fn vendor(program: &Program) -> String {
    let layers = program.json("build quays --layout image")["layers"].as_array().unwrap().len();
    let all = (0..layers)
        .map(|number| layer(&program.path("image"), number).0)
        .filter(|all| all.contains("app/vendor"));
    all.collect()
}

#[test]
fn locked_packages_lie_in_vendor_and_composer_writes_the_rest() {
    let registry = Registry::start();
    let program = app(&registry);
    insta::assert_snapshot!(vendor(&program), @"
    0755 0:0 app/
    0755 0:0 app/vendor/
    0755 0:0 app/vendor/ferry/
    0755 0:0 app/vendor/ferry/fog/
    0755 0:0 app/vendor/ferry/fog/src/
    0644 0:0 app/vendor/ferry/fog/src/Fog.php
    0644 0:0 app/vendor/ferry/fog/composer.json
    0755 0:0 app/
    0755 0:0 app/vendor/
    0755 0:0 app/vendor/autoload.php
    0755 0:0 app/vendor/composer/
    0644 0:0 app/vendor/composer/installed.json
    ");
    let pins = fs::read_to_string(program.path("quays/shtetl.lock")).unwrap();
    assert!(pins.contains("\"ferry/fog 1.2.0\" = \"sha256:"), "{pins}");
    let shown = program.succeed("show quays --packages").stdout;
    assert!(shown.contains("ferry/fog") && shown.contains("MIT"), "{shown}");
    // A changed line of the app runs nothing of it again.
    program.write("quays/public/index.php", "<?php echo 1;");
    let again = program.json("build quays");
    let ran: Vec<&str> = again["steps"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|step| !step["because"].is_null())
        .map(|step| step["step"].as_str().unwrap())
        .collect();
    assert_eq!(ran, ["app files"]);
    // What came first is what counts.
    registry.answer("/fog.zip", vec![Reply::of(dist("<?php changed"))]);
    let error = error_of(&program.run("build quays --store other"));
    assert!(
        error.contains("ferry/fog 1.2.0") && error.contains("does not have the expected hash"),
        "{error}"
    );
}

#[test]
fn packages_come_from_the_address_in_force_and_from_folders_of_the_app() {
    let registry = Registry::start();
    let program = app(&registry);
    lock(&program, fog("https://nowhere.example/fog.zip"));
    registry.answer(
        "/packages.json",
        vec![Reply::of(json!({ "packages": {}, "metadata-url": "/p2/%package%.json" }).to_string())],
    );
    let known = json!({ "packages": { "ferry/fog": [fog(&format!("{}/fog.zip", registry.url()))] } });
    registry.answer("/p2/ferry/fog.json", vec![Reply::of(known.to_string())]);
    let _ = program.succeed(&format!("build quays --address composer={}", registry.url()));
    program.write("mirror/ferry-fog-1.2.0.zip", dist("<?php"));
    let _ = program.succeed("build quays --store other --offline --address composer=mirror");

    let mut local = fog("parts/fog");
    local["dist"]["type"] = "path".into();
    lock(&program, local);
    let error = error_of(&program.run("build quays"));
    assert!(error.contains("the folder parts/fog, which is not in the source"), "{error}");
    program.write("quays/parts/fog/src/Fog.php", "<?php");
    assert!(vendor(&program).contains("app/vendor/ferry/fog -> ../../parts/fog"));
}

/// An app without a lockfile, with a repository that offers `ferry/fog` in two versions.
fn unlocked(registry: &Registry) -> Program {
    let program = app(registry);
    fs::remove_file(program.path("quays/composer.lock")).unwrap();
    let manifest = json!({
        "require": { "ferry/fog": "^1.0" }, "repositories": [{ "type": "composer", "url": registry.url() }],
    });
    program.write("quays/composer.json", manifest.to_string());
    registry
        .answer("/packages.json", vec![Reply::of(r#"{"packages":[],"metadata-url":"/p2/%package%.json"}"#)]);
    offer(registry, json!({}));
    program
}

/// Offers the newer version of `ferry/fog` with these requirements.
fn offer(registry: &Registry, requires: Value) {
    let mut entry = fog("fog.zip");
    entry["require"] = requires;
    entry["license"] = "MIT".into();
    let older = json!({ "version": "1.0.0", "require": { "php": "*" } });
    let listed = json!({ "packages": { "ferry/fog": [entry, older] }, "minified": "composer/2.0" });
    registry.answer("/p2/ferry/fog.json", vec![Reply::of(listed.to_string())]);
}

#[test]
fn packages_without_a_lockfile_are_resolved_and_pinned() {
    let registry = Registry::start();
    let program = unlocked(&registry);
    let said = program.succeed("build quays");
    assert!(said.stderr.contains("composer.json does not lock versions"), "{said}");
    let first = program.json("show quays");
    let lock = fs::read_to_string(program.path("quays/shtetl.lock")).unwrap();
    assert!(lock.contains("name = \"ferry/fog\", version = \"1.2.0\""), "{lock}");
    // What is new moves nothing, from an empty store either, until that is asked for.
    offer(&registry, json!({ "php": ">=8.0" }));
    assert_eq!(program.json("build quays")["digest"], first["digest"]);
    insta::assert_snapshot!(error_of(&program.run("build quays --store other")), @"
    error: shtetl.lock is out of date: the repository's data for ferry/fog 1.2.0 has changed since it was pinned
    what to do: find out why; `shtetl build --update` pins the new data
    more: shtetl explain package-lock-mismatch
    ");
    let _ = program.succeed("build quays --store other --update");
    let moved = fs::read_to_string(program.path("quays/shtetl.lock")).unwrap();
    assert_ne!(lock, moved);
}

#[test]
fn what_packages_without_a_lockfile_lack_is_told_before_anything_is_built() {
    let registry = Registry::start();
    let program = unlocked(&registry);
    offer(&registry, json!({ "ext-gd": "*" }));
    insta::assert_snapshot!(error_of(&program.run("build quays")), @r#"
    error: ferry/fog 1.2.0 requires ext-gd, which the image does not have
    what to do: add it to composer.json, under "require": "ext-gd": "*"
    more: shtetl explain package-extension
    "#);
    offer(&registry, json!({ "psr/log": "^3.0" }));
    program.edit("quays/composer.json", "^1.0", "^1.2");
    insta::assert_snapshot!(error_of(&program.run("build quays")), @"
    error: no set of package versions satisfies all requirements
      ferry/fog 1.2.0 requires psr/log ^3.0, which no package of the app provides
    what to do: change one of these requirements, or choose another version of the runtime
    more: shtetl explain package-no-solution
    ");
    program.edit("quays/composer.json", "\"composer\"", "\"vcs\"");
    insta::assert_snapshot!(error_of(&program.run("build quays")), @"
    error: composer.json: repositories of the type vcs without a composer.lock is not supported by this version
    what to do: run `composer update --no-install`, and commit the lockfile
    more: shtetl explain survey-unsupported
    ");
}

#[test]
fn what_cannot_be_installed_is_refused_before_anything_runs() {
    let registry = Registry::start();
    let program = app(&registry);
    for (change, told) in [
        (
            json!({ "name": "ferry/mist" }),
            "composer.json requires ferry/fog, which is missing from the lockfile",
        ),
        (json!({ "name": "../../out" }), "is not a package name"),
        (json!({ "dist": { "type": "phar", "url": "x" } }), "a download of type phar"),
        (json!({ "dist": null }), "nothing to download"),
        (
            json!({ "dist": null, "source": { "type": "git", "url": "x", "reference": "main" } }),
            "not a commit of a repository",
        ),
    ] {
        let mut package = fog("x");
        for (key, value) in change.as_object().unwrap() {
            package[key] = value.clone();
        }
        lock(&program, package);
        let error = error_of(&program.run("build quays"));
        assert!(error.contains(told), "{told}: {error}");
    }
}

/// What may come of a file at the place that the lockfile names, and the file.
type File = (&'static str, Comes, fn() -> Vec<u8>);

const FILES: [File; 6] = [
    ("the truth", Right, || dist("<?php")),
    ("an empty file", Error, Vec::new),
    ("a page", Error, || b"<html>sign in</html>".repeat(50)),
    ("files that lead up", Error, || zip_archive(&vec![("../../../out".to_owned(), Vec::new())])),
    ("a file inside a file", Error, || {
        tarball(&vec![("a/b".to_owned(), Vec::new()), ("a/b/c.php".to_owned(), Vec::new())])
    }),
    ("a name that hides a layer below", Error, || npm_tarball(&vec![(".wh.fog".to_owned(), Vec::new())])),
];

#[test]
fn archives_of_packages_that_lie_do_no_harm() {
    let mut problems = Vec::new();
    for (what, comes, file) in FILES {
        let registry = Registry::start();
        let program = app(&registry);
        registry.answer("/fog.zip", vec![Reply::of(file())]);
        problems.extend(wrong(what, comes, &program, "build quays"));
    }
    assert_none(&problems);
}
