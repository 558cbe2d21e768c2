//! Sources of bases that lie: registries of images, and archives of Debian packages that a known key has signed.

use crate::base_images::{Image, app_on, digest, ferry_base, offer};
use crate::debian::with_archive;
use crate::lying_registry::{Comes, Error, Right, assert_none, wrong};
use serde_json::{Value, json};
use std::thread;
use testkit::debian::{Item, Package, Signer, harbour_packages};
use testkit::registry::{Registry, Reply};

/// Changes the manifest of an image, or the registry that already has all of the true one.
enum ImageLie {
    Manifest(fn(&mut Value)),
    Config(fn(&mut Value)),
    Registry(fn(&Registry, &Image)),
}

use ImageLie::{Config, Manifest};

fn blob(registry: &Registry, image: &Image, number: usize, bytes: Vec<u8>) {
    registry.answer(&format!("/v2/ferry/base/blobs/{}", image.blobs[number].0), vec![Reply::of(bytes)]);
}

const IMAGES: [(&str, Comes, ImageLie); 26] = [
    ("the truth", Right, Manifest(|_| {})),
    (
        "another configuration",
        Error,
        ImageLie::Registry(|registry, image| blob(registry, image, 0, b"{}".to_vec())),
    ),
    (
        "another layer",
        Error,
        ImageLie::Registry(|registry, image| blob(registry, image, 1, b"ferry".to_vec())),
    ),
    ("an empty layer", Error, ImageLie::Registry(|registry, image| blob(registry, image, 1, Vec::new()))),
    (
        "a layer that is cut",
        Error,
        ImageLie::Registry(|registry, image| {
            blob(registry, image, 1, image.blobs[1].1[..100].to_vec());
        }),
    ),
    (
        "a layer that does not end",
        Error,
        ImageLie::Registry(|registry, image| {
            let endless = [image.blobs[2].1.clone(), vec![0; 1 << 20]].concat();
            blob(registry, image, 2, endless);
        }),
    ),
    (
        "another manifest than the index says",
        Error,
        ImageLie::Registry(|registry, image| {
            let path = format!("/v2/ferry/base/manifests/{}", image.manifest.0);
            registry.answer(&path, vec![Reply::of("{\"schemaVersion\":2,\"layers\":[]}")]);
        }),
    ),
    (
        "an index that is a list",
        Error,
        ImageLie::Registry(|registry, _| {
            registry.answer("/v2/ferry/base/manifests/1", vec![Reply::of("[]")]);
        }),
    ),
    (
        "an index that is deep",
        Error,
        ImageLie::Registry(|registry, _| {
            registry.answer("/v2/ferry/base/manifests/1", vec![Reply::of("[".repeat(200_000))]);
        }),
    ),
    (
        "an index without images",
        Error,
        ImageLie::Registry(|registry, _| {
            registry.answer("/v2/ferry/base/manifests/1", vec![Reply::of("{\"manifests\":[]}")]);
        }),
    ),
    (
        "an index that leads up",
        Error,
        ImageLie::Registry(|registry, _| {
            let entry = json!({ "manifests": [{ "digest": "sha256:../../../out", "size": 2,
            "platform": { "architecture": "amd64", "os": "linux" } }] });
            registry.answer("/v2/ferry/base/manifests/1", vec![Reply::of(entry.to_string())]);
        }),
    ),
    (
        "a page to sign in",
        Error,
        ImageLie::Registry(|registry, _| {
            registry
                .answer("/v2/ferry/base/manifests/1", vec![Reply::of("<html><body>sign in</body></html>")]);
        }),
    ),
    ("no layers", Error, Manifest(|manifest| manifest["layers"] = json!([]))),
    ("layers that are a text", Error, Manifest(|manifest| manifest["layers"] = json!("all"))),
    (
        "a layer twice",
        Error,
        Manifest(|manifest| {
            let first = manifest["layers"][0].clone();
            manifest["layers"].as_array_mut().unwrap().push(first);
        }),
    ),
    (
        "layers in another order",
        Error,
        Manifest(|manifest| manifest["layers"].as_array_mut().unwrap().reverse()),
    ),
    (
        "a digest of a kind that nobody has",
        Error,
        Manifest(|manifest| {
            manifest["layers"][0]["digest"] = "md99:00".into();
        }),
    ),
    (
        "a digest that leads up",
        Error,
        Manifest(|manifest| {
            manifest["layers"][0]["digest"] = "sha256:../../../../out".into();
        }),
    ),
    ("a size that is wrong", Error, Manifest(|manifest| manifest["layers"][0]["size"] = 5.into())),
    ("a size below zero", Error, Manifest(|manifest| manifest["layers"][0]["size"] = (-1).into())),
    (
        "a layer of a kind that is none",
        Error,
        Manifest(|manifest| {
            manifest["layers"][0]["mediaType"] = "application/vnd.harbour.fog".into();
        }),
    ),
    (
        "a layer that is elsewhere",
        Error,
        Manifest(|manifest| {
            manifest["layers"][0]["digest"] = digest(b"elsewhere").into();
            manifest["layers"][0]["urls"] = json!(["file:///etc/passwd"]);
        }),
    ),
    (
        "other contents than the configuration says",
        Error,
        Config(|config| {
            config["rootfs"]["diff_ids"][0] = digest(b"other").into();
        }),
    ),
    (
        "fewer contents than layers",
        Error,
        Config(|config| {
            config["rootfs"]["diff_ids"].as_array_mut().unwrap().pop();
        }),
    ),
    ("another platform inside", Error, Config(|config| config["architecture"] = "riscv64".into())),
    ("variables that are none", Error, Config(|config| config["config"]["Env"] = json!(["PATH", "=x", 5]))),
];

/// Puts another configuration into an image, and tells its manifest and index of it.
fn retold(image: &Image, lie: &ImageLie) -> Image {
    let mut manifest: Value = serde_json::from_slice(&image.manifest.1).unwrap();
    let mut blobs = image.blobs.clone();
    match lie {
        Manifest(change) => change(&mut manifest),
        Config(change) => {
            let mut config: Value = serde_json::from_slice(&blobs[0].1).unwrap();
            change(&mut config);
            let bytes = config.to_string().into_bytes();
            manifest["config"]["digest"] = digest(&bytes).into();
            manifest["config"]["size"] = bytes.len().into();
            blobs[0] = (digest(&bytes), bytes);
        }
        ImageLie::Registry(_) => {}
    }
    let manifest = serde_json::to_vec(&manifest).unwrap();
    let mut index: Value = serde_json::from_slice(&image.index).unwrap();
    index["manifests"][1]["digest"] = digest(&manifest).into();
    index["manifests"][1]["size"] = manifest.len().into();
    Image { blobs, manifest: (digest(&manifest), manifest), index: serde_json::to_vec(&index).unwrap() }
}

#[test]
fn registries_of_images_that_lie_do_no_harm() {
    // Some are asked for again after a pause, so they go side by side.
    let problems: Vec<String> = thread::scope(|scope| {
        let lies = IMAGES.map(|(what, comes, lie)| scope.spawn(move || image_that_lies(what, comes, &lie)));
        lies.into_iter().filter_map(|lie| lie.join().unwrap()).collect()
    });
    assert_none(&problems);
}

fn image_that_lies(what: &str, comes: Comes, lie: &ImageLie) -> Option<String> {
    let registry = Registry::start();
    let image = retold(&ferry_base("22.1.0"), lie);
    offer(&registry, &image);
    if let ImageLie::Registry(change) = lie {
        change(&registry, &image);
    }
    let program = app_on(&format!("{}/ferry/base:1", registry.host()));
    wrong(what, comes, &program, "build app --layout image")
}

/// Changes the packages of an archive, and gives further lines of its release.
type ArchiveLie = fn(&mut Vec<Package>) -> &'static str;

/// Gives the package of this name these further fields.
fn fields(packages: &mut [Package], name: &str, fields: &str) {
    packages.iter_mut().find(|package| package.name == name).unwrap().fields = fields.to_owned();
}

const ARCHIVES: [(&str, Comes, ArchiveLie); 16] = [
    ("the truth", Right, |_| ""),
    ("a package that needs itself", Right, |packages| {
        fields(packages, "netbase", "Depends: netbase");
        ""
    }),
    ("a circle", Right, |packages| {
        fields(packages, "netbase", "Depends: tzdata");
        fields(packages, "tzdata", "Depends: netbase");
        ""
    }),
    ("a need that nobody meets", Error, |packages| {
        fields(packages, "libc6", "Depends: fog-horn");
        ""
    }),
    ("a need that leads up", Error, |packages| {
        fields(packages, "libc6", "Depends: ../../out (>= 1)");
        ""
    }),
    // It is read as needing nothing.
    ("a need in no form", Right, |packages| {
        fields(packages, "libc6", "Depends: ((((, |");
        ""
    }),
    ("another file", Error, |packages| {
        fields(packages, "netbase", "Filename: ../../app/package.json");
        ""
    }),
    ("another digest", Error, |packages| {
        fields(packages, "netbase", &format!("SHA256: {}", "0".repeat(64)));
        ""
    }),
    ("another size", Error, |packages| {
        fields(packages, "netbase", "Size: 99999999999999999999");
        ""
    }),
    ("a name that leads up", Right, |packages| {
        packages.push(Package::new("..", "1", "", &[]));
        ""
    }),
    ("a version that leads up", Right, |packages| {
        let netbase = packages.iter_mut().find(|package| package.name == "netbase").unwrap();
        netbase.version = "1/../../../out".to_owned();
        ""
    }),
    ("a name twice", Right, |packages| {
        packages.push(Package::new("netbase", "6.4", "", &[]));
        ""
    }),
    // It is told; see below.
    ("a file of another package", Right, |packages| {
        packages.push(Package::new("fog", "1", "", &[("./etc/services", "fog")]));
        fields(packages, "libc6", "Depends: libgcc-s1, fog");
        ""
    }),
    ("a link that is itself", Right, |packages| {
        packages[8] = Package::new("netbase", "6.5", "", &[]).with("./opt", Item::Link("opt".into()));
        ""
    }),
    ("a release that is no longer valid", Error, |_| "Valid-Until: Sat, 01 Nov 2025 00:00:00 UTC\n"),
    ("a release until a day that is none", Error, |_| "Valid-Until: tomorrow\n"),
];

#[test]
fn signed_archives_that_lie_do_no_harm() {
    let mut problems = Vec::new();
    let signer = Signer::new();
    for (what, comes, lie) in ARCHIVES {
        let mut packages = harbour_packages();
        let more = lie(&mut packages);
        let program = with_archive(&signer, &packages, more);
        problems.extend(wrong(what, comes, &program, "build app"));
    }
    assert_none(&problems);
}

#[test]
fn a_file_that_two_packages_have_is_told() {
    let mut packages = harbour_packages();
    packages.push(Package::new("fog", "1", "", &[("./etc/services", "fog")]));
    fields(&mut packages, "libc6", "Depends: libgcc-s1, fog");
    let said = with_archive(&Signer::new(), &packages, "").succeed("build app").stderr;
    let told = "etc/services is in two packages, fog and netbase; the one from netbase is used";
    assert!(said.contains(told), "{said}");
}
