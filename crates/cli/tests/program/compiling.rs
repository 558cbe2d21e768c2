//! Packages that are built from their source, with stand-ins for Python and the shell that only write.

use crate::debian::{error_of, layer, with_archive, workshop_packages};
use std::fs;
use testkit::archives::{Files, npm_tarball, sha256_hex, sha512_integrity, tarball, wheel};
use testkit::debian::{Item, Package, Signer};
use testkit::host::program_that_writes;
use testkit::program::Program;

/// What the tools of the catalogue are made of, besides the workshop's.
const TOOLS: [&str; 8] = [
    "gcc-14",
    "build-essential",
    "pkgconf",
    "python3-dev",
    "libnode-dev",
    "python3",
    "libstdc++6",
    "libatomic1",
];

pub fn packages(python: Vec<u8>, shell: Vec<u8>) -> Vec<Package> {
    let mut packages = workshop_packages();
    packages.extend(TOOLS.map(|name| Package::new(name, "14", "", &[])));
    let python =
        Package::new("python3.13", "3.13.5-2", "", &[]).with("./usr/bin/python3.13", Item::Program(python));
    packages.push(python);
    packages.retain(|p| p.name != "dash");
    packages.push(Package::new("dash", "0.5", "", &[]).with("./usr/bin/sh", Item::Program(shell)));
    packages
}

fn text(path: &str, text: &str) -> (String, Vec<u8>) {
    (path.to_owned(), text.as_bytes().to_vec())
}

/// Offers files in the index, as packages of one project.
fn offer(program: &Program, project: &str, files: &[(&str, &[u8])]) {
    let link = |(name, bytes): &(&str, &[u8])| {
        program.write(&format!("index/{project}/{name}"), bytes);
        format!("<a href=\"{name}#sha256={}\">{name}</a>\n", sha256_hex(bytes))
    };
    let page: String = files.iter().map(link).collect();
    program.write(&format!("index/{project}/index.html"), page);
}

fn made_wheel(project: &str, version: &str) -> Vec<u8> {
    let metadata = format!("Metadata-Version: 2.1\nName: {project}\nVersion: {version}\nLicense: MIT\n");
    wheel(project, version, &vec![text(&format!("{project}.py"), "made = True\n")], &metadata, "")
}

/// An app that needs `fog`, of which there is only the source, whose build makes `made`.
fn python_app(made: &str) -> Program {
    let python = program_that_writes(&format!("/result/{made}"), made_wheel("fog", "2.0"));
    let program = with_archive(&Signer::new(), &packages(python, Vec::new()), "");
    program.write("app/app.py", "if __name__ == \"__main__\":\n    pass\n");
    fs::remove_file(program.path("app/package.json")).unwrap();
    program.write("app/requirements.txt", "fog\n");
    program.edit("app/shtetl.toml", "[addresses]", "[addresses]\npypi = \"../index\"");
    let metadata = "Metadata-Version: 2.2\nName: fog\nVersion: 2.0\nRequires-Dist: horn>=1\n";
    let system = "[build-system]\nrequires = [\"moulds>=1\"]\nbuild-backend = \"moulds\"\n";
    let source = tarball(&vec![text("fog-2.0/PKG-INFO", metadata), text("fog-2.0/pyproject.toml", system)]);
    offer(
        &program,
        "fog",
        &[("fog-2.0.tar.gz", &source), ("fog-1.0-py3-none-any.whl", &made_wheel("fog", "1.0"))],
    );
    offer(&program, "horn", &[("horn-1.5-py3-none-any.whl", &made_wheel("horn", "1.5"))]);
    offer(&program, "moulds", &[("moulds-1.2-py3-none-any.whl", &made_wheel("moulds", "1.2"))]);
    program
}

#[test]
fn a_python_package_without_a_wheel_is_built_and_what_builds_it_is_pinned() {
    let program = python_app("fog-2.0-py3-none-any.whl");
    let first = program.json("build app --layout image");
    let steps: Vec<&str> =
        first["steps"].as_array().unwrap().iter().map(|s| s["step"].as_str().unwrap()).collect();
    assert!(steps.contains(&"compile fog") && steps.contains(&"python packages"), "{steps:?}");
    let at = steps.iter().position(|step| *step == "compile fog").unwrap();
    let (listing, _) = layer(&program.path("image"), at);
    assert!(listing.contains("app/.venv/lib/python3.13/site-packages/fog.py\n"), "{listing}");
    assert!(!listing.contains("moulds"), "{listing}");
    let lock = fs::read_to_string(program.path("app/shtetl.lock")).unwrap();
    let pins: toml::Table = lock.parse().unwrap();
    let sets = pins["resolved"]["python"].as_table().unwrap();
    let to_build = sets.iter().find(|(target, _)| target.ends_with(" build:fog")).unwrap().1;
    assert_eq!(to_build["packages"][0]["name"].as_str(), Some("moulds"));
    assert!(lock.contains("source = true") && lock.contains("gcc-14"), "{lock}");
    let licence = program.json("show app")["record"]["packages"].to_string();
    assert!(licence.contains("pkg:pypi/fog@2.0"), "{licence}");
    // Pinned, it is the same from another store, where nothing says what is a source but the pins.
    let again = program.json("build app --locked --store other");
    assert_eq!(again["digest"], first["digest"]);
    assert!(program.succeed("build app --offline").stdout.contains("nothing ran"));
}

#[test]
fn a_build_that_makes_something_else_is_refused() {
    let mut errors = String::new();
    for made in ["horn-2.0-py3-none-any.whl", "fog-2.0-cp313-cp313-linux_sparc.whl", "fog-2.0.txt"] {
        errors.push_str(&error_of(&python_app(made).run("build app --jobs 1")));
    }
    insta::assert_snapshot!(errors, @"
    error: the archive of fog 2.0 cannot be used: its build produced horn-2.0-py3-none-any.whl, which is another package
    what to do: do not use it; ask the registry or the package's author
    more: shtetl explain package-damaged
    error: the archive of fog 2.0 cannot be used: its build produced fog-2.0-cp313-cp313-linux_sparc.whl, which is not for 3.13 x86_64 glibc 2.41
    what to do: do not use it; ask the registry or the package's author
    more: shtetl explain package-damaged
    error: the archive of fog 2.0 cannot be used: its build produced no wheel
    what to do: do not use it; ask the registry or the package's author
    more: shtetl explain package-damaged
    ");
    // There is nothing to build in.
    let program = python_app("fog-2.0-py3-none-any.whl");
    let locked = "fog @ https://packages.example/fog-2.0.tar.gz --hash=sha256:00\n";
    program.write("app/requirements.txt", locked);
    program.edit("app/shtetl.toml", "debian:trixie", "host");
    insta::assert_snapshot!(error_of(&program.run("build app")), @"
    error: a build is needed, but the base host provides no build environment
    what to do: choose a Debian base, or empty, in [base] from; or build before, include the result with [source] include, and set run = false under [build]
    more: shtetl explain base-no-build-root
    ");
}

#[test]
fn a_folder_of_the_source_is_built_again_when_a_file_of_it_changes() {
    let program = python_app("fog-2.0-py3-none-any.whl");
    program.write("app/requirements.txt", "-e ./libs/fog[loud]\n");
    let project = "[build-system]\nrequires = [\"moulds\"]\nbuild-backend = \"moulds\"\n\
        [project]\nname = \"fog\"\nversion = \"2.0\"\n[project.optional-dependencies]\nloud = [\"horn\"]\n";
    program.write("app/libs/fog/pyproject.toml", project);
    program.write("app/libs/fog/fog.py", "");
    let _ = program.succeed("build app");
    let packages = program.json("show app")["record"]["packages"].to_string();
    assert!(packages.contains("pkg:pypi/fog@2.0") && packages.contains("pkg:pypi/horn@1.5"), "{packages}");
    program.write("app/libs/fog/fog.py", "LOUD = True\n");
    let said = program.succeed("build app --offline").stdout;
    let line = said.lines().find(|line| line.contains("compile fog")).unwrap();
    assert!(line.ends_with("package: fog.py changed"), "{said}");
}

#[test]
fn modules_are_compiled_to_bytecode_where_that_is_chosen() {
    let program = python_app("app/.venv/lib/python3.13/site-packages/horn.cpython-313.pyc");
    program.write("app/requirements.txt", "horn\n");
    program.edit("app/shtetl.toml", "[addresses]", "[buildpacks.python]\nbytecode = true\n[addresses]");
    let first = program.json("build app --layout image");
    let steps = first["steps"].as_array().unwrap();
    let at = steps.iter().position(|step| step["step"] == "python bytecode").unwrap();
    insta::assert_snapshot!(layer(&program.path("image"), at).0, @"
    0755 0:0 app/
    0755 0:0 app/.venv/
    0755 0:0 app/.venv/lib/
    0755 0:0 app/.venv/lib/python3.13/
    0755 0:0 app/.venv/lib/python3.13/site-packages/
    0755 0:0 app/.venv/lib/python3.13/site-packages/__pycache__/
    0755 0:0 app/.venv/lib/python3.13/site-packages/__pycache__/horn.cpython-313.pyc
    ");
    assert_eq!(program.json("build app --locked --store other")["digest"], first["digest"]);
    program.edit("app/shtetl.toml", "bytecode = true", "bytecode = false");
    let plain = program.json("build app");
    assert!(!plain["steps"].to_string().contains("python bytecode"), "{plain}");
}

#[test]
fn a_lockfile_cannot_lead_out_of_a_repository_or_of_the_source() {
    let program = python_app("fog-2.0-py3-none-any.whl");
    let commit = "0123456789012345678901234567890123456789";
    for (source, told) in [
        (
            format!("git = \"file:///nowhere#{commit}\", subdirectory = \"../../etc\""),
            "is outside the repository",
        ),
        ("git = \"file:///nowhere#../../escaped\"".to_owned(), "../../escaped"),
        ("directory = \"../../etc\"".to_owned(), "is outside the source"),
    ] {
        let lock = format!(
            "version = 1\n[[package]]\nname = \"app\"\nsource = {{ virtual = \".\" }}\ndependencies = [{{ name = \"fog\" }}]\n\
            [[package]]\nname = \"fog\"\nversion = \"2.0\"\nsource = {{ {source} }}\n"
        );
        program.write("app/uv.lock", lock);
        let said = program.run("build app");
        assert!(said.code != 0 && said.stderr.contains(told), "{source}: {said}");
    }
}

/// An app that needs `bell`, whose install script writes; `files` are in its archive, too.
fn node_app(files: Files, config: &str) -> Program {
    let shell = program_that_writes("/app/node_modules/bell/out/bell.node", "rung");
    let program = with_archive(&Signer::new(), &packages(Vec::new(), shell), "");
    let manifest =
        text("package.json", r#"{"name":"bell","version":"1.0.0","scripts":{"install":"make bell"}}"#);
    let bell = npm_tarball(&[vec![manifest, text("out/readme", "")], files].concat());
    let builder = npm_tarball(&vec![text("package.json", r#"{"name":"node-gyp","bin":"gyp.js"}"#)]);
    program.write("npm/bell/-/bell-1.0.0.tgz", &bell);
    program.write("npm/node-gyp/-/node-gyp-9.0.0.tgz", &builder);
    let offered =
        format!(r#"{{"versions":{{"9.0.0":{{"dist":{{"integrity":"{}"}}}}}}}}"#, sha512_integrity(&builder));
    program.write("npm/node-gyp/index.json", offered);
    // The suite's own version, whatever the date is.
    let manifest =
        r#"{"scripts":{"start":"node server.js"},"engines":{"node":"20"},"dependencies":{"bell":"1"}}"#;
    program.write("app/package.json", manifest);
    program.write(
        "app/package-lock.json",
        format!(
            r#"{{"lockfileVersion":3,"packages":{{"":{{"dependencies":{{"bell":"1"}}}},
        "node_modules/bell":{{"version":"1.0.0","integrity":"{}","hasInstallScript":true}}}}}}"#,
            sha512_integrity(&bell)
        ),
    );
    program.edit("app/shtetl.toml", "[addresses]", &format!("{config}[addresses]\nnpm = \"../npm\""));
    program
}

#[test]
fn a_wanted_install_script_makes_a_layer() {
    let program = node_app(Vec::new(), "[buildpacks.node]\nrun-scripts-of = [\"bell\"]\n");
    let first = program.json("build app --layout image");
    let steps: Vec<&str> =
        first["steps"].as_array().unwrap().iter().map(|s| s["step"].as_str().unwrap()).collect();
    let at = steps.iter().position(|step| *step == "compile bell").unwrap();
    insta::assert_snapshot!(layer(&program.path("image"), at).0, @"
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/bell/
    0755 0:0 app/node_modules/bell/out/
    0755 0:0 app/node_modules/bell/out/bell.node
    ");
    assert_eq!(program.json("build app --locked --store other")["digest"], first["digest"]);
}

#[test]
fn a_package_from_a_commit_is_made_by_its_own_script_unless_that_is_not_wanted() {
    let program = node_app(Vec::new(), "").with("PATH", "/usr/local/bin:/usr/bin:/bin");
    let manifest = r#"{"name":"bell","version":"1.0.0","files":["out"],"scripts":{"prepare":"make bell"},
        "devDependencies":{"node-gyp":"*"}}"#;
    let commit = crate::resolving::repository(
        &program,
        &[("package.json", manifest), ("out/readme", ""), ("src/bell.c", "")],
    );
    let url = format!("git+file://{}#{commit}", program.path("code").display());
    let lock = format!(
        r#"{{"lockfileVersion":3,"packages":{{"":{{"dependencies":{{"bell":"1"}}}},
        "node_modules/bell":{{"version":"1.0.0","resolved":"{url}"}}}}}}"#
    );
    program.write("app/package-lock.json", lock);
    let chosen = |key: &str| format!("[buildpacks.node]\n{key}-scripts-of = [\"bell\"]\n[addresses]");
    program.edit("app/shtetl.toml", "[addresses]", &chosen("skip"));
    let skipped = program.succeed("build app");
    assert!(skipped.stderr.contains("install scripts that are not run: bell 1.0.0"), "{skipped}");
    program.edit("app/shtetl.toml", &chosen("skip"), "[addresses]");
    let made = program.json("build app --layout image");
    let steps: Vec<&str> =
        made["steps"].as_array().unwrap().iter().map(|s| s["step"].as_str().unwrap()).collect();
    let at = |name: &str| steps.iter().position(|step| *step == name).unwrap();
    let listing = [
        layer(&program.path("image"), at("node packages")).0,
        layer(&program.path("image"), at("compile bell")).0,
    ];
    insta::assert_snapshot!(listing.join("--- made\n"), @"
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/bell/
    0755 0:0 app/node_modules/bell/out/
    0644 0:0 app/node_modules/bell/out/readme
    0644 0:0 app/node_modules/bell/package.json
    --- made
    0755 0:0 app/
    0755 0:0 app/node_modules/
    0755 0:0 app/node_modules/bell/
    0755 0:0 app/node_modules/bell/out/
    0755 0:0 app/node_modules/bell/out/bell.node
    ");
    assert_eq!(program.json("build app --locked --store other")["digest"], made["digest"]);
}

#[test]
fn a_package_that_brings_its_native_part_needs_no_script() {
    let of = |system: &str| vec![text(&format!("prebuilds/{system}/bell.node"), "brought")];
    let said = node_app(of("linux-x64"), "").succeed("build app");
    assert!(!said.to_string().contains("script"), "{said}");
    // Whatever it brings for others, its script makes it for the image.
    let program = node_app(of("win32-x64"), "");
    let said = program.succeed("build app").stdout;
    assert!(said.lines().any(|line| line.contains("compile bell")), "{said}");
    // Where nothing can be built, all packages that want to be are named at once.
    program.edit("app/shtetl.toml", "debian:trixie", "host");
    program.edit("app/shtetl.toml", "\nkeyring = \"../keys.gpg\"", "");
    insta::assert_snapshot!(error_of(&program.run("build app")), @r#"
    error: package-lock.json line 2: these packages need to run a script when they are installed
      bell 1.0.0
    what to do: in shtetl.toml, under [buildpacks.node]: run-scripts-of = ["bell"] runs them in isolation, skip-scripts-of = ["bell"] skips them
    more: shtetl explain package-install-scripts
    "#);
}
