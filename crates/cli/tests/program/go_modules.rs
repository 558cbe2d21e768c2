//! Modules of Go from a stand-in proxy, with stand-ins for the compiler that only write.

use crate::debian::{error_of, with_archive, workshop_packages};
use remote::packages::go;
use std::fs;
use std::io::Cursor;
use testkit::archives::zip_archive;
use testkit::debian::Signer;
use testkit::host::program_that_writes;
use testkit::program::Program;

const HORN: &str = "module buoy.example/Horn\n\ngo 1.20\n";

/// The archive of a module in a version.
fn archive(module: &str, version: &str, files: &[(&str, &[u8])]) -> Vec<u8> {
    let named = |(name, bytes): &(&str, &[u8])| (format!("{module}@{version}/{name}"), bytes.to_vec());
    zip_archive(&files.iter().map(named).collect())
}

/// An app that needs `buoy.example/Horn`, which the proxy has; gives the lines of its `go.sum`.
fn app() -> (Program, String) {
    let program = with_archive(&Signer::new(), &workshop_packages(), "");
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("go/shtetl.toml", config + "go = \"../proxy\"\n");
    program.write("go/go.mod", "module ferry.example/tide\n\ngo 1.22\n\nrequire buoy.example/Horn v1.0.0\n");
    program.write("go/main.go", "package main\n\nfunc main() {}\n");
    let zip = archive(
        "buoy.example/Horn",
        "v1.0.0",
        &[("go.mod", HORN.as_bytes()), ("horn.go", b"package horn\n")],
    );
    program.write("proxy/buoy.example/!horn/@v/v1.0.0.mod", HORN);
    program.write("proxy/buoy.example/!horn/@v/v1.0.0.zip", &zip);
    let sums = format!(
        "buoy.example/Horn v1.0.0 {}\nbuoy.example/Horn v1.0.0/go.mod {}\n",
        go::archive_hash(Cursor::new(zip), "horn").unwrap(),
        go::manifest_hash(HORN.as_bytes())
    );
    (program, sums)
}

#[test]
fn locked_modules_are_fetched_checked_and_kept() {
    let (program, sums) = app();
    program.write("go/go.sum", &sums);
    let said = program.succeed("build go").stdout;
    assert!(
        said.lines()
            .any(|line| line.trim_start().starts_with("go modules") && line.contains("only for the build")),
        "{said}"
    );
    assert!(program.succeed("build go --offline").stdout.contains("nothing ran"));
    // What came once comes from the store.
    fs::remove_dir_all(program.path("proxy")).unwrap();
    program.write("go/main.go", "package main\n\nfunc main() { println(1) }\n");
    let _ = program.succeed("build go --offline");

    let said = program.run("build go --store fresh");
    assert!(error_of(&said).contains("buoy.example/Horn v1.0.0"), "{said}");
}

#[test]
fn a_module_with_another_hash_is_refused() {
    let (program, sums) = app();
    for (wrong, ending) in
        [(sums.replacen("h1:", "h1:A", 1), "zip"), (sums.replace("/go.mod h1:", "/go.mod h1:A"), "mod")]
    {
        program.write("go/go.sum", wrong);
        let said = program.run("build go");
        assert_eq!(said.code, 1, "{said}");
        assert!(error_of(&said).contains(&format!("proxy/buoy.example/!horn/@v/v1.0.0.{ending}")), "{said}");
    }
}

#[test]
fn without_hashes_they_are_settled_once_and_pinned() {
    let (program, sums) = app();
    let said = program.succeed("build go").stderr;
    assert!(said.contains("go.sum lacks the hashes of 1 module"), "{said}");
    let lock = fs::read_to_string(program.path("go/shtetl.lock")).unwrap();
    for line in sums.lines() {
        assert!(lock.contains(line.rsplit(' ').next().unwrap()), "{lock}");
    }
    let first = program.json("build go --locked")["digest"].clone();
    assert_eq!(program.json("build go --locked --store fresh")["digest"], first);
    // Other bytes under the same name do not pass.
    let other = archive(
        "buoy.example/Horn",
        "v1.0.0",
        &[("go.mod", HORN.as_bytes()), ("horn.go", b"package evil\n")],
    );
    program.write("proxy/buoy.example/!horn/@v/v1.0.0.zip", other);
    assert_eq!(program.run("build go --locked --store fresher").code, 1);
}

#[test]
fn pinned_hashes_hold_when_something_else_is_asked_for() {
    let (program, _) = app();
    let _ = program.succeed("build go");
    // Another module is needed by now, and the first has other bytes under its old name.
    let other = archive(
        "buoy.example/Horn",
        "v1.0.0",
        &[("go.mod", HORN.as_bytes()), ("horn.go", b"package evil\n")],
    );
    program.write("proxy/buoy.example/!horn/@v/v1.0.0.zip", other);
    let bell = "module buoy.example/bell\n";
    program.write("proxy/buoy.example/bell/@v/v0.1.0.mod", bell);
    program.write(
        "proxy/buoy.example/bell/@v/v0.1.0.zip",
        archive("buoy.example/bell", "v0.1.0", &[("go.mod", bell.as_bytes())]),
    );
    program.edit(
        "go/go.mod",
        "require buoy.example/Horn v1.0.0",
        "require (\n\tbuoy.example/Horn v1.0.0\n\tbuoy.example/bell v0.1.0\n)",
    );
    let said = program.run("build go --store fresh");
    assert!(said.code == 1 && error_of(&said).contains("!horn/@v/v1.0.0.zip"), "{said}");
}

#[test]
fn a_release_that_the_base_does_not_have_comes_as_a_module() {
    let (program, sums) = app();
    program.write("go/go.sum", &sums);
    program.edit("go/go.mod", "go 1.22", "go 1.26");
    let module = "golang.org/toolchain";
    let version = "v0.0.1-go1.26.0.linux-amd64";
    let compiler = program_that_writes("/result/tide", "compiled by 1.26");
    let zip = archive(module, version, &[("bin/go", &compiler[..]), ("src/cmd/_go.mod", b"module cmd\n")]);
    program.write(&format!("proxy/{module}/@v/{version}.zip"), zip);
    let built = program.json("build go --layout image");
    assert_eq!(
        crate::debian::layer(&program.path("image"), 2).0,
        "0755 0:0 app/\n0755 0:0 app/bin/\n0755 0:0 app/bin/tide\n"
    );
    let record = program.json("show go")["record"].clone();
    assert_eq!(record["tools"][0]["version"], "1.26.0", "{record}");
    assert!(fs::read_to_string(program.path("go/shtetl.lock")).unwrap().contains(version));
    assert_eq!(program.json("build go --locked --store fresh")["digest"], built["digest"]);
    // A release that nobody has is named.
    program.edit("go/go.mod", "go 1.26", "go 1.99");
    let said = program.run("build go");
    assert!(error_of(&said).contains("v0.0.1-go1.99.0.linux-"), "{said}");
}

#[test]
fn no_proxy_is_asked_for_a_private_module() {
    let (program, sums) = app();
    program.write("go/go.sum", &sums);
    let program = program.with("GOPRIVATE", "*.example/Horn");
    insta::assert_snapshot!(error_of(&program.run("build go")), @"
    error: buoy.example/Horn is private (GOPRIVATE or GONOPROXY), and no address is bound to it
    what to do: name a module proxy that has it: --address go:buoy.example/Horn=URL; or vendor it with `go mod vendor`
    more: shtetl explain config-private-module
    ");
    program.edit("go/shtetl.toml", "go = \"../proxy\"", "\"go:buoy.example\" = \"../proxy\"");
    let _ = program.succeed("build go");
}

#[test]
fn tags_and_flags_of_the_linker_shape_the_program_and_the_commit_is_put_in() {
    let (program, sums) = app();
    program.write("go/go.sum", &sums);
    let steps = |program: &Program| program.json("build go --dry-run")["steps"].clone();
    let key = |steps: &serde_json::Value| {
        let of = |step: &&serde_json::Value| step["step"] == "go programs";
        steps.as_array().unwrap().iter().find(of).unwrap()["key"].clone()
    };
    let config = fs::read_to_string(program.path("go/shtetl.toml")).unwrap();
    let plain = key(&steps(&program));
    program.write("go/shtetl.toml", format!("{config}[buildpacks.go]\ntags = [\"harbour\"]\n"));
    let tagged = key(&steps(&program));
    assert_ne!(plain, tagged);
    let flags = "[buildpacks.go]\nlinker-flags = [\"-X main.version=$COMMIT\"]\n";
    program.write("go/shtetl.toml", format!("{config}{flags}"));
    let error = error_of(&program.run("build go"));
    assert!(error.contains("$COMMIT of a source outside a git repository"), "{error}");
}

#[test]
fn a_program_with_parts_in_c_gets_a_base_with_the_library() {
    let (program, sums) = app();
    program.write("go/go.sum", &sums);
    let base = |program: &Program| program.json("survey go")["survey"]["base"][0].clone();
    let config = fs::read_to_string(program.path("go/shtetl.toml")).unwrap();
    let without = config.replace("from = \"debian:trixie\"\n", "");
    program.write("go/shtetl.toml", &without);
    assert_eq!(base(&program), "empty");
    program.write("go/shtetl.toml", format!("{without}[buildpacks.go]\nc = true\n"));
    assert_eq!(base(&program), "debian:trixie");
    let error = error_of(&program.run("build go --platform linux/arm64"));
    assert!(error.contains("compiling parts in C for linux/arm64"), "{error}");
}

#[test]
fn retracted_modules_and_licences_are_told() {
    let (program, _) = app();
    let licence = b"Permission is hereby granted, free of charge, to any person obtaining a copy of it";
    let zip = archive(
        "buoy.example/Horn",
        "v1.0.0",
        &[("go.mod", HORN.as_bytes()), ("horn.go", b"package horn\n"), ("LICENSE", licence)],
    );
    program.write("proxy/buoy.example/!horn/@v/v1.0.0.zip", &zip);
    program.write("proxy/buoy.example/!horn/@v/list", "v1.0.0\nv1.1.0\nv2.0.0-fog\n");
    let newest = format!("{HORN}\n// Sinks in fog.\nretract [v1.0.0, v1.0.9]\n");
    program.write("proxy/buoy.example/!horn/@v/v1.1.0.mod", newest);
    let _ = program.succeed("build go");
    let said = program.run("check go --online").stdout;
    assert!(said.contains("retracted: Sinks in fog."), "{said}");
}
