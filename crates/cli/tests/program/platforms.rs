//! One image for several platforms.

use crate::debian::{error_of, with_archive};
use serde_json::Value;
use std::collections::BTreeSet;
use std::fs;
use testkit::debian::{Signer, harbour_packages};
use testkit::oci_registry::{Faults, OciRegistry};
use testkit::program::Program;

const BOTH: &str = "linux/amd64,linux/arm64";

/// An app of two process types that can be built for both platforms.
fn ready() -> Program {
    let program = with_archive(&Signer::new(), &harbour_packages(), "");
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("app/shtetl.toml", format!("{config}[process.tides]\nrun = \"node tides.js\"\n"));
    program.write("app/tides.js", "");
    program
}

/// Platform and process type of each manifest of an index, in order.
fn listed(index: &Value) -> Vec<String> {
    let one = |listed: &Value| {
        let platform = listed["platform"]["architecture"].as_str().unwrap();
        format!("{platform} {}", listed["annotations"]["shtetl.process"].as_str().unwrap())
    };
    index["manifests"].as_array().unwrap().iter().map(one).collect()
}

#[test]
fn the_default_process_type_comes_first_for_each_platform() {
    let program = ready();
    let said = program.succeed(&format!("build app --platform {BOTH} --layout layout --archive app.tar"));
    assert!(said.stdout.contains("linux/amd64\n") && said.stdout.contains("linux/arm64\n"), "{said}");
    let registry = OciRegistry::start(Faults::default());
    let at = format!("{}/harbour/app", registry.host());
    let _ = program.succeed(&format!("push app {at}:14 --evidence"));
    assert_eq!(
        listed(&registry.manifest("harbour/app", "14").unwrap()),
        ["amd64 web", "arm64 web", "amd64 tides", "arm64 tides"]
    );
    assert_eq!(listed(&registry.manifest("harbour/app", "14-web").unwrap()), ["amd64 web", "arm64 web"]);
    assert_eq!(
        listed(&registry.manifest("harbour/app", "14-tides").unwrap()),
        ["amd64 tides", "arm64 tides"]
    );
    let verified = program.succeed(&format!("verify {at}:14"));
    assert_eq!(verified.stdout.matches("record").count(), 2, "{verified}");

    // In a layout each tag is there once, and leads to an index of platforms.
    let top: Value = serde_json::from_slice(&fs::read(program.path("layout/index.json")).unwrap()).unwrap();
    let tags: Vec<&str> = top["manifests"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["annotations"]["org.opencontainers.image.ref.name"].as_str().unwrap())
        .collect();
    assert_eq!(tags, ["latest", "latest-tides"]);
    // Wherever it is taken from, it is the same image.
    let digest = program.json("show app")["digest"].clone();
    for image in ["layout", "app.tar", &format!("{at}:14")] {
        let shown = program.json(&format!("show {image} --store {}", program.path("other").display()));
        assert_eq!(shown["digest"], digest, "{image}");
        assert_eq!(shown["other_platforms"].as_array().unwrap().len(), 1, "{image}");
    }
    // What older programs read has the platform of the first.
    let mut archive = tar::Archive::new(fs::File::open(program.path("app.tar")).unwrap());
    let older = archive
        .entries()
        .unwrap()
        .map(Result::unwrap)
        .find(|one| one.path().unwrap().ends_with("manifest.json"));
    let older: Value = serde_json::from_reader(older.unwrap()).unwrap();
    assert_eq!(older.as_array().unwrap().len(), 2, "{older}");

    // A layout for one platform in its place leaves nothing of the others.
    let _ = program.succeed("build app --layout layout");
    let blobs: BTreeSet<_> = fs::read_dir(program.path("layout/blobs/sha256"))
        .unwrap()
        .flatten()
        .map(|one| one.file_name())
        .collect();
    let _ = program.succeed("build app --layout fresh");
    let fresh: BTreeSet<_> = fs::read_dir(program.path("fresh/blobs/sha256"))
        .unwrap()
        .flatten()
        .map(|one| one.file_name())
        .collect();
    assert_eq!(blobs, fresh);
}

#[test]
fn each_platform_is_pinned_and_built_as_it_is_alone() {
    let program = ready();
    let _ = program.succeed(&format!("build app --platform {BOTH}"));
    let pins = fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    assert!(pins.contains("linux/amd64") && pins.contains("linux/arm64"), "{pins}");
    let both = program.json("show app");
    let again = program.json(&format!("build app --platform {BOTH} --locked --offline"));
    assert_eq!(again["unchanged"], true, "{again}");
    for (platform, variants) in
        [("linux/amd64", &both["variants"]), ("linux/arm64", &both["other_platforms"][0]["variants"])]
    {
        let alone = program.json(&format!("build app --platform {platform} --tag alone --locked"));
        let shown = program.json(&format!("show app:alone --platform {platform}"));
        assert_eq!(shown["variants"][0]["digest"], variants[0]["digest"], "{alone}");
        assert_eq!(shown["variants"][1]["digest"], variants[1]["digest"]);
    }
    let record = program.json("show app --record --platform linux/arm64");
    assert_eq!(record["platform"], "linux/arm64");
    assert!(
        error_of(&program.run("show app:alone --platform linux/amd64"))
            .contains("is not built for linux/amd64")
    );
    let preview = program.json(&format!("build app --platform {BOTH} --dry-run"));
    assert_eq!(preview["other_platforms"][0]["platform"], "linux/arm64");
    // The evidence has a list for each.
    let _ = program.succeed("evidence app evidence");
    let files: BTreeSet<String> = fs::read_dir(program.path("evidence"))
        .unwrap()
        .map(|one| one.unwrap().file_name().into_string().unwrap())
        .collect();
    assert!(
        files.contains("packages-linux-arm64.cdx.json") && files.contains("packages-linux-amd64.spdx.json")
    );
    let _ = program.succeed("verify app --evidence evidence");
}

#[test]
fn what_runs_programs_is_refused_for_another_platform_before_anything_runs() {
    let program = ready();
    program.write("host/package.json", r#"{"scripts":{"start":"node server.js"}}"#);
    program.write("host/server.js", "");
    let said = program.run(&format!("build host --value base.from=host --platform {BOTH}"));
    assert_eq!(said.code, 2, "{said}");
    assert!(said.stderr.contains("linux/arm64"), "{said}");
}
