//! Apps of Ruby: gems from a stand-in registry, locked and resolved, plain and compiled.

use crate::debian::{error_of, layer, with_archive, workshop_packages};
use crate::lying_registry::{Comes, Error, Right, assert_none, wrong};
use crate::resolving::repository;
use std::fs;
use testkit::archives::{gem, gem_of_entries, sha256_hex};
use testkit::debian::{Item, Package, Signer};
use testkit::host::program_that_writes;
use testkit::program::Program;
use testkit::registry::{Registry, Reply};

const RUBY: &str = "3.3.9";

/// A registry with `horn`, which needs `mist`, and `fog`, which has a part in C.
fn registry() -> Registry {
    let registry = Registry::start();
    let mist =
        gem("mist", "2.1", "licenses:\n- MIT\n", &[("lib/mist.rb", "MIST = 1"), ("README.md", "for people")]);
    let need = "dependencies:\n- !ruby/object:Gem::Dependency\n  name: mist\n  requirement: !ruby/object:Gem::Requirement\n    \
        requirements:\n    - - \"~>\"\n      - !ruby/object:Gem::Version\n        version: '2.0'\n  type: :runtime\n";
    let horn = gem(
        "horn",
        "1.0",
        &format!("executables:\n- horn\n{need}"),
        &[("lib/horn.rb", ""), ("bin/horn", "puts 1")],
    );
    let fog = gem(
        "fog",
        "0.3",
        "extensions:\n- ext/fog/extconf.rb\n",
        &[("lib/fog.rb", ""), ("ext/fog/extconf.rb", "")],
    );
    for (name, number, needs, bytes) in
        [("mist", "2.1", "", mist), ("horn", "1.0", "mist:~> 2.0", horn), ("fog", "0.3", "", fog)]
    {
        offer(&registry, name, &[(number, needs, &bytes)]);
    }
    registry
}

/// Puts versions of a gem into a registry: the number, what it needs, its file.
fn offer(registry: &Registry, name: &str, versions: &[(&str, &str, &[u8])]) {
    let mut info = String::from("---\n");
    for (number, needs, bytes) in versions {
        info.push_str(&format!("{number} {needs}|checksum:{}\n", sha256_hex(bytes)));
        registry.answer(&format!("/gems/{name}-{number}.gem"), vec![Reply::of(bytes.to_vec())]);
    }
    registry.answer(&format!("/info/{name}"), vec![Reply::of(info)]);
}

/// An app in `boats` whose Gemfile has these lines, on the invented archive with a Ruby that compiles by writing.
fn app(registry: &Registry, gemfile: &str) -> Program {
    let mut packages = workshop_packages();
    let ruby = program_that_writes("/result/fog/fog.so", "compiled");
    packages.push(Package::new("ruby3.3", RUBY, "", &[]).with("./usr/bin/ruby", Item::Program(ruby)));
    for name in ["ruby", "ruby3.3-dev", "gcc-14", "build-essential", "pkgconf"] {
        packages.push(Package::new(name, RUBY, "Depends: ruby3.3", &[]));
    }
    let program = with_archive(&Signer::new(), &packages, "");
    let config = fs::read_to_string(program.path("app/shtetl.toml")).unwrap();
    program.write("boats/shtetl.toml", format!("{config}[process.web]\nrun = \"ruby boats.rb\"\n"));
    program.write("boats/boats.rb", "");
    program.write("boats/Gemfile", format!("source \"{}\"\n{gemfile}", registry.url()));
    program
}

fn lock(program: &Program, registry: &Registry, specs: &str, asked: &str) {
    let url = registry.url();
    let text =
        format!("GEM\n  remote: {url}/\n  specs:\n{specs}\nPLATFORMS\n  ruby\n\nDEPENDENCIES\n{asked}");
    program.write("boats/Gemfile.lock", text);
}

const HORN: &str = "    horn (1.0)\n      mist (~> 2.0)\n    mist (2.1)\n";

/// A document of the layout in `image`.
fn document(program: &Program, digest: &str) -> serde_json::Value {
    let bytes = fs::read(program.path("image/blobs/sha256").join(&digest[7..])).unwrap();
    serde_json::from_slice(&bytes).unwrap()
}

fn manifest(program: &Program) -> serde_json::Value {
    let index: serde_json::Value =
        serde_json::from_slice(&fs::read(program.path("image/index.json")).unwrap()).unwrap();
    document(program, index["manifests"][0]["digest"].as_str().unwrap())
}

/// The layers of the image that have gems, top ones last.
fn gem_layers(program: &Program) -> Vec<String> {
    let count = manifest(program)["layers"].as_array().unwrap().len();
    (0..count)
        .map(|number| layer(&program.path("image"), number).0)
        .filter(|all| all.contains(" gems/ruby/"))
        .collect()
}

#[test]
fn locked_gems_lie_where_bundler_looks_for_them() {
    let registry = registry();
    let program = app(&registry, "gem 'horn'\ngroup(:test) { }\ngroup :test do\n  gem 'fog'\nend\n");
    lock(&program, &registry, &format!("    fog (0.3)\n{HORN}"), "  fog\n  horn\n");
    let _ = program.succeed("build boats --layout image");
    insta::assert_snapshot!(gem_layers(&program).concat(), @"
    0755 0:0 gems/
    0755 0:0 gems/bin/
    0755 0:0 gems/ruby/
    0755 0:0 gems/ruby/3.3.0/
    0755 0:0 gems/ruby/3.3.0/bin/
    0755 0:0 gems/ruby/3.3.0/gems/
    0755 0:0 gems/ruby/3.3.0/specifications/
    0755 0:0 gems/bin/bundle
    0755 0:0 gems/ruby/3.3.0/gems/horn-1.0/
    0755 0:0 gems/ruby/3.3.0/gems/horn-1.0/lib/
    0644 0:0 gems/ruby/3.3.0/gems/horn-1.0/lib/horn.rb
    0755 0:0 gems/ruby/3.3.0/gems/horn-1.0/bin/
    0755 0:0 gems/ruby/3.3.0/gems/horn-1.0/bin/horn
    0644 0:0 gems/ruby/3.3.0/specifications/horn-1.0.gemspec
    0755 0:0 gems/ruby/3.3.0/bin/horn
    0755 0:0 gems/ruby/3.3.0/gems/mist-2.1/
    0755 0:0 gems/ruby/3.3.0/gems/mist-2.1/lib/
    0644 0:0 gems/ruby/3.3.0/gems/mist-2.1/lib/mist.rb
    0644 0:0 gems/ruby/3.3.0/gems/mist-2.1/README.md
    0644 0:0 gems/ruby/3.3.0/specifications/mist-2.1.gemspec
    ");
    let record = program.succeed("show boats --packages").stdout;
    assert!(record.contains("mist") && record.contains("MIT") && !record.contains("fog"), "{record}");
    let config = manifest(&program)["config"]["digest"].as_str().unwrap().to_owned();
    let env = document(&program, &config)["config"]["Env"].to_string();
    for line in
        ["BUNDLE_DEPLOYMENT=1", "BUNDLE_PATH=/gems", "BUNDLE_WITHOUT=development:test", "PATH=/gems/bin:"]
    {
        assert!(env.contains(line), "{line}: {env}");
    }
    // Nobody is asked a second time, and from an empty store the same comes out with what is pinned.
    let first = program.json("build boats")["digest"].clone();
    assert_eq!(program.json("build boats --offline")["digest"], first);
    assert_eq!(program.json("build boats --locked --store other")["digest"], first);
    assert_eq!(registry.count("/gems/fog-0.3.gem"), 0);
}

#[test]
fn a_part_in_c_is_compiled_once_for_all_apps_that_have_it() {
    let registry = registry();
    let program = app(&registry, "gem 'fog'\n");
    lock(&program, &registry, "    fog (0.3)\n", "  fog\n");
    let said = program.succeed("build boats --layout image").stdout;
    assert!(said.contains("compile fog"), "{said}");
    let layers = gem_layers(&program).concat();
    assert!(layers.contains("gems/ruby/3.3.0/gems/fog-0.3/lib/fog/fog.so"), "{layers}");
    assert!(!layers.contains("extensions/"), "{layers}");
    program.write("boats/boats.rb", "# changed");
    let again = program.json("build boats");
    let ran = |step: &serde_json::Value| !step["because"].is_null() && step["step"] == "compile fog";
    assert!(!again["steps"].as_array().unwrap().iter().any(ran), "{again}");
    // What its own program is told is part of it.
    program.edit(
        "boats/shtetl.toml",
        "[process.web]",
        "[buildpacks.ruby]\ncompile-flags = [\"fog --thick\"]\n[process.web]",
    );
    let told = program.json("build boats");
    assert!(told["steps"].as_array().unwrap().iter().any(ran), "{told}");
}

#[test]
fn without_a_lockfile_gems_are_resolved_and_pinned_and_the_image_has_one() {
    let registry = registry();
    let program = app(&registry, "gem 'horn', '~> 1.0'\n");
    let said = program.succeed("build boats --layout image").stderr;
    assert!(said.contains("Gemfile does not lock versions"), "{said}");
    let pins = fs::read_to_string(program.path("boats/shtetl.lock")).unwrap();
    assert!(pins.contains("name = \"mist\", version = \"2.1\""), "{pins}");
    // A newer version does not matter until it is asked for.
    let newer = gem("mist", "2.2", "", &[("lib/mist.rb", "MIST = 2")]);
    let old =
        gem("mist", "2.1", "licenses:\n- MIT\n", &[("lib/mist.rb", "MIST = 1"), ("README.md", "for people")]);
    offer(&registry, "mist", &[("2.1", "", &old), ("2.2", "", &newer), ("3.0", "", &newer)]);
    let first = program.json("build boats --locked")["digest"].clone();
    let said = program.succeed("build boats --update").stderr;
    assert!(said.contains("mist 2.1 to 2.2"), "{said}");
    assert_ne!(program.json("build boats")["digest"], first);

    program
        .write("boats/Gemfile", format!("source \"{}\"\ngem 'horn'\ngem 'mist', '~> 3.0'\n", registry.url()));
    let error = error_of(&program.run("build boats"));
    for line in ["the app requires mist", "horn 1.0 requires mist"] {
        assert!(error.contains(line), "{line}: {error}");
    }
    program.write("boats/Gemfile", "gem 'horn' if ENV['FOG']\nload 'more'\n");
    let error = error_of(&program.run("build boats"));
    assert!(error.contains("Gemfile line 1") && error.contains("run `bundle lock`"), "{error}");
}

#[test]
fn what_is_not_as_it_was_locked_is_refused() {
    let registry = registry();
    let program = app(&registry, "gem 'horn', '~> 2'\n");
    lock(&program, &registry, HORN, "  horn (~> 1)\n");
    let error = error_of(&program.run("build boats"));
    assert!(error.contains("Gemfile:2 asks for ~> 2 of horn, and it was made for ~> 1"), "{error}");

    program.write("boats/Gemfile", "gem 'horn', '~> 1'\n");
    let checksums = format!("  horn (~> 1)\n\nCHECKSUMS\n  horn (1.0) sha256={}\n", "0".repeat(64));
    lock(&program, &registry, HORN, &checksums);
    let error = error_of(&program.run("build boats"));
    assert!(error.contains("horn 1.0") && error.contains("does not have the expected hash"), "{error}");

    lock(&program, &registry, "    horn (1.0-java)\n", "  horn (~> 1)\n");
    let error = error_of(&program.run("build boats"));
    assert!(error.contains("horn is locked only for java") && error.contains("--add-platform"), "{error}");
}

#[test]
fn a_gem_that_the_source_carries_needs_no_registry() {
    let registry = registry();
    let program = app(&registry, "gem 'mist'\n");
    lock(&program, &registry, "    mist (2.1)\n", "  mist\n");
    program.write("boats/vendor/cache/mist-2.1.gem", gem("mist", "2.1", "", &[("lib/mist.rb", "carried")]));
    registry.answer("/info/mist", vec![Reply::status(404)]);
    let _ = program.succeed("build boats");
    assert_eq!(registry.count("/gems/mist-2.1.gem"), 0);
}

#[test]
fn gems_of_a_repository_lie_in_the_folder_that_bundler_names_by_the_commit() {
    let registry = registry();
    let program = app(&registry, "gem 'tide', git: 'code'\n");
    let program = program.with("PATH", "/ferry/bin:/usr/local/bin:/usr/bin:/bin");
    let commit =
        repository(&program, &[("tide.gemspec", "Gem::Specification.new"), ("lib/tide.rb", "TIDE = 1")]);
    let from = |revision: &str| {
        let url = format!("file://{}", program.path("code").display());
        let specs = "  specs:\n    tide (1.0)\n      mist (~> 2.0)\n";
        let registry = format!("GEM\n  remote: {}/\n  specs:\n    mist (2.1)\n", registry.url());
        let text = format!(
            "GIT\n  remote: {url}\n  revision: {revision}\n{specs}\n{registry}\nDEPENDENCIES\n  tide!\n"
        );
        program.write("boats/Gemfile.lock", text);
    };
    from(&commit);
    let _ = program.succeed("build boats --layout image");
    let layers = gem_layers(&program).concat();
    let folder = format!("gems/ruby/3.3.0/bundler/gems/code-{}", &commit[..12]);
    for file in ["tide.gemspec", "lib/tide.rb"] {
        assert!(layers.contains(&format!("{folder}/{file}")), "{layers}");
    }
    assert!(layers.contains("gems/mist-2.1/lib/mist.rb"), "{layers}");
    for revision in ["main", "../../out", ""] {
        from(revision);
        let error = error_of(&program.run("build boats"));
        assert!(error.contains("is not a commit of"), "{revision:?}: {error}");
    }
}

/// Changes what a registry says of `horn`, and its file.
type GemLie = fn(&mut String, &mut Vec<u8>);

const LIES: [(&str, Comes, GemLie); 18] = [
    ("the truth", Right, |_, _| {}),
    ("another file than it says", Error, |_, file| {
        *file = gem("horn", "1.0", "", &[("lib/horn.rb", "other")])
    }),
    ("the file of another gem", Error, |info, file| {
        *file = gem("buoy", "1.0", "", &[]);
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("the file of another version", Error, |info, file| {
        *file = gem("horn", "6.6", "", &[]);
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("a file that is no archive", Error, |info, file| {
        *file = b"ferry".repeat(300);
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("an empty file", Error, |info, file| {
        file.clear();
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("files that lead up", Error, |info, file| {
        *file = gem_of_entries("horn", "1.0", &[("../../../out".to_owned(), None)]);
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("a link that leads up", Error, |info, file| {
        *file = gem_of_entries("horn", "1.0", &[("lib/a".to_owned(), Some("../../../out".to_owned()))]);
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("a name that hides a layer below", Error, |info, file| {
        *file = gem_of_entries("horn", "1.0", &[("lib/.wh.horn.rb".to_owned(), None)]);
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("a command that leads up", Error, |info, file| {
        *file = gem("horn", "1.0", "executables:\n- ../../../out\n", &[]);
        *info = format!("---\n1.0 |checksum:{}\n", sha256_hex(file));
    }),
    ("no list", Error, |info, _| info.clear()),
    ("a page", Error, |info, _| *info = "<html><body>sign in</body></html>".to_owned()),
    ("no versions", Error, |info, _| *info = "---\n".to_owned()),
    ("a version that leads up", Error, |info, _| *info = "---\n../../out |checksum:00\n".to_owned()),
    // It is as if there were none: the first bytes that come are pinned.
    ("a checksum that is none", Right, |info, _| *info = "---\n1.0 |checksum:none\n".to_owned()),
    ("a need that leads up", Error, |info, _| *info = info.replace(" |", " ../../out:>= 0|")),
    ("a need that is none", Error, |info, _| *info = info.replace(" |", " mist:ferry|")),
    ("a circle with itself", Right, |info, _| *info = info.replace(" |", " horn:>= 0|")),
];

#[test]
fn registries_of_gems_that_lie_do_no_harm() {
    let mut problems = Vec::new();
    for (what, comes, lie) in LIES {
        let registry = registry();
        let mut file = gem("horn", "1.0", "", &[("lib/horn.rb", "")]);
        let mut info = format!("---\n1.0 |checksum:{}\n", sha256_hex(&file));
        lie(&mut info, &mut file);
        registry.answer("/info/horn", vec![Reply::of(info)]);
        registry.answer("/gems/horn-1.0.gem", vec![Reply::of(file)]);
        let program = app(&registry, "gem 'horn'\n");
        problems.extend(wrong(what, comes, &program, "build boats"));
    }
    assert_none(&problems);
}
