//! Bases that are foreign images, from a stand-in registry and from layouts.

use crate::program;
use serde_json::{Value, json};
use testkit::archives::{gzip, sha256_hex, tar_archive};
use testkit::program::Program;
use testkit::registry::{Registry, Reply};

/// An image: blobs by digest, the manifest of one platform, and a list of manifests.
pub struct Image {
    pub blobs: Vec<(String, Vec<u8>)>,
    pub manifest: (String, Vec<u8>),
    pub index: Vec<u8>,
}

pub fn digest(bytes: &[u8]) -> String {
    format!("sha256:{}", sha256_hex(bytes))
}

/// Two layers, the upper of which takes something away, with Node of this version.
pub fn ferry_base(version: &str) -> Image {
    ferry_base_with(version, &[("usr/bin/.wh.ruby", ""), ("usr/local/bin/fog", "horn")])
}

/// The same, with other files in the upper layer.
fn ferry_base_with(version: &str, upper: &[(&str, &str)]) -> Image {
    let [major, minor, patch] = version.splitn(3, '.').collect::<Vec<_>>().try_into().unwrap();
    let header = format!(
        "#define NODE_MAJOR_VERSION {major}\n#define NODE_MINOR_VERSION {minor}\n#define NODE_PATCH_VERSION {patch}\n"
    );
    let tar = |files: &[(&str, &str)]| {
        tar_archive(
            &files.iter().map(|(path, text)| ((*path).to_owned(), text.as_bytes().to_vec())).collect(),
        )
    };
    let lower = tar(&[
        ("usr/local/bin/node", "node of the image"),
        ("usr/local/include/node/node_version.h", &header),
        ("usr/bin/ruby3.3", "taken away above"),
        ("usr/bin/ruby", "taken away above"),
        ("etc/motd", &"welcome aboard ".repeat(20_000)),
    ]);
    let upper = tar(upper);
    let layers = [gzip(&lower), upper.clone()];
    let config = json!({
        "architecture": "amd64", "os": "linux", "history": [],
        "config": { "Env": ["PATH=/usr/local/bin:/usr/bin", "HARBOUR=kestrel"], "Labels": null },
        "rootfs": { "type": "layers", "diff_ids": [digest(&lower), digest(&upper)] },
    });
    let config = serde_json::to_vec(&config).unwrap();
    let part =
        |kind: &str, bytes: &[u8]| json!({ "mediaType": kind, "digest": digest(bytes), "size": bytes.len() });
    let manifest = json!({
        "schemaVersion": 2,
        "config": part("application/vnd.oci.image.config.v1+json", &config),
        "layers": [
            part("application/vnd.oci.image.layer.v1.tar+gzip", &layers[0]),
            part("application/vnd.oci.image.layer.v1.tar", &layers[1]),
        ],
    });
    let manifest = serde_json::to_vec(&manifest).unwrap();
    let of = |architecture: &str, bytes: &[u8]| {
        let mut entry = part("application/vnd.oci.image.manifest.v1+json", bytes);
        entry["platform"] = json!({ "architecture": architecture, "os": "linux" });
        entry
    };
    let index = json!({ "schemaVersion": 2, "manifests": [of("riscv64", b"no"), of("amd64", &manifest)] });
    let blobs = [&config, &layers[0], &layers[1]].map(|bytes| (digest(bytes), bytes.clone())).into();
    Image { blobs, manifest: (digest(&manifest), manifest), index: serde_json::to_vec(&index).unwrap() }
}

pub fn offer(registry: &Registry, image: &Image) {
    registry.answer("/v2/ferry/base/manifests/1", vec![Reply::of(image.index.clone())]);
    let (digest, manifest) = &image.manifest;
    registry.answer(&format!("/v2/ferry/base/manifests/{digest}"), vec![Reply::of(manifest.clone())]);
    for (digest, blob) in &image.blobs {
        registry.answer(&format!("/v2/ferry/base/blobs/{digest}"), vec![Reply::of(blob.clone())]);
    }
}

fn read(program: &Program, path: &str) -> String {
    std::fs::read_to_string(program.path(path)).unwrap()
}

pub fn app_on(reference: &str) -> Program {
    let program = program();
    program.write("app/package.json", r#"{"scripts":{"start":"node server.js"},"engines":{"node":">=20"}}"#);
    program.write("app/server.js", "");
    program.write("app/shtetl.toml", format!("[base]\nfrom = \"oci:{reference}\"\n"));
    program
}

#[test]
fn an_image_for_the_platform_is_pulled_looked_into_and_pinned() {
    let (registry, image) = (Registry::start(), ferry_base("22.1.0"));
    offer(&registry, &image);
    let program = app_on(&format!("{}/ferry/base:1", registry.host()));
    let _ = program.succeed("build app --layout image");
    let lock = read(&program, "app/shtetl.lock");
    assert!(lock.contains(&format!("manifest = \"{}\"", image.manifest.0)), "{lock}");
    let survey = program.json("survey app");
    assert_eq!(survey["provisions"][0]["version"], "22.1.0");
    assert_eq!(survey["provisions"][0]["said"], "usr/local/include/node/node_version.h");

    // The compressed layer is the very blob; the plain one is compressed, and its contents stay.
    let index: Value = serde_json::from_str(&read(&program, "image/index.json")).unwrap();
    let blob = |digest: &Value| {
        let hex = digest.as_str().unwrap().trim_start_matches("sha256:").to_owned();
        serde_json::from_str::<Value>(&read(&program, &format!("image/blobs/sha256/{hex}"))).unwrap()
    };
    let manifest = blob(&index["manifests"][0]["digest"]);
    assert_eq!(manifest["layers"][0]["digest"], image.blobs[1].0);
    assert_eq!(manifest["layers"].as_array().unwrap().len(), 4);
    let env = blob(&manifest["config"]["digest"])["config"]["Env"].clone();
    let env: Vec<&str> = env.as_array().unwrap().iter().map(|line| line.as_str().unwrap()).collect();
    assert!(env.contains(&"HARBOUR=kestrel"), "{env:?}");
    assert!(env.contains(&"PATH=/app/node_modules/.bin:/usr/local/bin:/usr/bin"), "{env:?}");

    // What the tag stands for now does not matter to a pinned build, and what is in the store is not asked for.
    offer(&registry, &ferry_base("24.0.0"));
    let first = program.json("build app")["digest"].clone();
    assert_eq!(program.json("build app --locked --offline")["digest"], first);
    let said = program.succeed("build app --update").stderr;
    assert!(said.contains("moved in shtetl.lock: node 22.1.0 to 24.0.0"), "{said}");

    program.edit(
        "app/shtetl.toml",
        "[base]",
        "[buildpacks]\norder = [\"ruby\"]\n[process.web]\nrun = \"ruby a.rb\"\n[base]",
    );
    program.write("app/Gemfile", "");
    program.write("app/a.rb", "");
    let said = program.run("build app");
    assert!(said.stderr.contains("has no ruby"), "what an upper layer takes away is not there: {said}");
    program.edit("app/shtetl.toml", "\"ruby\"", "\"node\"");
    let said = program.run("build app --platform linux/arm64");
    assert!(said.stderr.contains("for linux/arm64"), "{said}");
}

#[test]
fn a_layer_that_leads_out_of_the_image_is_refused_when_it_is_built_upon() {
    for hostile in ["../../etc/cron.d/x", "/etc/cron.d/x"] {
        let (registry, image) = (Registry::start(), ferry_base_with("22.1.0", &[(hostile, "x")]));
        offer(&registry, &image);
        let program = app_on(&format!("{}/ferry/base:1", registry.host()));
        let said = program.run("build app --layout image");
        assert!(said.code == 1 && said.stderr.contains("is not safe to unpack"), "{said}");
        assert!(!program.path("image").exists());
    }
}

#[test]
fn a_layout_is_a_base_too() {
    let (program, image) = (app_on("../base"), ferry_base("22.1.0"));
    program.write("base/oci-layout", r#"{"imageLayoutVersion":"1.0.0"}"#);
    program.write("base/index.json", &image.index);
    for (digest, bytes) in image.blobs.iter().chain([&image.manifest]) {
        program.write(&format!("base/blobs/sha256/{}", &digest[7..]), bytes);
    }
    let first = program.json("build app")["digest"].clone();
    program.write(&format!("base/blobs/sha256/{}", &image.blobs[1].0[7..]), "other bytes");
    assert_eq!(program.json("build app --offline")["digest"], first, "the store has all of it");
    let said = program.run("--store other build app");
    assert!(said.stderr.contains("does not have the expected hash"), "{said}");
}

#[test]
fn trouble_on_the_way_is_waited_out_and_nothing_comes_twice() {
    let image = ferry_base("22.1.0");
    let (digest, layer) = image.blobs[1].clone();
    let elsewhere = Registry::start();
    let moved = format!("{}/moved", elsewhere.url());
    let (whole, cut) = (layer.clone(), layer.len() / 2);
    // The other server knows parts: the first answer is cut, the second goes on from there.
    let parts = Registry::guarded(move |request| {
        let from = request
            .iter()
            .find_map(|line| line.strip_prefix("range: bytes=")?.strip_suffix('-')?.parse().ok());
        Some(match from {
            None => Reply { cut_after: Some(cut), ..Reply::of(whole.clone()) },
            Some(from) => {
                let range = format!("content-range: bytes {from}-{}/{}", whole.len() - 1, whole.len());
                Reply { status: 206, ..Reply::of(&whole[from..]).with(&range) }
            }
        })
    });
    let registry = Registry::start();
    offer(&registry, &image);
    let busy = Reply::status(429).with("Retry-After: 0");
    registry.answer(
        "/v2/ferry/base/manifests/1",
        vec![Reply::status(503).with("Retry-After: 0"), busy, Reply::of(image.index.clone())],
    );
    let path = format!("/v2/ferry/base/blobs/{digest}");
    registry.answer(&path, vec![Reply::status(307).with(&format!("Location: {}/layer", parts.url()))]);
    let program = app_on(&format!("{}/ferry/base:1", registry.host()));
    let _ = program.succeed("build app");
    let ranges: Vec<bool> =
        parts.requests("/layer").iter().map(|r| r.iter().any(|l| l.starts_with("range:"))).collect();
    assert_eq!(ranges, [false, true]);

    // A server that knows no parts sends all again; what was there already is passed over.
    registry
        .answer(&path, vec![Reply { cut_after: Some(cut), ..Reply::of(layer.clone()) }, Reply::of(layer)]);
    let _ = program.succeed("--store second build app");
    let wrong = image.blobs[1].1.iter().map(|byte| byte ^ 1).collect::<Vec<u8>>();
    registry.answer(&path, vec![Reply::of(wrong)]);
    let said = program.run("--store third build app");
    assert!(said.stderr.contains("serves content that does not match its own documents"), "{said}");
    registry.answer(&path, vec![Reply::of("other bytes")]);
    let said = program.run("--store third build app");
    assert_eq!(said.code, 3, "{said}");
    registry.answer(&path, vec![Reply::status(302).with(&format!("Location: {moved}"))]);
    let said = program.run("--store third build app");
    assert!(said.stderr.contains("not found at"), "{said}");
}

/// A registry that lets in whoever has the token that another address gives to ada.
fn with_tokens(scheme: &'static str) -> Registry {
    let authority = Registry::guarded(|request| {
        let knows = request.iter().any(|line| line == "authorization: basic ywrhomh1bnrlcji=");
        Some(if knows { Reply::of(r#"{"token":"let-ada-in"}"#) } else { Reply::status(401) })
    });
    let realm = format!("{}/token", authority.url());
    // It lives as long as the test.
    std::mem::forget(authority);
    Registry::guarded(move |request| {
        let wanted = match scheme {
            "Bearer" => "authorization: bearer let-ada-in",
            _ => "authorization: basic ywrhomh1bnrlcji=",
        };
        if request.iter().any(|line| line == wanted) {
            return None;
        }
        let challenge = format!("WWW-Authenticate: {scheme} realm=\"{realm}\",service=\"ferry\"");
        Some(Reply::status(401).with(&challenge))
    })
}

#[test]
fn credentials_are_found_used_and_never_shown() {
    for scheme in ["Bearer", "Basic"] {
        let (registry, image) = (with_tokens(scheme), ferry_base("22.1.0"));
        offer(&registry, &image);
        let program = app_on(&format!("{}/ferry/base:1", registry.host()));
        let said = program.run("build app");
        assert_eq!(said.code, 3, "{said}");
        assert!(said.stderr.contains("requires credentials"), "{said}");

        // "ada:hunter2" in a file of the user, then from a program that the file names.
        let auths = json!({ "auths": { registry.host(): { "auth": "YWRhOmh1bnRlcjI=" } } });
        program.write("home/.config/containers/auth.json", auths.to_string());
        let shown = program.succeed("build app");
        assert!(!format!("{shown}").contains("hunter2"), "{shown}");

        program.write("home/.config/containers/auth.json", json!({ "credsStore": "harbour" }).to_string());
        let said = program.run("--store second build app");
        assert!(said.stderr.contains("there is no such program"), "{said}");
        program.write(
            "bin/docker-credential-harbour",
            "#!/bin/sh\nread host\necho '{\"Username\":\"ada\",\"Secret\":\"hunter2\"}'\n",
        );
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(program.path("bin/docker-credential-harbour"), mode).unwrap();
        let folder = program.path("bin").display().to_string();
        let program = program.with("PATH", &folder);
        let _ = program.succeed("--store third build app");
        program.write("home/.config/containers/auth.json", r#"{"auths": 3}"#);
        let said = program.run("--store second build app");
        assert_eq!(said.code, 2, "{said}");
        assert!(said.stderr.contains("cannot read credentials"), "{said}");
        program.write("named.json", auths.to_string());
        let file = program.path("named.json").display().to_string();
        let _ = program.with("REGISTRY_AUTH_FILE", &file).succeed("--store fourth build app");
    }
}

#[test]
fn what_names_no_image_is_told() {
    for (reference, told) in [
        ("ferry/base:1", "it does not begin with a registry, and none is assumed"),
        ("quay.example/Ferry", "a name has lower-case letters"),
        ("quay.example/base@md5:1", "there must be a SHA-256 digest"),
        ("./nowhere", "not found at"),
    ] {
        let said = app_on(reference).run("build app");
        assert_eq!(said.stderr.lines().filter(|line| line.starts_with("error")).count(), 1, "{said}");
        assert!(said.stderr.contains(told), "{said}");
    }
}
