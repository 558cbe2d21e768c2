//! Images on their way to registries and back.

use crate::run::with_app;
use serde_json::Value;
use std::collections::BTreeMap;
use testkit::oci_registry::{Faults, Login, OciRegistry};
use testkit::program::{Program, Said};

/// An app of several process types, built, and a registry.
fn built(faults: Faults) -> (Program, OciRegistry) {
    let program = with_app();
    // Something that is worth being sent in pieces.
    let mut noise = 1_u64;
    let mut byte = || {
        noise = noise.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        noise.to_be_bytes()[0]
    };
    program.write("ferry/chart.bin", (0..3 << 20).map(|_| byte()).collect::<Vec<u8>>());
    let _ = program.succeed("build ferry --anyway");
    (program, OciRegistry::start(faults))
}

fn push(program: &Program, registry: &OciRegistry, name: &str) -> Said {
    program.run(&format!("push ferry {}/{name}", registry.host()))
}

/// What is said, without the port of the registry.
fn told(said: &Said, registry: &OciRegistry) -> String {
    said.to_string().replace(&registry.host(), "[registry]")
}

#[test]
fn a_pushed_image_has_a_tag_for_itself_and_one_for_each_process_type() {
    let (program, registry) = built(Faults::default());
    let said = push(&program, &registry, "harbour/ferry:14");
    assert_eq!(said.code, 0, "{said}");
    let shown = program.json("show ferry");
    let processes: Vec<String> = shown["variants"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["process"].as_str().unwrap().to_owned())
        .collect();
    assert!(processes.len() > 1, "{shown}");
    let mut tags: Vec<String> = processes.iter().map(|process| format!("14-{process}")).collect();
    tags.push("14".to_owned());
    tags.sort();
    assert_eq!(registry.tags("harbour/ferry"), tags);
    let whole = registry.manifest("harbour/ferry", "14").unwrap();
    assert_eq!(
        whole["manifests"][0]["annotations"]["shtetl.process"],
        processes[0].as_str(),
        "the default one is first"
    );
    for (process, variant) in processes.iter().zip(shown["variants"].as_array().unwrap()) {
        let own = registry.manifest("harbour/ferry", &format!("14-{process}")).unwrap();
        assert_eq!(own["manifests"].as_array().unwrap().len(), 1);
        assert_eq!(own["manifests"][0]["digest"], variant["digest"]);
    }
    assert_eq!(
        program.json(&format!("push ferry {}/harbour/ferry:14", registry.host()))["digest"],
        shown["digest"]
    );
}

#[test]
fn only_what_a_registry_lacks_is_sent() {
    let (program, registry) = built(Faults::default());
    let to = format!("{}/harbour/ferry", registry.host());
    let first = program.json(&format!("push ferry {to}"));
    assert!(first["bytes_sent"].as_u64().unwrap() > 3 << 20 && first["bytes_there"] == 0, "{first}");
    registry.count("");
    // The same again: nobody is asked for a blob.
    let again = program.json(&format!("push ferry {to}"));
    assert_eq!(
        (again["bytes_sent"].as_u64(), again["bytes_there"].as_u64()),
        (Some(0), first["bytes_sent"].as_u64())
    );
    assert_eq!(
        (registry.count("POST"), registry.count("PUT"), registry.count("HEAD /v2/harbour/ferry/blobs")),
        (0, 0, 0)
    );
    // A changed file: what else there is stays.
    program.write("ferry/notice.txt", "closed");
    let _ = program.succeed("build ferry --anyway");
    let changed = program.json(&format!("push ferry {to}"));
    assert!(changed["bytes_there"].as_u64().unwrap() > 0, "{changed}");
    // Another name of the registry has the layers.
    let other = program.json(&format!("push ferry {}/harbour/copy", registry.host()));
    assert!(
        other["bytes_mounted"].as_u64().unwrap() > 3 << 20 && other["bytes_sent"].as_u64().unwrap() < 100_000,
        "{other}"
    );
    // One that does not mount is sent everything.
    registry.fail(Faults { no_mounts: true, ..Faults::default() });
    let sent = program.json(&format!("push ferry {}/harbour/third", registry.host()));
    assert_eq!((sent["bytes_mounted"].as_u64(), sent["bytes_there"].as_u64()), (Some(0), Some(0)), "{sent}");
}

#[test]
fn an_image_comes_back_the_same_and_runs() {
    let (program, registry) = built(Faults::default());
    assert_eq!(push(&program, &registry, "harbour/ferry:14").code, 0);
    let from = format!("{}/harbour/ferry:14", registry.host());
    let elsewhere = program.with("SHTETL_STORE", "other");
    let pulled = elsewhere.json(&format!("pull {from}"));
    assert_eq!(
        (pulled["image"].as_str(), pulled["bytes_there"].as_u64()),
        (Some("ferry:14"), Some(0)),
        "{pulled}"
    );
    let said = elsewhere.run("run ferry:14 audit --set TOKEN=hunter2");
    assert_eq!(said.code, 0, "{said}");
    let again = elsewhere.json(&format!("pull {from} --name other:live"));
    assert_eq!(
        (again["image"].as_str(), again["bytes_received"].as_u64()),
        (Some("other:live"), Some(0)),
        "{again}"
    );
    let by_digest = format!("pull {}/harbour/ferry@{}", registry.host(), pulled["digest"].as_str().unwrap());
    assert_eq!(elsewhere.json(&by_digest)["digest"], pulled["digest"]);
    let _ = elsewhere.succeed("store check");
    let third = elsewhere.with("SHTETL_STORE", "third");
    let said = third.run(&format!("run {from} audit --set TOKEN=hunter2"));
    assert_eq!(said.code, 0, "an image runs from where it is: {said}");
}

#[test]
fn a_build_pushes_what_it_made() {
    let (program, registry) = built(Faults::default());
    let to = format!("{}/harbour/ferry", registry.host());
    let built = program.json(&format!("build ferry --anyway --tag 15 --push {to}"));
    assert_eq!(built["pushed"]["digest"], built["digest"]);
    assert!(registry.tags("harbour/ferry").contains(&"15".to_owned()));
    let said = program.run(&format!("build ferry --anyway --push {to}:b@d"));
    assert_eq!(said.code, 2, "nothing is built for a name that is none: {said}");
}

#[test]
fn archives_are_streamed_and_images_go_from_one_registry_to_another() {
    let (program, registry) = built(Faults::default());
    let streamed = |before: &str, arguments: &str| {
        let said = program.run_after(before, arguments);
        assert_eq!(said.code, 0, "{said}");
        said
    };
    let shtetl = env!("CARGO_BIN_EXE_shtetl");
    let pipe = format!("{shtetl} build ferry --anyway --archive - > streamed.tar");
    let said = streamed(&pipe, "show ferry");
    assert!(said.stderr.contains("ferry:latest  build"), "what is told goes to standard error: {said}");
    let _ = program.succeed("build ferry --anyway --archive file.tar");
    let read = |file: &str| std::fs::read(program.path(file)).unwrap();
    assert!(read("streamed.tar") == read("file.tar"), "the same archive either way");
    let to = format!("{}/harbour/ferry:14", registry.host());
    let _ = streamed("exec < streamed.tar", &format!("push - {to}"));
    let other = OciRegistry::start(Faults::default());
    let _ = program.succeed(&format!("push {to} {}/quay/ferry", other.host()));
    assert!(other.tags("quay/ferry").contains(&"14".to_owned()), "the tag goes with it");
    assert_eq!(other.manifest("quay/ferry", "14"), registry.manifest("harbour/ferry", "14"));
    // Programs from before layouts find everything by this file.
    let mut archive = tar::Archive::new(std::fs::File::open(program.path("file.tar")).unwrap());
    let mut names = Vec::new();
    let mut older = Value::Null;
    for entry in archive.entries().unwrap() {
        let entry = entry.unwrap();
        let name = entry.path().unwrap().to_string_lossy().into_owned();
        if name == "manifest.json" {
            older = serde_json::from_reader(entry).unwrap();
        }
        names.push(name);
    }
    assert_eq!(older[0]["RepoTags"], serde_json::json!(["ferry:latest"]));
    for image in older.as_array().unwrap() {
        let parts = image["Layers"].as_array().unwrap().iter().chain([&image["Config"]]);
        parts.for_each(|part| assert!(names.contains(&part.as_str().unwrap().to_owned()), "{part}"));
    }
}

#[test]
fn uploads_go_on_where_they_were_cut() {
    let (program, registry) = built(Faults::default());
    assert_eq!(push(&program, &registry, "harbour/ferry").code, 0);
    let uninterrupted = registry.count("PATCH");
    let cut = Faults { cuts_after: Some(1 << 20), ..Faults::default() };
    for (faults, more) in [
        (cut.clone(), 1),
        (Faults { forgets_uploads: true, ..cut.clone() }, 1),
        (Faults { longest_piece: Some(9 << 20), ..cut }, 100),
    ] {
        let registry = OciRegistry::start(faults.clone());
        let said = push(&program, &registry, "harbour/ferry");
        assert_eq!(said.code, 0, "{faults:?}: {said}");
        assert!(registry.count("PATCH") <= uninterrupted + more, "{faults:?}");
        let from = format!("{}/harbour/ferry", registry.host());
        let _ = program.succeed(&format!("pull {from} --store other-{}", registry.host().replace(':', "-")));
    }
}

#[test]
fn trouble_that_passes_is_waited_for() {
    let trouble = [("HEAD", 503), ("POST", 429), ("PUT /v2/harbour/ferry/manifests", 500), ("PUT", 502)];
    let statuses = trouble.map(|(beginning, status)| (beginning.to_owned(), status)).into();
    let (program, registry) = built(Faults { statuses, ..Faults::default() });
    let said = push(&program, &registry, "harbour/ferry");
    assert_eq!(said.code, 0, "{said}");
}

#[test]
fn nobody_is_let_in_without_the_right_login() {
    let login = Login { password: "YWRhOmhvcm4=".to_owned(), token: "let-me-in".to_owned() };
    let (program, registry) = built(Faults { wants: Some(login), ..Faults::default() });
    let said = push(&program, &registry, "harbour/ferry:14");
    insta::assert_snapshot!(told(&said, &registry), @"
    --- stderr
    error: [registry]/harbour/ferry:14: http://[registry]/token requires credentials
    what to do: log in to [registry] with a tool that stores credentials in ~/.config/containers/auth.json, or set REGISTRY_AUTH_FILE to such a file
    more: shtetl explain download-denied
    --- exit 3
    ");
    let auth = serde_json::json!({ "auths": { registry.host(): { "auth": "YWRhOmhvcm4=" } } });
    program.write("home/.config/containers/auth.json", auth.to_string());
    let said = push(&program, &registry, "harbour/ferry:14");
    assert_eq!(said.code, 0, "{said}");
    assert!(!said.to_string().contains("let-me-in"));
    let wrong = serde_json::json!({ "auths": { registry.host(): { "auth": "YWRhOmJlbGw=" } } });
    program.write("home/.config/containers/auth.json", wrong.to_string());
    let said = program.run(&format!("pull {}/harbour/ferry:14", registry.host()));
    insta::assert_snapshot!(told(&said, &registry), @"
    --- stderr
    error: [registry]/harbour/ferry:14: http://[registry]/token does not accept the credentials from [place]/home/.config/containers/auth.json
    what to do: log in to [registry] with a tool that stores credentials in ~/.config/containers/auth.json, or set REGISTRY_AUTH_FILE to such a file
    more: shtetl explain download-denied
    --- exit 3
    ");
}

#[test]
fn who_may_not_read_another_name_still_pushes_to_his_own() {
    let (program, registry) = built(Faults::default());
    assert_eq!(push(&program, &registry, "harbour/ferry").code, 0);
    let login = Login { password: "YWRhOmhvcm4=".to_owned(), token: "let-me-in".to_owned() };
    registry.fail(Faults { wants: Some(login), denies_other_names: true, ..Faults::default() });
    let auth = serde_json::json!({ "auths": { registry.host(): { "auth": "YWRhOmhvcm4=" } } });
    program.write("home/.config/containers/auth.json", auth.to_string());
    let pushed = program.json(&format!("push ferry {}/quay/own", registry.host()));
    assert_eq!(pushed["bytes_mounted"], 0, "{pushed}");
}

#[test]
fn a_push_that_fails_leaves_no_tag() {
    let (program, _) = built(Faults::default());
    for (beginning, status) in [
        ("POST", 405),
        ("PATCH", 400),
        ("PUT /v2/harbour/ferry/blobs", 400),
        ("PUT /v2/harbour/ferry/manifests/sha256", 413),
    ] {
        let statuses = vec![(beginning.to_owned(), status); 20];
        let registry = OciRegistry::start(Faults { statuses, ..Faults::default() });
        let said = push(&program, &registry, "harbour/ferry:14");
        assert!(said.code == 3 && said.stderr.contains("not now"), "{beginning}: {said}");
        assert_eq!(registry.tags("harbour/ferry"), [""; 0], "{beginning}");
    }
    let registry = OciRegistry::start(Faults { names_other_digests: true, ..Faults::default() });
    let said = push(&program, &registry, "harbour/ferry:14");
    assert!(said.stderr.contains("unexpected answer from"), "{said}");
}

#[test]
fn a_registry_that_lies_gives_no_image() {
    let (program, registry) = built(Faults::default());
    assert_eq!(push(&program, &registry, "harbour/ferry:14").code, 0);
    let shown = program.json("show ferry");
    let digests = [&shown["record"]["layers"][0]["digest"], &shown["variants"][0]["digest"]];
    let mut cases: Vec<(String, Vec<u8>)> = digests
        .iter()
        .map(|digest| (digest.as_str().unwrap().to_owned(), b"something else".to_vec()))
        .collect();
    cases.push(("14".to_owned(), b"{}".to_vec()));
    cases.push(("14".to_owned(), b"<html>".to_vec()));
    let elsewhere = program.with("SHTETL_STORE", "other");
    for (what, bytes) in cases {
        registry.fail(Faults { gives: BTreeMap::from([(what.clone(), bytes)]), ..Faults::default() });
        let said = elsewhere.run(&format!("pull {}/harbour/ferry:14", registry.host()));
        assert!(said.code == 1 || said.code == 3, "{what}: {said}");
        assert_eq!(elsewhere.run("show ferry:14").code, 2, "{what}");
    }
    registry.fail(Faults::default());
    let _ = elsewhere.succeed(&format!("pull {}/harbour/ferry:14", registry.host()));
}

#[test]
fn names_that_are_none_are_told() {
    let (program, registry) = built(Faults::default());
    for name in ["ferry", "quay.example/Ferry", "quay.example/ferry:a b"] {
        let said = program.said(&program.command(["push", "ferry", name]).output().unwrap());
        assert!(
            said.code == 2 && said.stderr.contains("is not the name of an image in a registry"),
            "{said}"
        );
    }
    insta::assert_snapshot!(program.run("push ferry quay.example/ferry@sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"), @"
    --- stderr
    error: quay.example/ferry@sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 has a digest; images are pushed to a tag
    what to do: write HOST[:PORT]/NAME:TAG
    more: shtetl explain registry-not-a-tag
    --- exit 2
    ");
    insta::assert_snapshot!(told(&program.run(&format!("pull {}/harbour/none:1", registry.host())), &registry), @"
    --- stderr
    error: [registry]/harbour/none:1: not found at http://[registry]/v2/harbour/none/manifests/1
    what to do: check the name and the tag; some registries require the repository to be created first
    more: shtetl explain download-not-found
    --- exit 1
    ");
    insta::assert_snapshot!(program.run("push nothing quay.example/ferry"), @r#"
    --- stderr
    error: there is no image "nothing"
      in the store: ferry:latest
    what to do: build it with `shtetl build`, or give a layout folder or an archive
    more: shtetl explain run-no-image
    --- exit 2
    "#);
}
