//! Images on another base, or on the newest state of theirs.

use crate::base_images::{app_on, ferry_base, offer};
use crate::debian::{error_of, with_archive};
use serde_json::Value;
use testkit::debian::{Package, Signer, harbour_packages, write_suite};
use testkit::oci_registry::{Faults, OciRegistry};
use testkit::program::Program;
use testkit::registry::Registry;

/// Two apps on packages of the invented archive, built; their archive has a security update since.
fn behind() -> (Program, Signer) {
    let signer = Signer::new();
    let program = with_archive(&signer, &harbour_packages(), "");
    testkit::program::copy_tree(&program.path("app"), &program.path("other"));
    program.write("other/server.js", "// another one");
    let _ = program.succeed("build app");
    let _ = program.succeed("build other");
    let newer = Package::new("libc6", "2.41-12+deb13u1", "", &[("./lib/harbour/libc.so.6", "repaired")]);
    write_suite(&program.path("security"), "trixie-security", &[newer], &signer, "");
    // The addresses and keys that hold where the command is run.
    program.write(
        "shtetl.toml",
        "[base]\nkeyring = \"keys.gpg\"\n[addresses]\ndebian = \"archive\"\ndebian-security = \"security\"\n",
    );
    (program, signer)
}

fn step_of<'v>(shown: &'v Value, step: &str) -> &'v Value {
    let layers = shown["record"]["layers"].as_array().unwrap();
    layers.iter().find(|layer| layer["step"] == step).unwrap_or_else(|| panic!("{step} in {shown}"))
}

fn record(program: &Program, image: &str) -> Value {
    serde_json::json!({ "record": program.json(&format!("show {image} --record")) })
}

#[test]
fn the_newest_packages_of_the_suite_come_in_and_nothing_is_built() {
    let (program, _) = behind();
    let before = record(&program, "app");
    insta::assert_snapshot!(program.succeed("swap-base app --newest --dry-run").stdout);
    assert_eq!(record(&program, "app"), before, "nothing was changed");
    let digest = program.json("show app")["digest"].clone();
    insta::assert_snapshot!(program.succeed("swap-base --all --newest").stdout);
    let after = record(&program, "app");
    let (base, files) = ("debian trixie base", "app files");
    assert_ne!(step_of(&before, base)["digest"], step_of(&after, base)["digest"]);
    assert_eq!(step_of(&before, files)["digest"], step_of(&after, files)["digest"]);
    assert_eq!(after["record"]["built_on"]["image"], digest);
    let libc = |record: &Value| {
        let packages = record["record"]["packages"].as_array().unwrap();
        packages.iter().find(|one| one["name"] == "libc6").unwrap()["version"].clone()
    };
    assert_eq!((libc(&before), libc(&after)), ("2.41-12".into(), "2.41-12+deb13u1".into()));

    // The same image comes out of a build with these pins, but for what the record says of the past.
    let _ = program.succeed("build app --update --tag built");
    let built = record(&program, "app:built");
    assert_eq!(built["record"]["layers"], after["record"]["layers"]);
    assert_eq!(built["record"]["packages"], after["record"]["packages"]);
    assert_eq!(built["record"]["steps"], after["record"]["steps"]);

    let again = program.succeed("swap-base app other --newest");
    assert!(again.stdout.contains("2 images: 0 swapped, 2 on it already, 0 refused"), "{again}");
    // The first base stays known when it is changed once more.
    assert_eq!(record(&program, "app")["record"]["built_on"]["image"], digest);
}

#[test]
fn images_of_a_registry_are_changed_there_without_their_layers() {
    let (program, _) = behind();
    let registry = OciRegistry::start(Faults::default());
    let at = format!("{}/harbour/app", registry.host());
    let _ = program.succeed(&format!("push app {at}:live"));
    let files = step_of(&record(&program, "app"), "app files")["digest"].as_str().unwrap().to_owned();
    registry.count("");
    // Another machine, which has nothing of the app.
    let empty = format!("--store {}", program.path("empty").display());
    let swapped = program.json(&format!("swap-base {at}:live --newest --evidence {empty}"));
    assert_eq!(swapped["images"][0]["new_layers"], 1, "{swapped}");
    assert_eq!(registry.count(&format!("GET /v2/harbour/app/blobs/{files}")), 0);
    let live = registry.manifest("harbour/app", "live").unwrap();
    assert_eq!(registry.tags("harbour/app").iter().filter(|tag| *tag == "live").count(), 1);
    let verified = program.succeed(&format!("verify {at}:live"));
    assert!(!verified.stdout.contains("no evidence"), "{verified}");
    assert_eq!(
        program.json(&format!("show {at}:live"))["digest"],
        swapped["images"][0]["digest"]["after"],
        "{live}"
    );

    // Under another tag, the old one stays.
    let _ = program.succeed(&format!("push other {at}:14"));
    let old = registry.manifest("harbour/app", "14").unwrap();
    let _ = program.succeed(&format!("swap-base {at}:14 --newest --tag 14-fresh"));
    assert_eq!(registry.manifest("harbour/app", "14").unwrap(), old);
    assert_ne!(registry.manifest("harbour/app", "14-fresh").unwrap(), old);
    let by_digest = format!("{at}@{}", swapped["images"][0]["digest"]["after"].as_str().unwrap());
    assert!(error_of(&program.run(&format!("swap-base {by_digest} --newest"))).contains("has no tag"));
}

#[test]
fn a_base_that_does_not_fit_is_refused_with_what_it_lacks() {
    let registry = Registry::start();
    offer(&registry, &ferry_base("22.1.0"));
    let base = format!("{}/ferry/base", registry.host());
    let program = app_on(&format!("{base}:1"));
    let _ = program.succeed("build app");
    let before = program.json("show app")["digest"].clone();

    // A newer image of the same version of Node takes its place; variables of the base follow.
    offer(&registry, &ferry_base("22.9.3"));
    let swapped = program.json("swap-base app --newest");
    assert_ne!(swapped["images"][0]["digest"]["after"], before, "{swapped}");
    let shown = program.json("show app --record");
    assert_eq!(shown["runtimes"][0]["version"], "22.9.3");

    offer(&registry, &ferry_base("24.0.0"));
    let error = error_of(&program.run("swap-base app --newest")).replace(&registry.host(), "[registry]");
    insta::assert_snapshot!(error);
    // It is one of several: the others go on.
    let _ = program.succeed("build app --tag old --offline");
    let said = program.run("swap-base app app:old missing --newest");
    assert_eq!(said.code, 1);
    insta::assert_snapshot!(said.stdout.replace(&registry.host(), "[registry]"));

    let said = program.run(&format!("swap-base app --onto oci:{base}@sha256:{}", "0".repeat(64)));
    assert!(said.code == 1 && said.stderr.contains("not found at"), "{said}");
    for (arguments, expected) in [
        ("swap-base app --onto host", "cannot be swapped"),
        ("swap-base app --onto debian:trixie", "cannot be swapped"),
        ("swap-base nothing --newest", "there is no image \"nothing\""),
        ("swap-base app", "required"),
        ("swap-base --newest", "required"),
    ] {
        let said = program.run(arguments);
        assert_eq!(said.code, 2, "{said}");
        assert!(said.stderr.contains(expected), "{arguments}: {said}");
    }
}
