//! What `check` says of runtimes and of what lies under an app.

use crate::debian::with_archive;
use crate::program;
use testkit::debian::{Signer, harbour_packages};
use testkit::program::Program;

/// The problems that `check` finds, by code.
fn problems(program: &Program) -> Vec<(String, String, String)> {
    let said = program.run("check app --format json").stdout;
    let found: serde_json::Value = serde_json::from_str(&said).unwrap();
    let all = found["problems"].as_array().cloned().unwrap_or_default();
    let text = |problem: &serde_json::Value, key: &str| problem[key].as_str().unwrap_or_default().to_owned();
    all.iter().map(|p| (text(p, "code"), text(p, "what"), text(p, "advice"))).collect()
}

fn node_app(engines: &str) -> Program {
    let program = with_archive(&Signer::new(), &harbour_packages(), "");
    let manifest = format!(r#"{{"engines":{{"node":"{engines}"}},"scripts":{{"start":"node server.js"}}}}"#);
    program.write("app/package.json", manifest);
    program
}

#[test]
fn a_version_that_cannot_exist_breaks_before_anything_is_asked() {
    for engines in ["99", ">=99 <100", "^99.1.0"] {
        let found = problems(&node_app(engines));
        let (code, what, _) = &found[0];
        assert_eq!(code, "runtime-unmet", "{engines}: {found:?}");
        assert!(what.contains("but does not exist"), "{what}");
    }
    for engines in [">=18", "20", "^20.19.0 || >=24", ">=18 <99"] {
        let found = problems(&node_app(engines));
        assert!(found.iter().all(|(code, ..)| code != "runtime-unmet"), "{engines}: {found:?}");
    }
}

#[test]
fn bases_that_have_a_fitting_runtime_are_named() {
    let program = program();
    program.write("app/wsgi.py", "def application(environ, start): pass\n");
    // Where nothing says a base, it is one of those.
    let manifest = "[project]\nname = \"fares\"\nversion = \"1\"\nrequires-python = \"==3.11.*\"\n";
    program.write("app/pyproject.toml", manifest);
    assert_eq!(program.json("survey app")["survey"]["base"][0], "debian:bookworm");
    program.write("app/shtetl.toml", "[base]\nfrom = \"debian:trixie\"\n");
    let wants = |range: &str| {
        let text = format!("[project]\nname = \"fares\"\nversion = \"1\"\nrequires-python = \"{range}\"\n");
        program.write("app/pyproject.toml", text);
        let found = problems(&program);
        let unmet = found.into_iter().find(|(code, ..)| code == "runtime-unmet");
        unmet.map(|(_, _, advice)| advice).unwrap_or_default()
    };
    insta::assert_snapshot!(wants("==3.11.*"), @r#"in shtetl.toml, under [base]: from = "debian:bookworm" (python 3.11.2)"#);
    insta::assert_snapshot!(wants("<3.10"), @r#"in shtetl.toml, under [base]: from = "oci:REFERENCE" of an image that has such a python, or change the constraint"#);
    assert_eq!(wants(">=3.11"), "");
}

/// An app with a lockfile whose only package wants `engine`.
fn with_locked_engine(engine: &str) -> Program {
    let program = node_app(">=18");
    let manifest = r#"{"scripts":{"start":"node server.js"},"dependencies":{"kelp":"^1"}}"#;
    program.write("app/package.json", manifest);
    program.write(
        "app/package-lock.json",
        format!(
            r#"{{"lockfileVersion":3,"packages":{{"":{{"dependencies":{{"kelp":"^1"}}}},
            "node_modules/kelp":{{"version":"1.4.0","integrity":"sha512-AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA==","engines":{{"node":"{engine}"}}}}}}}}"#
        ),
    );
    program
}

#[test]
fn versions_that_locked_packages_want_are_followed_or_told() {
    // Free to choose, the series is taken that meets the package.
    let old = with_locked_engine("^22.12.0").json("survey app")["provisions"].clone();
    assert!(old.to_string().contains("npm registry"), "{old}");
    assert!(problems(&with_locked_engine("^22.12.0")).iter().all(|(code, ..)| code != "runtime-older"));
    // What the app says is stronger.
    let program = with_locked_engine("^22.12.0");
    program.edit("app/package.json", r#"{"scripts""#, r#"{"engines":{"node":"20"},"scripts""#);
    let found = problems(&program);
    let older = found.iter().find(|(code, ..)| code == "runtime-older");
    let older = older.unwrap_or_else(|| panic!("{found:?}"));
    insta::assert_snapshot!(format!("{}\n{}", older.1, older.2), @r#"
    the image gets node 20, but kelp 1.4.0 requires ^22.12.0
    in shtetl.toml, under [buildpacks.node]: version = "^22.12.0"
    "#);
    // Nobody looked again at a package that wants only what is gone.
    assert!(problems(&with_locked_engine("0.10 || 0.12")).iter().all(|(code, ..)| code != "runtime-older"));
}

#[test]
fn libraries_that_an_image_lacks_are_named_by_its_build_and_by_the_next_check() {
    let program = node_app(">=18");
    // A real program of this machine, as an add-on, that needs a library of another name.
    let mut addon = std::fs::read("/bin/true").unwrap();
    let at = addon.windows(10).position(|ten| ten == b"libc.so.6\0").unwrap();
    addon[at..at + 9].copy_from_slice(b"libq.so.6");
    program.write("app/native.node", addon);
    let built = program.succeed("build app --anyway");
    let note = built.stderr.lines().find(|line| line.contains("native.node")).unwrap_or_default().to_owned();
    assert!(
        note.starts_with("note: app/native.node needs libq.so.6, which the image does not have"),
        "{built}"
    );
    let found = problems(&program);
    assert!(
        found.iter().any(|(code, what, _)| code == "library-missing" && what.contains("libq.so.6")),
        "{found:?}"
    );
    // An image that has it lacks nothing.
    program.write("app/lib/libq.so.6", "the library");
    let built = program.succeed("build app --anyway");
    assert!(!built.stderr.contains("needs libq.so.6"), "{built}");
    assert!(problems(&program).iter().all(|(code, ..)| code != "library-missing"));
}
