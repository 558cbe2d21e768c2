//! What is said about images, by whom, and whether it holds.

use crate::program;
use crate::run::with_app;
use crate::source::git_in;
use serde_json::Value;
use std::fs;
use testkit::oci_registry::{Faults, OciRegistry};
use testkit::program::{Program, Said};

/// An app, built, with a key.
fn with_key() -> Program {
    let program = with_app();
    let _ = program.succeed("build ferry --anyway");
    let _ = program.succeed("keys make ferry.key");
    program
}

fn document(program: &Program, file: &str) -> Value {
    serde_json::from_slice(&fs::read(program.path(file)).unwrap()).unwrap()
}

/// What holds, is missing and fails.
fn verdicts(said: &Said) -> String {
    let document: Value = serde_json::from_str(&said.stdout).unwrap_or_else(|_| panic!("{said}"));
    let findings = document["findings"].as_array().unwrap().iter();
    let word = |value: &Value| value.as_str().unwrap().to_owned();
    findings
        .map(|one| format!("{} {}", word(&one["what"]), word(&one["verdict"])))
        .collect::<Vec<_>>()
        .join(", ")
}

fn verify(program: &Program, arguments: &str) -> (String, i32) {
    let said = program.run(&format!("verify {arguments} --format json"));
    (verdicts(&said), said.code)
}

/// The schema with the other one that it refers to in its place.
fn cyclonedx_schema() -> Value {
    let read = |text: &str| serde_json::from_str::<Value>(text).unwrap();
    let mut schema = read(include_str!("../schemas/bom-1.6.schema.json"));
    let ids = read(include_str!("../schemas/spdx-licence-ids.schema.json"));
    schema["definitions"]["license"]["properties"]["id"] = serde_json::json!({ "enum": ids["enum"] });
    schema["definitions"]["signature"] = Value::Bool(true);
    schema
}

#[test]
fn bills_of_materials_have_every_package_and_its_layer() {
    let program = with_key();
    let _ = program.succeed("evidence ferry out");
    let bill = document(&program, "out/packages.cdx.json");
    let errors: Vec<String> = jsonschema::validator_for(&cyclonedx_schema())
        .unwrap()
        .iter_errors(&bill)
        .map(|error| format!("{} {error}", error.instance_path()))
        .collect();
    assert_eq!(errors, [""; 0]);
    let record = program.json("show ferry")["record"].clone();
    let packages = record["packages"].as_array().unwrap();
    let layers = record["layers"].as_array().unwrap();
    for package in packages {
        let component =
            bill["components"].as_array().unwrap().iter().find(|one| one["purl"] == package["purl"]).unwrap();
        let layer = &layers[usize::try_from(package["layer"].as_u64().unwrap()).unwrap()]["digest"];
        assert_eq!(component["properties"][0]["value"], *layer);
    }
    let other = document(&program, "out/packages.spdx.json");
    assert_eq!(other["spdxVersion"], "SPDX-2.3");
    // The image, and what is in it.
    assert_eq!(other["packages"].as_array().unwrap().len(), packages.len() + 1);
    let again = fs::read(program.path("out/packages.cdx.json")).unwrap();
    let _ = program.succeed("evidence ferry second");
    assert_eq!(
        again,
        fs::read(program.path("second/packages.cdx.json")).unwrap(),
        "the same image, the same document"
    );
}

#[test]
fn evidence_holds_for_its_image_and_the_key_that_signed_it_alone() {
    let program = with_key();
    let _ = program.succeed("keys make other.key --kind p256");
    let _ = program.succeed("evidence ferry out --key ferry.key");
    insta::assert_snapshot!(verify(&program, "ferry --evidence out --trust other.key.pub --trust ferry.key.pub").0, @"contents holds, record holds, signature holds, provenance holds, CycloneDX holds, SPDX holds");
    insta::assert_snapshot!(verify(&program, "ferry").0, @"contents holds, record holds, signature missing, provenance missing");
    for (arguments, code) in [
        ("ferry --evidence out --trust ferry.key.pub", 0),
        ("ferry --evidence out", 0),
        ("ferry --evidence out --trust other.key.pub", 1),
        ("ferry --trust ferry.key.pub", 1),
        ("ferry", 0),
    ] {
        assert_eq!(verify(&program, arguments).1, code, "{arguments}");
    }
    // A list of packages that somebody changed, and the evidence of another image.
    program.edit("out/packages.cdx.json", "\"specVersion\":\"1.6\"", "\"specVersion\":\"1.5\"");
    let (found, code) = verify(&program, "ferry --evidence out --trust ferry.key.pub");
    assert!(code == 1 && found.contains("CycloneDX fails, SPDX holds"), "{found}");
    program.write("ferry/notice.txt", "closed");
    let _ = program.succeed("build ferry --anyway --tag next");
    let (found, code) = verify(&program, "ferry:next --evidence out --trust ferry.key.pub");
    assert!(code == 1 && found.contains("provenance fails"), "{found}");
    // Without a signature, whatever it says.
    let _ = program.succeed("evidence ferry unsigned");
    let (found, code) = verify(&program, "ferry --evidence unsigned --trust ferry.key.pub");
    assert!(code == 1 && found.contains("signature fails, provenance holds"), "{found}");
}

#[test]
fn evidence_goes_with_an_image_into_registries_of_both_kinds() {
    for lists_attached in [true, false] {
        let program = with_key();
        let registry = OciRegistry::start(Faults { lists_attached, ..Faults::default() });
        let to = format!("{}/harbour/ferry:14", registry.host());
        let pushed = program.json(&format!("push ferry {to} --key ferry.key"));
        assert_eq!(pushed["attached"], 3, "{pushed}");
        assert_eq!(
            program.json(&format!("push ferry {to} --key ferry.key"))["attached"],
            0,
            "it is there already"
        );
        let has_list = registry.tags("harbour/ferry").iter().any(|tag| tag.starts_with("sha256-"));
        assert_eq!(has_list, !lists_attached);
        let elsewhere = program.with("SHTETL_STORE", "other");
        let (found, code) = verify(&elsewhere, &format!("{to} --trust ferry.key.pub"));
        assert!(code == 0 && !found.contains("missing"), "{found}");
        assert_eq!(elsewhere.run("show ferry:14").code, 2, "looking at it gives it no name");
    }
}

#[test]
fn a_build_signs_what_it_pushes() {
    let program = with_key();
    let registry = OciRegistry::start(Faults::default());
    let to = format!("{}/harbour/ferry", registry.host());
    let said = program.run(&format!("build ferry --anyway --tag 15 --push {to} --key lost.key"));
    assert!(
        said.code == 3 && !said.stderr.contains("app files"),
        "a key that is not there is told first: {said}"
    );
    let built = program.json(&format!("build ferry --anyway --tag 15 --push {to} --key ferry.key"));
    assert_eq!(built["pushed"]["attached"], 3);
    assert_eq!(verify(&program, &format!("{to}:15 --trust ferry.key.pub")).1, 0);
}

#[test]
fn advisories_about_packages_of_an_image_are_told() {
    let program = program().with_demo();
    let _ = program.succeed("build timetable");
    let advisory = |name: &str, fixed: &str, word: &str| {
        serde_json::json!({
            "id": format!("FERRY-{name}"), "aliases": ["CVE-2026-1"], "summary": "lets water in",
            "affected": [{
                "package": { "ecosystem": "npm", "name": name },
                "ranges": [{ "type": "SEMVER", "events": [{ "introduced": "0" }, { "fixed": fixed }] }],
            }],
            "database_specific": { "severity": word },
        })
    };
    program.write("osv/one.json", advisory("knots", "2.0.0", "HIGH").to_string());
    program.write("osv/deeper/two.json", advisory("kelp", "0.9.0", "CRITICAL").to_string());
    let said = program.run("show timetable --advisories osv");
    let section: Vec<&str> = said.stdout.lines().skip_while(|line| !line.starts_with("advisories")).collect();
    insta::assert_snapshot!(section.join("\n"), @"
    advisories  1 found, 2 read, 7 packages compared
      high  knots 1.4.0  CVE-2026-1  fixed in 2.0.0  lets water in
    ");
    for (threshold, code) in [("any", 1), ("high", 1), ("critical", 0)] {
        assert_eq!(program.run(&format!("show timetable --advisories osv --fail-on {threshold}")).code, code);
    }
    // The same from the lockfile, before there is an image.
    let checked = program.run("check timetable --advisories osv --fail-on high");
    assert!(checked.code == 1 && checked.stdout.contains("knots 1.4.0  CVE-2026-1"), "{checked}");
    // One that somebody accepts, for as long as that is said.
    let accept = |until: &str| {
        format!("[advisory.CVE-2026-1]\nreason = \"the boat is on land\"\nuntil = \"{until}\"\n")
    };
    program.write("shtetl.toml", accept("9999-12-31"));
    let said = program.succeed("show timetable --advisories osv --fail-on any");
    insta::assert_snapshot!(
        said.stdout.lines().skip_while(|line| !line.starts_with("advisories")).collect::<Vec<_>>().join("\n")
    );
    program.write("shtetl.toml", accept("2020-01-01"));
    assert_eq!(program.run("show timetable --advisories osv --fail-on any").code, 1);
    program.write("shtetl.toml", "[advisory.CVE-2026-1]\nreason = \"?\"\n");
    assert!(program.run("show timetable --advisories osv").stderr.contains("expiry date"));
    fs::remove_file(program.path("shtetl.toml")).unwrap();
    program.write("osv/three.json", "{}");
    insta::assert_snapshot!(program.run("show timetable --advisories osv"), @"
    --- stderr
    error: osv/three.json is not an advisory: missing field `id`
    what to do: use documents in the OSV format, in JSON
    --- exit 2
    ");
    fs::create_dir(program.path("nothing")).unwrap();
    insta::assert_snapshot!(program.run("show timetable --advisories nothing"), @"
    --- stderr
    error: nothing contains no advisories
    what to do: use documents in the OSV format, in files ending in .json
    --- exit 2
    ");
}

#[test]
fn a_damaged_layer_is_found() {
    let program = with_key();
    let layer =
        program.json("show ferry")["record"]["layers"][0]["digest"].as_str().unwrap().replace("sha256:", "");
    let path = program.path("store/blobs").join("sha256").join(&layer[..2]).join(&layer);
    let path = if path.exists() { path } else { find(&program.path("store/blobs"), &layer) };
    let mut bytes = fs::read(&path).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&path, bytes).unwrap();
    let (found, code) = verify(&program, "ferry");
    assert!(code == 1 && found.starts_with("contents fails"), "{found}");
}

fn find(folder: &std::path::Path, ending: &str) -> std::path::PathBuf {
    let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    for path in entries {
        if path.is_dir() {
            let found = find(&path, ending);
            if found.exists() {
                return found;
            }
        } else if path.to_string_lossy().contains(&ending[2..]) {
            return path;
        }
    }
    folder.join("none")
}

#[test]
fn keys_are_made_once_and_kept_secret() {
    use std::os::unix::fs::PermissionsExt;
    let program = with_key();
    assert_eq!(fs::metadata(program.path("ferry.key")).unwrap().permissions().mode() & 0o777, 0o600);
    insta::assert_snapshot!(program.run("keys make ferry.key"), @"
    --- stderr
    error: ferry.key already exists, and keys are never overwritten
    what to do: choose another name
    --- exit 2
    ");
    program.write("passphrase", "fog horn\n");
    let _ = program.succeed("keys make locked.key --passphrase-file passphrase");
    insta::assert_snapshot!(program.run("evidence ferry out --key locked.key"), @"
    --- stderr
    error: locked.key cannot be used as a key: it is protected by a passphrase, and none was given
    what to do: give it with --passphrase-file, or in the variable SHTETL_KEY_PASSPHRASE
    --- exit 2
    ");
    let _ = program.succeed("evidence ferry out --key locked.key --passphrase-file passphrase");
    let key = fs::read_to_string(program.path("locked.key")).unwrap();
    let program = program.with("SHTETL_KEY", &key).with("SHTETL_KEY_PASSPHRASE", "fog horn");
    let _ = program.succeed("evidence ferry from-variable");
    assert_eq!(verify(&program, "ferry --evidence from-variable --trust locked.key.pub").1, 0);
    insta::assert_snapshot!(program.run("verify ferry --evidence out --trust locked.key"), @"
    --- stderr
    error: locked.key cannot be used as a key: it is not a key in PEM form
    what to do: give a PEM file: PKCS#8 for a private key, SubjectPublicKeyInfo for a public one
    --- exit 2
    ");
    insta::assert_snapshot!(program.run("verify ferry --evidence nowhere"), @"
    --- stderr
    error: nowhere has no evidence
    what to do: `shtetl evidence` writes it
    --- exit 2
    ");
}

#[test]
fn an_image_is_built_again_from_its_commit_and_compared_to_the_byte() {
    let program = program().with_demo().with("PATH", "/ferry/bin:/usr/local/bin:/usr/bin:/bin");
    // Another folder, with another name, and changes that are not committed.
    testkit::program::copy_tree(&program.path("timetable"), &program.path("elsewhere"));
    let folder = program.path("elsewhere");
    for arguments in [&["init", "-q"][..], &["add", "-A"], &["commit", "-qm", "all"]] {
        let _ = git_in(&folder, arguments);
    }
    fs::remove_dir_all(program.path("timetable")).unwrap();
    testkit::program::copy_tree(&folder, &program.path("timetable"));
    let _ = program.succeed("build timetable --tag 14 --compress gzip");
    program.write("elsewhere/server.js", "throw 1");
    let same = program.succeed("verify timetable:14 --again elsewhere");
    assert!(same.stdout.contains("built again  holds    identical, byte for byte"), "{same}");

    // Without the commits, the files are taken as they are.
    fs::remove_dir_all(folder.join(".git")).unwrap();
    let other = program.run("verify timetable:14 --again elsewhere");
    assert_eq!(other.code, 1, "{other}");
    assert!(other.stdout.contains("the source differs"), "{other}");
    assert!(other.stderr.contains("does not have commit"), "{other}");
}

#[test]
fn keys_that_the_organisation_trusts_are_asked_for_wherever_images_are_verified() {
    let program = with_key();
    let _ = program.succeed("keys make other.key");
    let _ = program.succeed("evidence ferry signed --key ferry.key");
    program.write("rules.toml", "[trust]\nkeys = [\"other.key.pub\"]\n");
    let refused = program.run("verify ferry --evidence signed --house-rules rules.toml");
    assert!(refused.code == 1 && refused.stdout.contains("which is not a trusted key"), "{refused}");
    program.write("rules.toml", "[trust]\nkeys = [\"other.key.pub\", \"ferry.key.pub\"]\n");
    let held = program.succeed("verify ferry --evidence signed --house-rules rules.toml");
    assert!(held.stdout.contains("with the trusted key"), "{held}");
    // An app in whose folder somebody verifies cannot make its own key a trusted one.
    program.write("shtetl.toml", "[trust]\nkeys = [\"other.key.pub\"]\n");
    let said = program.run("verify ferry --evidence signed");
    assert!(said.stdout.contains("no trusted key is configured"), "{said}");
    assert!(program.run("survey .").stderr.contains("no key \"trust\""));
}
