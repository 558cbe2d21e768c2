//! Maven projects, with a stand-in for the JDK that fetches through the gateway as Maven does.

use crate::debian::{error_of, layer, with_archive, with_stand_in, workshop_packages};
use std::fs;
use testkit::archives::tarball;
use testkit::debian::{Item, Package, Signer};
use testkit::program::Program;
use testkit::registry::{Registry, Reply};

/// Where the JDK of the base has its programs, for this machine's processor.
fn java() -> String {
    let processor = model::platform::own_platform();
    let processor = processor.rsplit('/').next().unwrap();
    format!("./usr/lib/jvm/java-21-openjdk-{processor}/bin/java")
}

fn jre() -> Package {
    with_stand_in("openjdk-21-jre-headless", &java(), "stand-in-maven")
        .with("./usr/bin/java", Item::Link(java()[1..].to_owned()))
}

const JAR: &str = "org/kestrel/horn/1.0/horn-1.0.jar";

/// An app whose build fetches these files, which the registry has but for the optional ones.
fn app(fetched: &[&str]) -> (Program, Registry) {
    let mut packages = workshop_packages();
    packages.push(jre());
    packages.push(with_stand_in("dash", "./usr/bin/sh", "stand-in-maven"));
    let jdk = Package::new("openjdk-21-jdk-headless", "21.0.13", "Depends: openjdk-21-jre-headless", &[]);
    let modules = [module("java.sql", "java/sql/Driver"), module("java.rmi", "java/rmi/Remote")];
    packages.push(modules.into_iter().fold(jdk, |jdk, (path, item)| jdk.with(&path, item)));
    let libraries = ["libjpeg62-turbo", "liblcms2-2", "libstdc++6", "zlib1g"];
    packages.extend(libraries.map(|name| Package::new(name, "1", "", &[])));
    let program = with_archive(&Signer::new(), &packages, "");
    let registry = Registry::start();
    let folder = "/org/apache/maven/apache-maven";
    let versions =
        "<metadata><version>3.9.8</version><version>3.9.16</version><version>4.0.0</version></metadata>";
    registry.answer(&format!("{folder}/maven-metadata.xml"), vec![Reply::of(versions)]);
    let maven = tarball(&vec![("apache-maven-3.9.16/bin/m2.conf".to_owned(), b"main".to_vec())]);
    registry.answer(&format!("{folder}/3.9.16/apache-maven-3.9.16-bin.tar.gz"), vec![Reply::of(maven)]);
    for path in fetched.iter().filter(|path| !path.ends_with(".optional")) {
        registry.answer(&format!("/{path}"), vec![Reply::of(format!("content of {path}"))]);
    }
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("java/shtetl.toml", format!("{config}maven = \"{}\"\n", registry.url()));
    program.write("java/src/Main.java", "class Main");
    write_pom(&program, fetched, "");
    (program, registry)
}

fn write_pom(program: &Program, fetched: &[&str], more: &str) {
    let elements: String = fetched.iter().map(|path| format!("<fetch>{path}</fetch>")).collect();
    program.write(
        "java/pom.xml",
        format!(
            "<project><artifactId>fog</artifactId><properties><java.version>21</java.version></properties>
<build><plugins><plugin><artifactId>spring-boot-maven-plugin</artifactId></plugin></plugins></build>
<x>{elements}{more}</x></project>"
        ),
    );
}

fn digest(program: &Program, command: &str) -> String {
    program.json(command)["digest"].as_str().unwrap().to_owned()
}

#[test]
fn what_maven_fetches_is_recorded_once_and_replayed_from_then_on() {
    let fetched = [JAR, "org/kestrel/horn/1.0/horn-1.0.pom", "org/kestrel/mist/1.0/mist-1.0.optional"];
    let (program, registry) = app(&fetched);
    let recorded = digest(&program, "build java --layout image");
    let lock = fs::read_to_string(program.path("java/shtetl.lock")).unwrap();
    for line in [
        "[fetched.\"java build\"]".to_owned(),
        format!("path = \"{JAR}\", size = {}", format!("content of {JAR}").len()),
        "path = \"org/kestrel/mist/1.0/mist-1.0.optional\" }".to_owned(),
        "name = \"org.apache.maven:apache-maven\", version = \"3.9.16\"".to_owned(),
    ] {
        assert!(lock.contains(&line), "{line}: {lock}");
    }
    assert_eq!(registry.count(&format!("/{JAR}")), 1);
    // Nothing changed: nothing runs, nobody is asked.
    let second = program.json("build java --offline");
    assert!(second["steps"].as_array().unwrap().iter().all(|step| step["because"].is_null()), "{second}");
    // From an empty store, with what is pinned, the same comes out; then without anybody to ask.
    assert_eq!(digest(&program, "build java --store other"), recorded);
    drop(registry);
    program.write("java/src/Main.java", "class Main2");
    let changed = digest(&program, "build java --offline");
    assert_ne!(changed, recorded);
    program.write("java/src/Main.java", "class Main");
    assert_eq!(digest(&program, "build java --offline"), recorded);
}

#[test]
fn libraries_have_a_layer_of_their_own_and_are_packages_of_the_record() {
    let pom = JAR.replace(".jar", ".pom");
    let (program, registry) = app(&[JAR, &pom]);
    let licence = "<project><licenses><license><name>MIT</name></license></licenses></project>";
    registry.answer(&format!("/{pom}"), vec![Reply::of(licence)]);
    let _ = program.succeed("build java --layout image");
    let layers: Vec<String> = (0..5)
        .map(|number| layer(&program.path("image"), number).0)
        .filter(|listing| listing.contains(" app"))
        .collect();
    let [libraries, _, own] = &layers[..] else { panic!("{layers:#?}") };
    assert!(libraries.contains("app/lib/horn-1.0.jar") && !libraries.contains("classes"), "{libraries}");
    let own: Vec<&str> = own.lines().map(|line| line.rsplit(' ').next().unwrap()).collect();
    assert_eq!(
        own,
        ["app/", "app/classes/", "app/classes/ferry/", "app/classes/ferry/Main.class", "app/start.args"]
    );
    let record = program.json("show java").to_string();
    for part in ["pkg:maven/org.kestrel/horn@1.0", "\"licence\":\"MIT\""] {
        assert!(record.contains(part), "{part}: {record}");
    }
    // The stand-in for Java says what it was started with.
    assert_eq!(program.succeed("run java").stdout, "@start.args\n");
}

#[test]
fn what_is_pinned_must_be_what_comes() {
    let (program, registry) = app(&[JAR]);
    let _ = program.succeed("build java");
    registry.answer(&format!("/{JAR}"), vec![Reply::of("something else")]);
    let error = error_of(&program.run("build java --store other"));
    assert!(error.contains("horn-1.0.jar") && error.contains("sha256"), "{error}");
    // Moved on purpose, and told.
    let said = program.succeed("build java --update").stderr;
    assert!(said.contains(&format!("maven/{JAR} is changed")), "{said}");
}

#[test]
fn more_is_recorded_when_the_project_says_something_else() {
    let (program, registry) = app(&[JAR]);
    let _ = program.succeed("build java");
    let more = "org/kestrel/rope/2.0/rope-2.0.jar";
    registry.answer(&format!("/{more}"), vec![Reply::of("rope")]);
    write_pom(&program, &[JAR, more], "");
    let refused = program.run("build java --locked");
    assert_eq!(refused.code, 1, "{refused}");
    let said = program.succeed("build java").stderr;
    assert!(said.contains(&format!("maven/{more} is new")), "{said}");
    assert_eq!(registry.count(&format!("/{JAR}")), 1, "what was pinned comes from the store");
}

#[test]
fn what_is_not_there_is_named() {
    let (program, _registry) = app(&[]);
    write_pom(&program, &["org/kestrel/gone/1.0/gone-1.0.jar"], "");
    let error = error_of(&program.run("build java"));
    assert!(
        error.contains("not found at the configured addresses:\n    maven/org/kestrel/gone/1.0/gone-1.0.jar"),
        "{error}"
    );
    let lock = fs::read_to_string(program.path("java/shtetl.lock")).unwrap();
    assert!(!lock.contains("fetched"), "a build that failed pins nothing: {lock}");
}

#[test]
fn a_step_reaches_nothing_but_the_gateway() {
    let (program, registry) = app(&[]);
    let host = registry.host();
    let port = host.rsplit(':').next().unwrap();
    let targets = [host.clone(), "packages.example:443".to_owned(), format!("[::1]:{port}")];
    let tries: String = targets.iter().map(|target| format!("<try>connect {target}</try>")).collect();
    write_pom(&program, &["org/kestrel/gone/1.0/gone-1.0.jar"], &tries);
    let error = error_of(&program.run("build java"));
    for target in targets {
        assert!(error.contains(&format!("connect {target}: no way")), "{error}");
    }
}

#[test]
fn the_gateway_gives_only_files_of_the_kinds_that_a_step_fetches() {
    let (program, registry) = app(&[]);
    let host = registry.host();
    for asked in [
        "GET /maven/../secret".to_owned(),
        "GET /maven/%2e%2e/secret".to_owned(),
        "POST /maven/secret".to_owned(),
        format!("GET http://{host}/secret"),
        format!("CONNECT {host}"),
    ] {
        write_pom(&program, &[], &format!("<try>{asked}</try>"));
        let error = error_of(&program.run("build java"));
        assert!(error.contains("made requests that cannot be pinned"), "{asked}: {error}");
        assert!(error.contains(&asked), "{error}");
    }
    write_pom(&program, &[], "<try>GET /npm/secret</try>");
    let error = error_of(&program.run("build java"));
    assert!(error.contains("requested npm files, which the step may not fetch"), "{error}");
    for path in ["/secret", "/maven/secret", "/npm/secret"] {
        assert_eq!(registry.count(path), 0, "{path}");
    }
}

#[test]
fn without_an_address_the_line_to_add_is_told_before_anything_runs() {
    let (program, _registry) = app(&[JAR]);
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("java/shtetl.toml", config);
    let error = error_of(&program.run("build java"));
    assert!(error.contains("maven = \"URL or folder\""), "{error}");
}

#[test]
fn an_archive_of_loaded_classes_is_the_same_from_empty_stores() {
    let (program, _registry) = app(&[JAR]);
    let config = fs::read_to_string(program.path("java/shtetl.toml")).unwrap();
    program.write("java/shtetl.toml", format!("{config}\n[buildpacks.java]\nfast-start = true\n"));
    let first = digest(&program, "build java --layout image");
    assert_eq!(digest(&program, "build java --store other"), first);
    let layers: Vec<String> = (0..6)
        .filter_map(|number| {
            let listing = layer(&program.path("image"), number).0;
            listing.contains(" app/").then_some(listing)
        })
        .collect();
    let files = layers.join("");
    for file in ["app/classes.jar\n", "app/start.jsa\n", "app/lib/horn-1.0.jar\n"] {
        assert!(files.contains(file), "{file}: {files}");
    }
    assert!(!files.contains("Main.class"), "it is in the archive: {files}");
    let other = match model::platform::own_platform().as_str() {
        "linux/amd64" => "linux/arm64",
        _ => "linux/amd64",
    };
    let error = error_of(&program.run(&format!("build java --platform {other}")));
    assert!(error.contains("fast-start for another platform"), "{error}");
}

/// The beginning of a class file with one constant.
fn class_that_names(class: &str) -> Vec<u8> {
    let length = u16::try_from(class.len()).unwrap().to_be_bytes();
    [b"\xCA\xFE\xBA\xBE\0\0\0\x41\0\x02\x01", &length[..], class.as_bytes()].concat()
}

/// A module of the JDK, as a package of its archive.
fn module(name: &str, class: &str) -> (String, Item) {
    let archive = testkit::archives::zip_archive(&vec![(format!("classes/{class}.class"), Vec::new())]);
    let folder = java().replace("/bin/java", "/jmods");
    (format!("{folder}/{name}.jmod"), Item::Program(archive))
}

#[test]
fn a_small_runtime_takes_the_place_of_the_one_of_the_base() {
    let (program, _registry) = app(&[JAR]);
    program.write("java/src/Main.java", class_that_names("java/sql/Driver"));
    let config = fs::read_to_string(program.path("java/shtetl.toml")).unwrap();
    let options = "small-runtime = true\njdk-modules = [\"jdk.jfr\"]\n";
    let config = format!("{config}\n[buildpacks.java]\n{options}");
    program.write("java/shtetl.toml", &config);
    let _ = program.succeed("build java --layout image");
    let files: String = (0..6).map(|number| layer(&program.path("image"), number).0).collect();
    assert!(files.contains("usr/bin/java -> /opt/java/bin/java"), "{files}");
    assert!(files.contains("opt/java/bin/java\n") && !files.contains("usr/lib/jvm"), "{files}");
    // What the classes name, what the configuration names, and nothing else.
    for (module, is_there) in [("java.sql", true), ("jdk.jfr", true), ("java.rmi", false)] {
        assert_eq!(files.contains(&format!("opt/java/modules/{module}\n")), is_there, "{module}: {files}");
    }
    let record = program.json("show java").to_string();
    assert!(record.contains("openjdk-21-jre-headless") && record.contains("21.0.13"), "{record}");
    program.write("java/shtetl.toml", config.replace("small-runtime = true\n", ""));
    let error = error_of(&program.run("build java"));
    assert!(error.contains("jdk-modules without small-runtime"), "{error}");
    // An archive that is already built has no such step.
    let manifest = ("META-INF/MANIFEST.MF".to_owned(), b"Main-Class: ferry.Main\n".to_vec());
    program.write("jar/fog.jar", testkit::archives::zip_archive(&vec![manifest]));
    program.write("jar/shtetl.toml", &config);
    let error = error_of(&program.run("build jar"));
    assert!(error.contains("small-runtime for an app that is not built with Maven"), "{error}");
}
