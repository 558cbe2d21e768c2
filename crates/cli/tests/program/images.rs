//! Images: bit-identical, complete, and readable by their own tools.

use crate::program;
use serde_json::Value;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Command;
use testkit::archives::sha256_hex;

/// The index digests of the demo images on the invented machine. They change when the way images
/// are written changes: then the layer or step format version must change too.
#[cfg(target_arch = "x86_64")]
const GOLDEN: [(&str, &str); 4] = [
    ("timetable", "sha256:5355c679b8874e1b91d5ac3e5530fe2c947d0ef1e4e9275bc9d562d31e0bb9c0"),
    ("fares", "sha256:a8cb265fb1faff8bd33851028afa14745a31750a00015e8ffcdc1a04e8eb1a29"),
    ("notices", "sha256:655c101d0af0a596dea384c8ac82eb2dc50af8517c8e1af63d487a190762b9d7"),
    ("timetable --compress gzip", "sha256:3ec9130b5935ccef725d9b05e0769f173c20da5857c712264e54dc6483a36691"),
];

#[cfg(target_arch = "x86_64")]
#[test]
fn the_demo_images_have_their_golden_digests() {
    let program = program().with_demo();
    let built = GOLDEN
        .map(|(app, _)| (app, program.json(&format!("build {app}"))["digest"].as_str().unwrap().to_owned()));
    let golden = GOLDEN.map(|(app, digest)| (app, digest.to_owned()));
    assert_eq!(built, golden);
}

#[test]
fn nothing_around_a_build_changes_its_bytes() {
    let digest = |jobs: &str, umask: &str, variables: &[(&str, &str)]| {
        let mut program = program().with_demo();
        for (name, value) in variables {
            program = program.with(name, value);
        }
        let mut command = Command::new("/bin/sh");
        let script = format!("umask {umask}; find . -exec touch -d 2001-02-03 {{}} +; exec \"$@\"");
        let built = program.command(["build", "timetable", "--format", "json", "--jobs", jobs]);
        command.args(["-c", &script, "sh"]).arg(built.get_program()).args(built.get_args());
        command.env_clear().envs(built.get_envs().filter_map(|(k, v)| Some((k, v?))));
        let output = command.current_dir(program.path("")).output().unwrap();
        assert!(output.status.success(), "{}", program.said(&output));
        serde_json::from_slice::<Value>(&output.stdout).unwrap()["digest"].clone()
    };
    let one = digest("1", "022", &[("LANG", "C")]);
    let two =
        digest("7", "077", &[("LANG", "tr_TR.UTF-8"), ("LC_ALL", "tr_TR.UTF-8"), ("TZ", "Asia/Kolkata")]);
    assert_eq!(one, two);
}

#[test]
fn the_creation_time_follows_source_date_epoch() {
    let program = program().with_demo().with("SOURCE_DATE_EPOCH", "1700000000");
    let _ = program.succeed("build notices --layout image");
    let index: Value = serde_json::from_slice(&fs::read(program.path("image/index.json")).unwrap()).unwrap();
    let manifest = blob(&program.path("image"), &index["manifests"][0]);
    assert_eq!(manifest["annotations"]["org.opencontainers.image.created"], "2023-11-14T22:13:20Z");
}

fn blob(layout: &Path, descriptor: &Value) -> Value {
    serde_json::from_slice(&blob_bytes(layout, descriptor)).unwrap()
}

/// Reads a blob and checks it against its descriptor.
fn blob_bytes(layout: &Path, descriptor: &Value) -> Vec<u8> {
    let digest = descriptor["digest"].as_str().unwrap().strip_prefix("sha256:").unwrap();
    let bytes = fs::read(layout.join("blobs/sha256").join(digest)).unwrap();
    assert_eq!(sha256_hex(&bytes), digest);
    assert_eq!(descriptor["size"], bytes.len());
    bytes
}

#[test]
fn a_layout_is_whole_and_has_one_manifest_a_process_type() {
    let program = program().with_demo();
    let _ = program.succeed("build timetable --tag 14 --layout image");
    let layout = program.path("image");
    let index: Value = serde_json::from_slice(&fs::read(layout.join("index.json")).unwrap()).unwrap();
    let mut used = BTreeSet::from([sha256_hex(&fs::read(layout.join("index.json")).unwrap())]);
    let mut seen = Vec::new();
    let mut layers = BTreeSet::new();
    for descriptor in index["manifests"].as_array().unwrap() {
        let manifest = blob(&layout, descriptor);
        let config = blob(&layout, &manifest["config"]);
        for layer in manifest["layers"].as_array().unwrap() {
            blob_bytes(&layout, layer);
            used.insert(hex(layer));
        }
        used.extend([hex(descriptor), hex(&manifest["config"])]);
        layers.insert(manifest["layers"].to_string());
        let run = &config["config"];
        seen.push(format!(
            "{} {} {} {} {} {}",
            descriptor["annotations"]["org.opencontainers.image.ref.name"],
            run["Entrypoint"],
            run["User"],
            run["WorkingDir"],
            run["ExposedPorts"],
            run["StopSignal"]
        ));
    }
    assert_eq!(layers.len(), 1, "process types share all layers");
    insta::assert_snapshot!(seen.join("\n"), @r#"
    "14" ["node","server.js"] "1000:1000" "/app" {"8080/tcp":{}} "SIGTERM"
    "14-tides" ["node","tides.js"] "1000:1000" "/app" null "SIGTERM"
    "#);
    let there: BTreeSet<String> = fs::read_dir(layout.join("blobs/sha256"))
        .unwrap()
        .map(|e| e.unwrap().file_name().into_string().unwrap())
        .collect();
    assert_eq!(there, used, "no blob is missing or left over");
}

fn hex(descriptor: &Value) -> String {
    descriptor["digest"].as_str().unwrap().replace("sha256:", "")
}

#[test]
fn show_tells_the_same_of_store_layout_and_archive() {
    let program = program().with_demo();
    let _ = program.succeed("build timetable --layout image --archive image.tar");
    let from_store = program.run("show timetable --packages");
    insta::assert_snapshot!(from_store, @"
    timetable:latest  node 20.1.0, captured from a host, linux/amd64
      image   sha256:5355c679b8874e1b91d5ac3e5530fe2c947d0ef1e4e9275bc9d562d31e0bb9c0
      source  sha256:1987064aa4c85b2b531f1dba525724fd7124fe6764aeca78b22ef956be43e05a

    layers, bottom to top
      base           759 B  20.5 kB  98e13012d72a
      runtime        270 B   3.6 kB  eb242f4725df
      dependencies  4.0 kB  25.6 kB  679f78066dfa
      app           2.4 kB  11.3 kB  a319996fa338
      together      7.4 kB  60.9 kB  packed, unpacked

    how it runs
      web    node server.js  port 8080, health /healthz, memory 128 MiB  tag latest
      tides  node tides.js                                               tag latest-tides

    settings
      HARBOUR       Kestrel Harbour  the name on the page
      NOTICE_TOKEN  (secret)         for the notices service

    packages
      @kestrel/flags  1.0.0  MIT
      berth           2.1.0  MIT
      knots           2.0.1  0BSD
      kelp            0.9.2  MIT
      knots           1.4.0  0BSD
      tide-table      3.0.0  Apache-2.0
      tidewords       1.0.3  MIT
    --- exit 0
    ");
    let elsewhere = program.with("SHTETL_STORE", "other-store");
    for place in ["image", "image.tar"] {
        let said = elsewhere.succeed(&format!("show {place} --packages"));
        assert_eq!(said.stdout.replacen(place, "timetable:latest", 1), from_store.stdout);
    }
}

#[test]
fn a_damaged_layout_is_refused() {
    let program = program().with_demo();
    let built = program.json("build notices --layout image");
    let layer = built["layers"][0]["digest"].as_str().unwrap().replace("sha256:", "image/blobs/sha256/");
    let mut bytes = fs::read(program.path(&layer)).unwrap();
    bytes[40] ^= 1;
    fs::write(program.path(&layer), bytes).unwrap();
    let elsewhere = program.with("SHTETL_STORE", "other-store");
    let said = elsewhere.run("show image");
    assert_eq!(said.code, 1, "{said}");
    assert!(said.stderr.contains("is damaged"), "{said}");
}

#[test]
fn what_first_lines_of_scripts_name_is_captured_with_the_runtime() {
    let program = program();
    program.write("host/usr/bin/env", testkit::host::program_that_prints("env"));
    program.write("app/shtetl.toml", "[base]\nfrom = \"host\"\n");
    program.write("app/package.json", r#"{"scripts":{"start":"node server.js"}}"#);
    program.write("app/server.js", "");
    let _ = program.succeed("build app --layout image");
    let runtime = crate::debian::layer(&program.path("image"), 1).0;
    assert!(runtime.contains("usr/bin/env") && runtime.contains("opt/node/bin/node"), "{runtime}");
}
